package manifest

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/gowebpki/jcs"
	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/problem"
)

func d(s string) digest.Digest { return digest.Of([]byte(s)) }

func sample() *Manifest {
	m := &Manifest{
		Files: []File{
			{"bin/quay.exe", 1843200, d("program")}, {"data/ünï \"quoted\".txt", 3, d("x")}, {"a-b", 0, d("")}, {"a/b", 1 << 40, d("big")},
		},
		Links:     []Link{{"lib/libtide.so", "libtide.so.2"}, {"deep/er/up", "../../a/b"}},
		EmptyDirs: []string{"logs", "a/empty"},
	}
	m.Sort()
	return m
}

func TestEncodingIsCanonicalJSONAndComesBack(t *testing.T) {
	m := sample()
	b := m.Encode()
	canonical, err := jcs.Transform(b)
	require.NoError(t, err)
	require.Equal(t, string(canonical), string(b))
	back, err := Decode(b)
	require.NoError(t, err)
	require.Equal(t, m, back)
	empty, err := Decode((&Manifest{}).Encode())
	require.NoError(t, err)
	require.Equal(t, &Manifest{}, empty)
	f, ok := m.File("a/b")
	require.True(t, ok)
	require.Equal(t, int64(1<<40), f.Size)
	require.Equal(t, int64(1843200+3+1<<40), m.Bytes())
}

func TestOnlyTheCanonicalBytesAreAccepted(t *testing.T) {
	good := string(sample().Encode())
	for name, bad := range map[string]string{
		"empty":            "",
		"white space":      strings.Replace(good, ":[", ": [", 1),
		"another order":    `{"files":[],"empty_dirs":[],"format":"morvant-manifest/1","links":[]}`,
		"unknown key":      `{"empty_dirs":[],"files":[],"format":"morvant-manifest/1","links":[],"more":1}`,
		"behind the end":   good + " ",
		"escaped slash":    strings.Replace(good, "a/b", `a\/b`, 1),
		"leading zero":     strings.Replace(good, `"size":3`, `"size":03`, 1),
		"negative size":    strings.Replace(good, `"size":3`, `"size":-3`, 1),
		"fraction":         strings.Replace(good, `"size":3`, `"size":3.0`, 1),
		"huge size":        strings.Replace(good, `"size":3`, `"size":99999999999999999999`, 1),
		"capital digest":   strings.Replace(good, d("x").String(), strings.ToUpper(d("x").String()), 1),
		"nested arrays":    strings.Repeat("[", 10_000),
		"trailing comma":   `{"empty_dirs":["a",],"files":[],"format":"morvant-manifest/1","links":[]}`,
		"duplicate path":   `{"empty_dirs":["a","a"],"files":[],"format":"morvant-manifest/1","links":[]}`,
		"not in order":     `{"empty_dirs":["b","a"],"files":[],"format":"morvant-manifest/1","links":[]}`,
		"file and folder":  `{"empty_dirs":["a","a/b"],"files":[],"format":"morvant-manifest/1","links":[]}`,
		"link and folder":  `{"empty_dirs":["a/b"],"files":[],"format":"morvant-manifest/1","links":[{"path":"a","target":"c"}]}`,
		"between the two":  `{"empty_dirs":["a","a-b","a/b"],"files":[],"format":"morvant-manifest/1","links":[]}`,
		"link to the root": `{"empty_dirs":[],"files":[],"format":"morvant-manifest/1","links":[{"path":"a","target":"/"}]}`,
	} {
		_, err := Decode([]byte(bad))
		require.Error(t, err, name)
	}
	_, err := Decode([]byte(strings.Replace(good, "manifest/1", "manifest/2", 1)))
	require.ErrorIs(t, err, problem.ErrNewer)
}

func TestPathsThatLeaveTheFolderOrSomeSystemAreRefused(t *testing.T) {
	for _, p := range []string{
		"", "/", "/a", "a/", "a//b", ".", "..", "a/..", "a/../b", "./a", "../a", `a\b`, "a\x00b", "a\nb", "a\x7fb", "a\u0085b", "c:", "c:/x", "a:b",
		"a.", "a /b", "CON", "con.txt", "a/NUL", "aux.tar.gz", "COM1", "lpt9.x", "com¹", "CONIN$", "nul .txt", ".morvant", ".Morvant/x",
		"x/.morvant", "saves/.MORVANT/change/done", ".mor\u200bvant/x", "\u2060.morvant", "x/.morvant\ufe0f", "MORVAN~1", "a/morvan~12/b", "MO3F2A~1/x",
		strings.Repeat("x", 256), strings.Repeat("x/", 2048) + "x", "bad\xff",
	} {
		require.ErrorIs(t, CheckPath(p), ErrPath, "%q", p)
	}
	for _, p := range []string{
		"a", "a b/c", ".hidden", "a..b", "...x", "con2", "console", "COM", "com10", "aux-a", ".morvant2", "morvant", "x/MORVAN~", "MORVANT~1", "Mods~1", ".m", "ünï/çødé", "a'b\"c", strings.Repeat("x", 255), "~", "$HOME", "%TEMP%",
	} {
		require.NoError(t, CheckPath(p), "%q", p)
	}
}

