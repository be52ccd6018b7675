package exchange

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/progress"
)

// memory is a store in memory.
type memory map[digest.Digest][]byte

func (m memory) WriteTo(_ context.Context, w io.Writer, d digest.Digest) error {
	b, ok := m[d]
	if !ok {
		return errors.New("missing")
	}
	_, err := w.Write(b)
	return err
}

func (m memory) put(_ context.Context, r io.Reader, _ func(int)) (digest.Digest, int64, error) {
	b, err := io.ReadAll(r)
	if err != nil {
		return digest.Digest{}, 0, err
	}
	d := digest.Of(b)
	m[d] = b
	return d, int64(len(b)), nil
}

func now() time.Time { return time.Date(2031, 8, 5, 9, 0, 0, 0, time.UTC) }

// umlaut is a file name beyond ASCII, if this system can hold one.
func umlaut() string {
	dir, err := os.MkdirTemp("", "umlaut-")
	if err != nil {
		return "o.txt"
	}
	defer os.RemoveAll(dir)
	if os.WriteFile(filepath.Join(dir, "ö.txt"), nil, 0o644) != nil {
		return "o.txt"
	}
	return "ö.txt"
}

func build(m memory) *Export {
	e := &Export{Label: "1.1.1", Manifest: &manifest.Manifest{EmptyDirs: []string{"logs"}}, Attributes: manifest.NewAttributes(), Content: m, Meter: progress.None{}, Now: now}
	for p, content := range map[string]string{"bin/quay": "program", "data/100% tide.txt": "high", "empty": "", "data/" + umlaut(): "umlaut"} {
		d := digest.Of([]byte(content))
		m[d] = []byte(content)
		e.Manifest.Files = append(e.Manifest.Files, manifest.File{Path: p, Size: int64(len(content)), Digest: d})
		e.Attributes.Files[p] = manifest.Attribute{Mode: 0o644, MTime: now()}
	}
	e.Attributes.Files["bin/quay"] = manifest.Attribute{Mode: 0o755, MTime: now()}
	e.Manifest.Sort()
	return e
}

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	for _, format := range []string{Zip, TarZstd, BagIt} {
		t.Run(format, func(t *testing.T) {
			e := build(memory{})
			dest := filepath.Join(t.TempDir(), "out."+format)
			if format != BagIt {
				e.Manifest.Links = []manifest.Link{{Path: "bin/link", Target: "quay"}}
			}
			require.NoError(t, e.Write(t.Context(), format, dest))
			in := memory{}
			got, err := (&Import{Sink: in.put, Meter: progress.None{}}).Read(t.Context(), dest)
			require.NoError(t, err)
			want := *e.Manifest
			if format == BagIt {
				want.EmptyDirs = nil // a bag holds files only
			}
			require.Equal(t, string(want.Encode()), string(got.Manifest.Encode()))
			for _, f := range want.Files {
				require.Contains(t, in, f.Digest)
				require.True(t, got.Attributes.Files[f.Path].MTime.Equal(now()), f.Path)
			}
			if os.PathSeparator == '/' || format != BagIt {
				require.NotZero(t, got.Attributes.Files["bin/quay"].Mode&0o100, format)
			}
			inside, err := (&Import{Inside: "data", Sink: in.put, Meter: progress.None{}}).Read(t.Context(), dest)
			require.NoError(t, err)
			require.Equal(t, "100% tide.txt", inside.Manifest.Files[0].Path)
			if format != BagIt {
				require.ErrorIs(t, e.Write(t.Context(), format, dest), fs.ErrExist)
			}
		})
	}
	require.ErrorIs(t, build(memory{}).Write(t.Context(), "rar", filepath.Join(t.TempDir(), "x")), ErrFormat)
}

