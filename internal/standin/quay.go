package standin

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"morvant/internal/digest"
)

// Release is one build of Cinder Quay.
type Release struct {
	Label   string
	Channel string
	Date    time.Time
	Note    string
}

// Releases lists the builds, the oldest first.
func Releases() []Release {
	at := func(month time.Month, day, hour int) time.Time {
		return time.Date(2031, month, day, hour, 0, 0, 0, time.UTC)
	}
	return []Release{
		{"0.9.0", "preview", at(time.March, 14, 10), "first look at the harbour"},
		{"1.0.0", "public", at(time.May, 20, 9), "release"},
		{"1.1.0", "public", at(time.August, 5, 9), "tides and fog"},
		{"1.1.1", "public", at(time.August, 5, 17), "hotfix: cranes no longer drop cargo when paused"},
		{"1.2.0", "public", at(time.November, 2, 9), "Night Shift: lamps, watchmen, smugglers"},
		{"1.3.0", "public", at(time.December, 9, 9), "new cargo system; older mods do not load"},
	}
}

// Quay generates builds of Cinder Quay.
type Quay struct {
	// Bytes is about how large one build is. Small files take up to an eighth of
	// it, archives the rest.
	Bytes int64
}

// ErrRelease is returned for a label that no release has.
var ErrRelease = errors.New("the harbour game has no such build")

// Components lists the parts that a build is published in.
func Components() []string { return []string{"base", "voices-en", "voices-fr", "night-shift"} }

// Component returns the part of a build that a file belongs to.
func Component(p string) string {
	switch {
	case strings.HasPrefix(p, "voices/en/"):
		return "voices-en"
	case strings.HasPrefix(p, "voices/fr/"):
		return "voices-fr"
	case strings.HasPrefix(p, "expansion/night-shift/"):
		return "night-shift"
	}
	return "base"
}

// file is one generated file.
type file struct {
	path    string
	program bool
	write   func(w io.Writer) error
}

// Write makes dir hold the build, as an update in place would: files of another
// build that this one does not have are removed, what is not the game's stays.
func (q Quay) Write(dir, label string) error {
	i := slices.IndexFunc(Releases(), func(r Release) bool { return r.Label == label })
	if i < 0 {
		return fmt.Errorf("%s: %w", label, ErrRelease)
	}
	files := q.files(i)
	present := make(map[string]bool)
	for _, f := range files {
		present[f.path] = true
	}
	for j := range Releases() {
		for _, f := range q.files(j) {
			if !present[f.path] {
				err := os.Remove(filepath.Join(dir, filepath.FromSlash(f.path)))
				if err != nil && !errors.Is(err, os.ErrNotExist) {
					return err
				}
			}
		}
	}
	for _, f := range files {
		if err := f.put(dir, Releases()[i].Date); err != nil {
			return err
		}
	}
	return removeEmpty(dir)
}

// put writes a file unless it is there with the same content.
func (f file) put(dir string, when time.Time) error {
	name := filepath.Join(dir, filepath.FromSlash(f.path))
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	if same, err := f.sameAs(name); same || err != nil {
		return err
	}
	mode := os.FileMode(0o644)
	if f.program {
		mode = 0o755
	}
	out, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	if err := errors.Join(f.write(out), out.Close()); err != nil {
		return err
	}
	return os.Chtimes(name, when, when)
}

func (f file) sameAs(name string) (bool, error) {
	in, err := os.Open(name)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer in.Close()
	have, want := digest.NewHasher(), digest.NewHasher()
	if _, err := io.Copy(have, in); err != nil {
		return false, err
	}
	if err := f.write(want); err != nil {
		return false, err
	}
	return have.Digest() == want.Digest(), nil
}

// removeEmpty removes empty folders of the game, the deepest first.
func removeEmpty(dir string) error {
	for _, top := range []string{"data", "voices", "expansion", "bin", "lib"} {
		var dirs []string
		err := filepath.WalkDir(filepath.Join(dir, top), func(p string, d os.DirEntry, err error) error {
			if errors.Is(err, os.ErrNotExist) {
				return nil
			}
			if err == nil && d.IsDir() {
				dirs = append(dirs, p)
			}
			return err
		})
		if err != nil {
			return err
		}
		for _, d := range slices.Backward(dirs) {
			os.Remove(d) // fails for those that hold something, as it should
		}
	}
	return nil
}

// files lists what release number i holds.
func (q Quay) files(i int) []file {
	r := Releases()[i]
	var list []file
	add := func(p string, write func(io.Writer) error) { list = append(list, file{path: p, write: write}) }
	list = append(list, file{path: "bin/quay.exe", program: true, write: func(w io.Writer) error {
		return writeProgram(w, r.Label, 1+q.Bytes/64)
	}})
	add("version.txt", text("Cinder Quay "+r.Label+"\n"))
	add("readme.txt", text(readme(r)))
	q.archives(i, add)
	q.smallFiles(i, add)
	q.renamed(i, add)
	if i < 4 {
		add("data/legacy/crane-arms.dat", seeded("crane arms", 64<<10))
	}
	return list
}