// TestWhatEarlierVersionsRecordedIsReadWithoutFoldersOfMorvant: they refused the name at
// the top only.
func TestWhatEarlierVersionsRecordedIsReadWithoutFoldersOfMorvant(t *testing.T) {
	const file = `{"digest":"2cf24dba5fb0a30e26e83b2ac5b9e29e1b161e5c1fa7425e73043362938b9824","path":"%s","size":5}`
	old := []byte(`{"empty_dirs":["z/.morvant"],"files":[` + fmt.Sprintf(file, "a") + "," + fmt.Sprintf(file, "saves/.morvant/change/done") +
		`],"format":"morvant-manifest/1","links":[{"path":"l","target":"saves/.morvant"}]}`)
	_, err := Decode(old)
	require.ErrorIs(t, err, ErrPath)
	m, err := DecodeRecorded(old)
	require.NoError(t, err)
	require.Len(t, m.Files, 1)
	require.Equal(t, "a", m.Files[0].Path)
	require.Empty(t, m.EmptyDirs)
	require.Empty(t, m.Links)
}

func TestLinksThatLeadOutAreRefused(t *testing.T) {
	for _, c := range [][2]string{
		{"a", "/etc"}, {"a", ".."}, {"a", "../b"}, {"d/a", "../.."}, {"d/a", "b/../../x"}, {"a", "b/.."}, {"a", ""}, {"a", "b\\c"}, {"a", "c:x"},
		{"a", ".morvant/lane.toml"}, {"d/a", "../.morvant"}, {"a", "saves/.Morvant"}, {"d/a", "l/MORVAN~1/x"}, {"a", "x\x00y"}, {"a", "b//c"},
	} {
		require.ErrorIs(t, CheckTarget(c[0], c[1]), ErrPath, "%v", c)
	}
	for _, c := range [][2]string{{"a", "b"}, {"d/a", "../b"}, {"d/e/a", "../../b/c"}, {"a", "./b"}, {"d/a", ".."}} {
		require.NoError(t, CheckTarget(c[0], c[1]), "%v", c)
	}
}

func TestNamesThatDifferByCaseOnlyAreFound(t *testing.T) {
	m := &Manifest{Files: []File{{Path: "Data/a"}, {Path: "data/b"}}}
	a, b, found := m.CaseConflict()
	require.True(t, found)
	require.Equal(t, [2]string{"Data", "data"}, [2]string{a, b})
	_, _, found = sample().CaseConflict()
	require.False(t, found)
}

func TestCompareGroupsWhatDiffers(t *testing.T) {
	file := func(p, content string) File { return File{p, int64(len(content)), d(content)} }
	a := &Manifest{
		Files:     []File{file("changed", "1"), file("empty-gone", ""), file("gone", "gone"), file("moved", "moving"), file("same", "same")},
		Links:     []Link{{"l1", "x"}, {"l2", "y"}},
		EmptyDirs: []string{"e1"},
	}
	b := &Manifest{
		Files:     []File{file("bigger", strings.Repeat("n", 9)), file("changed", "22"), file("empty-new", ""), file("new", "n"), file("other/moved", "moving"), file("same", "same")},
		Links:     []Link{{"l2", "z"}, {"l3", "w"}},
		EmptyDirs: []string{"e2"},
	}
	c := Compare(a, b)
	require.Equal(t, []Changed{{"changed", a.Files[0], b.Files[1]}}, c.Changed)
	require.Equal(t, []Moved{{a.Files[3], b.Files[4]}}, c.Moved)
	require.Equal(t, []string{"bigger", "new", "empty-new"}, paths(c.Added))
	require.Equal(t, []string{"gone", "empty-gone"}, paths(c.Removed))
	require.Equal(t, []LinkChange{{"l1", "x", ""}, {"l2", "y", "z"}, {"l3", "", "w"}}, c.Links)
	require.Equal(t, []string{"e2"}, c.DirsAdded)
	require.Equal(t, []string{"e1"}, c.DirsGone)
	require.Equal(t, 1, c.Same)
	require.Equal(t, int64(12), c.BytesIn())
	require.True(t, Compare(a, a).Empty())
	require.False(t, c.Empty())
}