func TestABagGoesOnWhereItWasCutOff(t *testing.T) {
	m := memory{}
	e := build(m)
	dest := filepath.Join(t.TempDir(), "bag")
	last := e.Manifest.Files[len(e.Manifest.Files)-1].Digest
	content := m[last]
	delete(m, last)
	require.Error(t, e.Write(t.Context(), BagIt, dest))
	_, err := (&Import{Sink: memory{}.put, Meter: progress.None{}}).Read(t.Context(), dest)
	require.Error(t, err, "it is no bag yet")
	for _, f := range e.Manifest.Files {
		if f.Digest != last {
			delete(m, f.Digest) // it must not be asked for again
		}
	}
	m[last] = content
	require.NoError(t, e.Write(t.Context(), BagIt, dest))
	_, err = (&Import{Sink: memory{}.put, Meter: progress.None{}}).Read(t.Context(), dest)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dest, "data", "empty"), []byte("no more"), 0o644))
	_, err = (&Import{Sink: memory{}.put, Meter: progress.None{}}).Read(t.Context(), dest)
	require.ErrorIs(t, err, ErrCut)
	require.NoError(t, e.Write(t.Context(), BagIt, dest))
	require.NoError(t, os.WriteFile(filepath.Join(dest, "data", "more"), nil, 0o644))
	_, err = (&Import{Sink: memory{}.put, Meter: progress.None{}}).Read(t.Context(), dest)
	require.ErrorContains(t, err, "data/more is not in the bag's list")
}

func TestListsOfChecksums(t *testing.T) {
	dir := t.TempDir()
	e := build(memory{})
	for format, sum := range map[string]func([]byte) []byte{
		B3Sums:     func(b []byte) []byte { d := digest.Of(b); return d[:] },
		SHA256Sums: func(b []byte) []byte { d := sha256.Sum256(b); return d[:] },
	} {
		dest := filepath.Join(dir, format)
		require.NoError(t, e.Write(t.Context(), format, dest))
		b, err := os.ReadFile(dest)
		require.NoError(t, err)
		list, err := ParseSums(b)
		require.NoError(t, err)
		require.Len(t, list, 4)
		require.Equal(t, Sum{sum([]byte("program")), "bin/quay"}, list[0])
	}
	for _, bad := range []string{"", "hello", "12  x", "zz" + string(bytes.Repeat([]byte("0"), 62)) + "  x", string(bytes.Repeat([]byte("0"), 64)) + "  a\n" + string(bytes.Repeat([]byte("0"), 128)) + "  b\n"} {
		_, err := ParseSums([]byte(bad))
		require.ErrorIs(t, err, ErrFormat, bad)
	}
}

// entry is one of a hostile archive.
type entry struct {
	name, content string
	link          bool
	kind          byte // of a tar entry
}

