// Package names reads label lists: files that give labels to builds that are known by a date, a digest, an
// id of their distributor, or the manifests of their components. A community keeps such a list instead of
// a table in a guide; a player has one of their own.
//
// A list says nothing about content. It only adds names to builds that are known, and tells of those that
// are not here. Nothing here asks anybody.
package names

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"morvant/internal/catalogue"
	"morvant/internal/problem"
	"morvant/internal/state"
	"morvant/internal/strict"
	"morvant/internal/volume"
)

const (
	// Format is the version of the format.
	Format = "morvant-names/1"
	// Own is the list that the player writes by commands.
	Own = "own"
	// MaxSize bounds a list, in bytes, and maxEntries what it lists.
	MaxSize    = 4 << 20
	maxEntries = 20_000
	// minDigest is how much of a digest names a build.
	minDigest = 6
	// maxID bounds an id of a distributor.
	maxID = 200
	// day is how far a date may be from that of the build.
	day = 24 * time.Hour

	suffix = ".toml"
)

// ErrFormat is returned for a list that cannot be used.
var ErrFormat = problem.New("this list of names cannot be used", "Ask whoever keeps it for another; nothing was changed")

// Entry is a build in a list.
type Entry struct {
	Label      string            `toml:"label"`
	Note       string            `toml:"note,omitempty"`
	ID         string            `toml:"id,omitempty"`
	Date       any               `toml:"date,omitempty"` // a date, or a moment
	Digest     string            `toml:"digest,omitempty"`
	Components map[string]string `toml:"components,omitempty"` // manifest by name

	at  time.Time
	day bool // only the day is known
}

// When returns the entry's date; false: it has none.
func (e *Entry) When() (time.Time, bool) { return e.at, !e.at.IsZero() }

// Day is a date as a list has it, without a time.
func Day(t time.Time) any { return toml.LocalDate{Year: t.Year(), Month: int(t.Month()), Day: t.Day()} }

// List is a label list.
type List struct {
	Name   string  `toml:"-"` // of the file
	Format string  `toml:"format"`
	From   string  `toml:"from,omitempty"` // where it was taken from
	Builds []Entry `toml:"build"`
}

// Decode reads a list and checks all of it.
func Decode(name string, b []byte) (*List, error) {
	if len(b) > MaxSize {
		return nil, fmt.Errorf("%w: it is larger than %d MB", ErrFormat, MaxSize>>20)
	}
	var version struct {
		Format string `toml:"format"`
	}
	l := &List{Name: name}
	if err := toml.Unmarshal(strict.Text(b), &version); err == nil && version.Format != Format && strings.HasPrefix(version.Format, "morvant-names/") {
		return nil, fmt.Errorf("the list was %w: \"%s\"", problem.ErrNewer, version.Format)
	}
	if err := strict.Decode(b, l); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrFormat, err)
	}
	if l.Format != Format {
		return nil, fmt.Errorf("%w: its format is \"%s\", not %s", ErrFormat, l.Format, Format)
	}
	if len(l.Builds) > maxEntries {
		return nil, fmt.Errorf("%w: it lists %d builds", ErrFormat, len(l.Builds))
	}
	for i := range l.Builds {
		if err := l.Builds[i].check(); err != nil {
			return nil, fmt.Errorf("%w: build %d: %v", ErrFormat, i+1, err)
		}
	}
	return l, nil
}

// check checks an entry, and reads its date.
func (e *Entry) check() error {
	if err := errors.Join(catalogue.CheckLabel(e.Label), catalogue.CheckText(e.Note), catalogue.CheckText(e.ID)); err != nil {
		return err
	}
	if len(e.ID) > maxID {
		return fmt.Errorf("its id is longer than %d bytes", maxID)
	}
	e.Digest = strings.ToLower(e.Digest)
	if e.Digest != "" && (len(e.Digest) < minDigest || len(e.Digest) > 64 || strings.Trim(e.Digest, "0123456789abcdef") != "") {
		return fmt.Errorf("\"%s\" is no digest", e.Digest)
	}
	for name, m := range e.Components {
		if err := errors.Join(catalogue.CheckName(name), catalogue.CheckText(m)); err != nil {
			return err
		}
		if m == "" || len(m) > maxID {
			return fmt.Errorf("component %s has no manifest", name)
		}
	}
	switch d := e.Date.(type) {
	case nil:
	case time.Time:
		e.at = d
	case toml.LocalDate:
		e.at, e.day = d.AsTime(time.Local), true
	case toml.LocalDateTime:
		e.at = d.AsTime(time.Local)
	default:
		return fmt.Errorf("its date is written like 2031-08-05, without quotes")
	}
	if e.ID == "" && e.Digest == "" && e.at.IsZero() && len(e.Components) == 0 {
		return errors.New("it has neither id nor date nor digest nor components")
	}
	return nil
}

// fits reports whether a build can be the one that the entry means.
func (e *Entry) fits(b *state.Build) bool {
	switch {
	case b.Fragment:
		return false
	case e.Digest != "":
		return strings.HasPrefix(b.Digest().String(), e.Digest)
	case e.ID != "":
		return b.ID == e.ID
	case len(e.Components) > 0:
		for name, m := range e.Components {
			if !slices.ContainsFunc(b.Components, func(p catalogue.Part) bool {
				return p.Name == name && (p.ID == m || p.Manifest.String() == strings.ToLower(m))
			}) {
				return false
			}
		}
		return true
	case e.at.IsZero():
		return false
	case e.day:
		return b.Made.Local().Format(time.DateOnly) == e.at.Format(time.DateOnly)
	}
	return b.Made.Sub(e.at).Abs() <= day
}