func paths(list []File) (out []string) {
	for _, f := range list {
		out = append(out, f.Path)
	}
	return out
}

func TestAttributesComeBackToTheNanosecond(t *testing.T) {
	a := NewAttributes()
	a.Files["bin/quay \"x\""] = Attribute{0o755, time.Unix(1_943_000_000, 123_456_789)}
	a.Files["old"] = Attribute{0o600, time.Unix(-5, 999_999_999)}
	a.Dirs["bin"] = Attribute{0o700, time.Unix(0, 0)}
	canonical, err := jcs.Transform(a.Encode())
	require.NoError(t, err)
	require.Equal(t, string(canonical), string(a.Encode()))
	back, err := DecodeAttributes(a.Encode())
	require.NoError(t, err)
	for p, want := range a.Files {
		require.True(t, want.Equal(back.Files[p]), p)
	}
	require.True(t, a.Dirs["bin"].Equal(back.Dirs["bin"]))
	for _, bad := range []string{
		"", "{}", `{"format":"morvant-attributes/2"}`, `{"format":"other"}`,
		`{"format":"morvant-attributes/1","files":[{"mode":"644","mtime":"1.000000000","path":"../x"}]}`,
		`{"format":"morvant-attributes/1","files":[{"mode":"7777","mtime":"1.000000000","path":"x"}]}`,
		`{"format":"morvant-attributes/1","files":[{"mode":"644","mtime":"1.5","path":"x"}]}`,
		`{"format":"morvant-attributes/1","files":[{"mode":"644","mtime":"1.000000000","path":"x"},{"mode":"644","mtime":"1.000000000","path":"x"}]}`,
	} {
		_, err := DecodeAttributes([]byte(bad))
		require.Error(t, err, bad)
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(sample().Encode())
	f.Add((&Manifest{}).Encode())
	f.Add([]byte(`{"empty_dirs":["a","a/b"],"files":[],"format":"morvant-manifest/1","links":[]}`))
	f.Add([]byte(`{"empty_dirs":[],"files":[],"format":"morvant-manifest/1","links":[{"path":"a","target":"../b"}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := Decode(b)
		if err != nil {
			return
		}
		if string(m.Encode()) != string(b) {
			t.Fatalf("accepted what is not canonical: %q", b)
		}
		if err := m.Validate(); err != nil {
			t.Fatalf("accepted what is not valid: %v", err)
		}
	})
}

func FuzzDecodeAttributes(f *testing.F) {
	a := NewAttributes()
	a.Files["a"] = Attribute{0o644, time.Unix(1, 2)}
	f.Add(a.Encode())
	f.Add([]byte(strings.Repeat("[", 1000)))
	f.Fuzz(func(t *testing.T, b []byte) {
		a, err := DecodeAttributes(b)
		if err != nil {
			return
		}
		again, err := DecodeAttributes(a.Encode())
		if err != nil || fmt.Sprint(len(again.Files), len(again.Dirs)) != fmt.Sprint(len(a.Files), len(a.Dirs)) {
			t.Fatalf("does not come back: %v", err)
		}
	})
}

// FuzzLinkSet makes the links of a set that is allowed, and follows each: none leads out.
func FuzzLinkSet(f *testing.F) {
	if runtime.GOOS == "windows" {
		f.Skip("symbolic links take rights here that players do not have")
	}
	f.Add("a>b\nd/c>../a\nd/e/f>../..\n")
	f.Add("a>.\nb>a/a/a\nc>./d\nd>c\n")
	f.Add("x/y>..\nz>x/y/..\n")
	f.Fuzz(func(t *testing.T, text string) {
		m := &Manifest{}
		for line := range strings.Lines(text) {
			p, target, ok := strings.Cut(strings.TrimSuffix(line, "\n"), ">")
			if ok && len(m.Links) < 20 {
				m.Links = append(m.Links, Link{Path: p, Target: target})
			}
		}
		m.Sort()
		if m.Validate() != nil {
			return
		}
		top, err := filepath.EvalSymlinks(t.TempDir())
		require.NoError(t, err)
		dir := filepath.Join(top, "in")
		for _, l := range m.Links {
			at := filepath.Join(dir, l.Path)
			if os.MkdirAll(filepath.Dir(at), 0o755) != nil || os.Symlink(l.Target, at) != nil {
				return // longer than this disk allows
			}
		}
		for _, l := range m.Links {
			real, err := filepath.EvalSymlinks(filepath.Join(dir, l.Path))
			if err != nil {
				continue // it leads nowhere, or round and round
			}
			require.True(t, real == dir || strings.HasPrefix(real, dir+"/"), "%s > %s leads to %s", l.Path, l.Target, real)
		}
	})
}