func zipOf(t testing.TB, list ...entry) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, e := range list {
		h := &zip.FileHeader{Name: e.name, Method: zip.Deflate}
		h.SetMode(0o644)
		if e.link {
			h.SetMode(fs.ModeSymlink | 0o777)
		}
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		_, err = w.Write([]byte(e.content))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func tarOf(t testing.TB, list ...entry) []byte {
	var b bytes.Buffer
	z, err := zstd.NewWriter(&b)
	require.NoError(t, err)
	w := tar.NewWriter(z)
	for _, e := range list {
		h := &tar.Header{Typeflag: tar.TypeReg, Name: e.name, Size: int64(len(e.content)), Mode: 0o644}
		switch {
		case e.kind != 0:
			h.Typeflag, h.Size, h.Linkname = e.kind, 0, e.content
		case e.link:
			h.Typeflag, h.Size, h.Linkname = tar.TypeSymlink, 0, e.content
		}
		require.NoError(t, w.WriteHeader(h))
		if h.Typeflag == tar.TypeReg {
			_, err := w.Write([]byte(e.content))
			require.NoError(t, err)
		}
	}
	require.NoError(t, errors.Join(w.Close(), z.Close()))
	return b.Bytes()
}

func TestHostileArchives(t *testing.T) {
	good := entry{name: "good.txt", content: "good"}
	for name, list := range map[string][]entry{
		"climbs out":          {good, {name: "../../etc/x"}},
		"absolute":            {good, {name: "/etc/x"}},
		"a drive":             {good, {name: "C:/x"}},
		"a device":            {good, {name: "data/NUL"}},
		"twice":               {good, good},
		"file and folder":     {good, {name: "good.txt/inner"}},
		"by letter case only": {good, {name: "Good.txt"}},
		"a link out":          {good, {name: "out", content: "../../etc", link: true}},
		"through a link":      {{name: "data", content: "bin", link: true}, {name: "data/x", content: "x"}},
		"a trailing dot":      {good, {name: "data./x"}},
		"a control character": {good, {name: "data\x01"}},
		"nothing":             nil,
	} {
		for format, b := range map[string][]byte{"zip": zipOf(t, list...), "tar.zst": tarOf(t, list...)} {
			err := read(t, b)
			require.Error(t, err, "%s %s", name, format)
			require.True(t, errors.Is(err, ErrHostile) || errors.Is(err, ErrFormat), "%s %s: %v", name, format, err)
		}
	}
	require.ErrorIs(t, read(t, tarOf(t, entry{name: "dev", kind: tar.TypeChar})), ErrHostile)
	require.ErrorIs(t, read(t, tarOf(t, good, entry{name: "hard", kind: tar.TypeLink, content: "good.txt"})), ErrHostile)
	require.ErrorIs(t, read(t, []byte("hello")), ErrFormat)

	for format, b := range map[string][]byte{"zip": zipOf(t, good, entry{name: "b", content: "more of it"}), "tar.zst": tarOf(t, good, entry{name: "b", content: "more of it"})} {
		for n := 5; n < len(b); n += 7 {
			require.Error(t, read(t, b[:n]), "%s cut at %d", format, n)
		}
	}
	locked := zipOf(t, good)
	for _, sign := range []string{"PK\x03\x04", "PK\x01\x02"} { // the flag stands in both headers
		at := bytes.Index(locked, []byte(sign)) + map[string]int{"PK\x03\x04": 6, "PK\x01\x02": 8}[sign]
		locked[at] |= 1
	}
	require.ErrorIs(t, read(t, locked), ErrPassword)
}

// TestABombIsRefused unpacks zeros that came out of next to nothing.
func TestABombIsRefused(t *testing.T) {
	name := filepath.Join(t.TempDir(), "bomb.tar.zst")
	f, err := os.Create(name)
	require.NoError(t, err)
	z, err := zstd.NewWriter(f)
	require.NoError(t, err)
	w := tar.NewWriter(z)
	const size = ratioFrom / 2 // each of them could be honest
	block := make([]byte, 1<<20)
	for i := range 6 {
		require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: fmt.Sprint("zeros-", i), Size: size, Mode: 0o644}))
		for range size / len(block) {
			_, err := w.Write(block)
			require.NoError(t, err)
		}
	}
	require.NoError(t, errors.Join(w.Close(), z.Close(), f.Close()))
	var taken int64
	_, err = (&Import{Sink: stubborn(&taken), Meter: progress.None{}}).Read(t.Context(), name)
	require.ErrorIs(t, err, ErrHostile)
	require.ErrorContains(t, err, fmt.Sprint(maxRatio))
	require.LessOrEqual(t, taken, int64(ratioFrom)+4<<20)
}