// Meant is what an entry of a list leads to.
type Meant struct {
	List   string
	Entry  *Entry
	Builds []*state.Build // none: it is not here; several of different content: nobody knows which
	// Against says what in the entry does not fit the build that it leads to; empty: nothing.
	Against string
}

// against finds out what an entry says of a build beside what it is found by, and is not so.
func (e *Entry) against(b *state.Build) string {
	if e.at.IsZero() || e.ID == "" && e.Digest == "" && len(e.Components) == 0 || b.Made.Sub(e.at).Abs() <= 2*day {
		return ""
	}
	return fmt.Sprintf("the list says %s, and the build is of %s", e.at.Format(time.DateOnly), b.Made.UTC().Format(time.DateOnly))
}

// nearest leaves of the builds that a moment may mean those that are of just that moment, if there are any.
func (e *Entry) nearest(builds []*state.Build) []*state.Build {
	if e.day || e.at.IsZero() {
		return builds
	}
	var just []*state.Build
	for _, b := range builds {
		if b.Made.Sub(e.at).Abs() <= time.Minute {
			just = append(just, b)
		}
	}
	if len(just) > 0 {
		return just
	}
	return builds
}

// Clear reports whether the entry leads to one content.
func (m *Meant) Clear() bool {
	return len(m.Builds) > 0 && m.Against == "" && !slices.ContainsFunc(m.Builds, func(b *state.Build) bool { return b.Digest() != m.Builds[0].Digest() })
}

// Match finds out what the entries of lists lead to.
func Match(lists []*List, builds []*state.Build) []*Meant {
	var all []*Meant
	for _, l := range lists {
		for i := range l.Builds {
			m := &Meant{List: l.Name, Entry: &l.Builds[i]}
			for _, b := range builds {
				if m.Entry.fits(b) {
					m.Builds = append(m.Builds, b)
				}
			}
			m.Builds = m.Entry.nearest(m.Builds)
			for _, b := range m.Builds {
				m.Against = cmp.Or(m.Against, m.Entry.against(b))
			}
			all = append(all, m)
		}
	}
	return all
}

// Give adds the labels of lists to the builds that they lead to without doubt. A build without a label of its own
// takes the first, and is still found by what it was called before.
func Give(lists []*List, builds []*state.Build) {
	for _, m := range Match(lists, builds) {
		if !m.Clear() {
			continue
		}
		for _, b := range m.Builds {
			if b.Nameless() {
				b.Also = append([]string{b.Label}, b.Also...)
				b.Label = m.Entry.Label
				if b.Note == "" {
					b.Note = m.Entry.Note
				}
				continue
			}
			if b.Label != m.Entry.Label && !slices.Contains(b.Also, m.Entry.Label) {
				b.Also = append(b.Also, m.Entry.Label)
			}
		}
	}
}

// Read reads the lists in a folder, by their names. Those that cannot be read are in broken.
func Read(dir string) (lists []*List, broken map[string]error, err error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	broken = make(map[string]error)
	for _, e := range entries {
		name, ok := strings.CutSuffix(e.Name(), suffix)
		if !ok || catalogue.CheckName(name) != nil {
			continue
		}
		l, err := read(dir, name)
		if err != nil {
			broken[name] = err
			continue
		}
		lists = append(lists, l)
	}
	return lists, broken, nil
}

func read(dir, name string) (*List, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	b, err := volume.ReadIn(root, name+suffix, MaxSize)
	if err != nil {
		return nil, err
	}
	return Decode(name, b)
}

// Write puts a list into a folder, in the place of an earlier one of its name.
func Write(dir string, l *List) error {
	if err := catalogue.CheckName(l.Name); err != nil {
		return err
	}
	l.Format = Format
	b, err := toml.Marshal(l)
	if err != nil {
		return err
	}
	if _, err := Decode(l.Name, b); err != nil {
		return err
	}
	if err := volume.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	return volume.Replace(filepath.Join(dir, l.Name+suffix), b, 0o644)
}

// Set puts an entry into the player's own list, in the place of an earlier one of its label.
func Set(dir string, e Entry) error {
	if err := e.check(); err != nil {
		return fmt.Errorf("%w: %w", ErrFormat, err)
	}
	l, err := read(dir, Own)
	if errors.Is(err, fs.ErrNotExist) {
		l, err = &List{Name: Own}, nil
	}
	if err != nil {
		return err
	}
	l.Builds = append(slices.DeleteFunc(l.Builds, func(o Entry) bool { return o.Label == e.Label }), e)
	return Write(dir, l)
}

// Remove forgets a list.
func Remove(dir, name string) error {
	if err := catalogue.CheckName(name); err != nil {
		return err
	}
	err := os.Remove(filepath.Join(dir, name+suffix))
	if volume.Absent(err) {
		lists, broken, readErr := Read(dir)
		var have []string
		for _, l := range lists {
			have = append(have, l.Name)
		}
		have = append(have, slices.Sorted(maps.Keys(broken))...)
		return errors.Join(readErr, &state.UnknownError{Kind: "list of names", Name: name, Near: have})
	}
	return err
}