// archives adds the large files. Each grows out of that of the release before.
func (q Quay) archives(i int, add func(string, func(io.Writer) error)) {
	share := func(part float64) int64 { return int64(part * float64(q.Bytes)) }
	for n, a := range []struct {
		path  string
		part  float64
		from  int // first release that has it
		keeps bool
	}{
		{"data/harbour.pak", 0.35, 0, true},
		{"data/cargo.pak", 0.20, 0, true},
		{"voices/en/speech.pak", 0.10, 1, true},
		{"voices/fr/speech.pak", 0.10, 1, true},
		{"expansion/night-shift/night.pak", 0.12, 4, true},
	} {
		if i >= a.from {
			add(a.path, func(w io.Writer) error { return newArchive(uint64(n), share(a.part), i).writeTo(w) })
		}
	}
}

// smallFiles adds many small text files, of which each release changes a few.
func (q Quay) smallFiles(i int, add func(string, func(io.Writer) error)) {
	count := int(max(24, min(20_000, q.Bytes/(256<<10))))
	for n := range count {
		changed := 0
		for r := 1; r <= i; r++ {
			if n%(17-2*r) == r {
				changed = r
			}
		}
		dir := []string{"cranes", "ships", "tides", "cargo", "crew"}[n%5]
		add(fmt.Sprintf("data/%s/%s-%04d.txt", dir, dir[:4], n), text(sheet(n, changed)))
	}
}

// renamed adds files that move between releases with the same content.
func (q Quay) renamed(i int, add func(string, func(io.Writer) error)) {
	where := "data/music"
	if i >= 4 {
		where = "data/audio/music"
	}
	for n := range 4 {
		add(path.Join(where, fmt.Sprintf("shanty-%d.ogv", n+1)), seeded(fmt.Sprintf("shanty %d", n), q.Bytes/128))
	}
}

// AddPlayerFiles puts the player's own things into dir: mods, maps and settings.
func (q Quay) AddPlayerFiles(dir string) error {
	when := time.Date(2031, time.August, 20, 21, 0, 0, 0, time.UTC)
	for _, f := range []file{
		{path: "Mods/taller-cranes/mod.txt", write: text("name = Taller Cranes\nneeds = 1.1\n")},
		{path: "Mods/taller-cranes/arms.dat", write: seeded("taller cranes", q.Bytes/256)},
		{path: "Mods/quiet-gulls/mod.txt", write: text("name = Quiet Gulls\nneeds = 1.1\n")},
		{path: "Harbours/saint-elmo.map", write: seeded("saint elmo", q.Bytes/512)},
		{path: "Harbours/night-pier.map", write: seeded("night pier", q.Bytes/512)},
		{path: "settings.ini", write: text("[display]\nwidth = 1920\nfog = high\n")},
		{path: "logs/last.txt", write: text("loaded 2 mods\n")},
	} {
		if err := f.put(dir, when); err != nil {
			return err
		}
	}
	return nil
}

// AddSaves writes what the game saves: two accounts, as they are on a day.
func (q Quay) AddSaves(dir string, day int) error {
	when := time.Date(2031, time.August, 20+day, 22, 0, 0, 0, time.UTC)
	for _, account := range []string{"1001", "1002"} {
		for slot := range day + 1 {
			f := file{path: fmt.Sprintf("%s/slot%d.sav", account, slot+1), write: seeded(fmt.Sprint("save ", account, slot, day), q.Bytes/2048)}
			if err := f.put(dir, when); err != nil {
				return err
			}
		}
	}
	return nil
}

func text(s string) func(io.Writer) error {
	return func(w io.Writer) error {
		_, err := io.WriteString(w, s)
		return err
	}
}

// seeded yields size bytes that do not compress, the same for the same name.
func seeded(name string, size int64) func(io.Writer) error {
	return func(w io.Writer) error {
		_, err := io.CopyN(w, rand.NewChaCha8(digest.Of([]byte("cinder quay: "+name))), size)
		return err
	}
}

func readme(r Release) string {
	return fmt.Sprintf("CINDER QUAY %s\n\n%s\n\nCranes, tides, cargo. Keep the harbour running.\n", r.Label, r.Note)
}

// sheet is a small data file; another revision changes two of its lines.
func sheet(n, revision int) string {
	rng := rand.New(rand.NewPCG(uint64(n), 1))
	words := []string{"berth", "tide", "winch", "ballast", "pilot", "lantern", "bollard", "draught", "cargo", "mooring"}
	var b strings.Builder
	fmt.Fprintf(&b, "# sheet %d\n", n)
	for line := range 20 + rng.IntN(60) {
		value := rng.IntN(1000)
		if revision > 0 && line%40 == revision {
			value += revision
		}
		fmt.Fprintf(&b, "%s.%s = %d\n", words[rng.IntN(len(words))], words[rng.IntN(len(words))], value)
	}
	return b.String()
}