// TestTimesThatNoDiskCanHoldAreNotTaken: a file of the year 200,000, or of none.
func TestTimesThatNoDiskCanHoldAreNotTaken(t *testing.T) {
	var plain bytes.Buffer
	w := tar.NewWriter(&plain)
	for i, when := range []time.Time{time.Unix(6e12, 0), time.Unix(-5e9, 0), {}, now()} {
		require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: fmt.Sprint(i), Mode: 0o644, ModTime: when, Format: tar.FormatPAX}))
	}
	require.NoError(t, w.Close())
	z, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	name := filepath.Join(t.TempDir(), "archive")
	require.NoError(t, os.WriteFile(name, z.EncodeAll(plain.Bytes(), nil), 0o644))
	got, err := (&Import{Sink: memory{}.put, Meter: progress.None{}}).Read(t.Context(), name)
	require.NoError(t, err)
	for _, p := range []string{"0", "1", "2"} {
		require.True(t, got.Attributes.Files[p].MTime.IsZero(), p)
	}
	require.True(t, now().Equal(got.Attributes.Files["3"].MTime))
}

// stubborn is a sink that reads on in spite of errors, and counts what it gets.
func stubborn(taken *int64) Sink {
	return func(_ context.Context, r io.Reader, _ func(int)) (digest.Digest, int64, error) {
		buf := make([]byte, 1<<20)
		var failed error
		for errs := 0; errs < 100; {
			n, err := io.ReadFull(r, buf)
			*taken += int64(n)
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return digest.Digest{}, 0, failed
			}
			if err != nil {
				failed = err
				errs++
			}
		}
		return digest.Digest{}, 0, failed
	}
}

// TestABombIsRefusedBeforeItIsUnpacked: what an archive says of itself is enough to refuse it,
// and a sink that reads on in spite of an error gets nothing more.
func TestABombIsRefusedBeforeItIsUnpacked(t *testing.T) {
	var taken int64
	refused := func(b []byte) {
		t.Helper()
		taken = 0
		name := filepath.Join(t.TempDir(), "bomb")
		require.NoError(t, os.WriteFile(name, b, 0o644))
		_, err := (&Import{Sink: stubborn(&taken), Meter: progress.None{}}).Read(t.Context(), name)
		require.ErrorIs(t, err, ErrHostile)
		require.Zero(t, taken)
	}

	// A sparse file of 1 TiB that holds nothing (GNU tar, old format: no map in the head but
	// its length).
	var plain bytes.Buffer
	head := make([]byte, 512)
	put := func(at int, s string) { copy(head[at:], s) }
	put(0, "holes")
	put(100, "0000644\x00")
	put(108, "0000000\x00")
	put(116, "0000000\x00")
	put(124, "00000000000\x00")
	put(136, "00000000000\x00")
	put(156, "S")
	put(257, "ustar  \x00")
	put(386, "20000000000\x00")
	put(398, "00000000000\x00")
	put(483, "\x80\x00\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00") // 1 TiB, as a number of 11 bytes
	sum := 8 * int(' ')
	for i, b := range head {
		if i < 148 || i >= 156 {
			sum += int(b)
		}
	}
	put(148, fmt.Sprintf("%06o\x00 ", sum))
	plain.Write(head)
	plain.Write(make([]byte, 1024))
	h, err := tar.NewReader(bytes.NewReader(plain.Bytes())).Next()
	require.NoError(t, err)
	require.EqualValues(t, 1<<40, h.Size)
	z, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	refused(z.EncodeAll(plain.Bytes(), nil))

	// Entries of a zip that are one stretch of the archive under many names.
	one := zipOf(t, entry{name: "a", content: strings.Repeat("tide ", 10_000)}, entry{name: "b", content: strings.Repeat("tide ", 10_000)})
	at := bytes.LastIndex(one, []byte("PK\x01\x02")) // of b in the list
	require.Positive(t, at)
	copy(one[at+42:], []byte{0, 0, 0, 0}) // it begins where a does
	refused(one)
}

func read(t testing.TB, b []byte) error {
	name := filepath.Join(t.TempDir(), "archive")
	require.NoError(t, os.WriteFile(name, b, 0o644))
	_, err := (&Import{Sink: memory{}.put, Meter: progress.None{}}).Read(t.Context(), name)
	return err
}

func FuzzArchive(f *testing.F) {
	f.Add(zipOf(f, entry{name: "a/b", content: "x"}, entry{name: "l", content: "a", link: true}))
	f.Add(tarOf(f, entry{name: "a/b", content: "x"}, entry{name: "l", content: "a", link: true}))
	f.Fuzz(func(t *testing.T, b []byte) {
		name := filepath.Join(t.TempDir(), "archive")
		require.NoError(t, os.WriteFile(name, b, 0o644))
		in := memory{}
		got, err := (&Import{Sink: in.put, Meter: progress.None{}}).Read(t.Context(), name)
		if err != nil {
			return
		}
		require.NoError(t, got.Manifest.Validate())
		for _, file := range got.Manifest.Files {
			require.Contains(t, in, file.Digest)
		}
	})
}

// FuzzEntries packs files under whatever names into both kinds of archives: what comes out is
// a build that can be applied, or nothing.
func FuzzEntries(f *testing.F) {
	f.Add("a/b\nl@a\nd/\n")
	f.Add("../x\n/abs\nC:\\x\nsaves/.morvant/change/done\n")
	f.Add("a\na\nA\na/b\nCON\n")
	f.Fuzz(func(t *testing.T, text string) {
		var list []entry
		for line := range strings.Lines(text) {
			if len(list) == 50 {
				break
			}
			name, target, link := strings.Cut(strings.TrimSuffix(line, "\n"), "@")
			if name == "" || strings.ContainsRune(line, 0) || len(line) > 60_000 {
				return // cannot be written in an archive
			}
			e := entry{name: name, content: "x" + target, link: link}
			if strings.HasSuffix(name, "/") {
				e = entry{name: name}
			}
			list = append(list, e)
		}
		for i, pack := range []func(testing.TB, ...entry) []byte{zipOf, tarOf} {
			if i == 1 && slices.ContainsFunc(list, func(e entry) bool { return strings.HasSuffix(e.name, "/") }) {
				continue // zip alone tells a folder by its name
			}
			name := filepath.Join(t.TempDir(), "archive")
			require.NoError(t, os.WriteFile(name, pack(t, list...), 0o644))
			got, err := (&Import{Sink: memory{}.put, Meter: progress.None{}}).Read(t.Context(), name)
			if err != nil {
				continue
			}
			require.NoError(t, got.Manifest.Validate())
			_, _, clash := got.Manifest.CaseConflict()
			require.False(t, clash)
			for _, file := range got.Manifest.Files {
				require.False(t, manifest.IsPrivate(file.Path))
			}
		}
	})
}

// TestALinkOutOfThePartThatIsTakenIsLeftOut, and one within it leads where it did.
func TestALinkOutOfThePartThatIsTakenIsLeftOut(t *testing.T) {
	i := newImported()
	i.Manifest.Files = []manifest.File{{Path: "game/bin/a", Size: 1, Digest: digest.Of([]byte("a"))}, {Path: "gamer/b", Size: 1, Digest: digest.Of([]byte("b"))}}
	i.Manifest.Links = []manifest.Link{
		{Path: "game/bin/out", Target: "../../docs/x"},
		{Path: "game/bin/up", Target: "../bin/a"},
		{Path: "game/top", Target: "../gamer/b"},
		{Path: "gamer/l", Target: "b"},
	}
	i.Manifest.EmptyDirs = []string{"game/logs", "gamer/logs"}
	got := i.In("game")
	require.Equal(t, []manifest.File{{Path: "bin/a", Size: 1, Digest: digest.Of([]byte("a"))}}, got.Manifest.Files)
	require.Equal(t, []manifest.Link{{Path: "bin/up", Target: "../bin/a"}}, got.Manifest.Links)
	require.Equal(t, []manifest.Link{{Path: "game/bin/out", Target: "../../docs/x"}, {Path: "game/top", Target: "../gamer/b"}}, got.Lost)
	require.Equal(t, []string{"logs"}, got.Manifest.EmptyDirs)
}
