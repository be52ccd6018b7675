package manifest

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/problem"
)

// TestACutManifestIsRefusedWhereverItIsCut: also in the middle of a digest, of a text and
// of a number, where less is there than is read at once.
func TestACutManifestIsRefusedWhereverItIsCut(t *testing.T) {
	good := sample().Encode()
	for n := range good {
		_, err := Decode(good[:n:n]) // nothing behind it can be read
		require.Error(t, err, "%s", good[:n])
	}
	for n := range good {
		p := parser{in: good[:n:n]}
		_, ok := p.manifest()
		require.False(t, ok)
	}
}

func TestSizesHaveALimit(t *testing.T) {
	m := &Manifest{Files: []File{{Path: "a", Size: MaxSize, Digest: d("a")}, {Path: "b", Size: 0, Digest: d("b")}}}
	back, err := Decode(m.Encode())
	require.NoError(t, err)
	require.Equal(t, m, back)
	for _, size := range []int64{-1, MaxSize + 1} {
		m.Files[0].Size = size
		require.ErrorIs(t, m.Validate(), ErrFormat, "%d", size)
	}
}

func TestEntriesAreInOrderAndOnce(t *testing.T) {
	require.ErrorIs(t, (&Manifest{EmptyDirs: []string{"a", "a"}}).Validate(), ErrFormat)
	require.ErrorIs(t, (&Manifest{EmptyDirs: []string{"b", "a"}}).Validate(), ErrFormat)
	require.NoError(t, (&Manifest{EmptyDirs: []string{"a", "b"}}).Validate())
	// A folder comes before what it holds in any order of bytes.
	require.ErrorContains(t, (&Manifest{EmptyDirs: []string{"a", "a-", "a/b"}}).Validate(), "both a file and a folder")
	require.NoError(t, (&Manifest{EmptyDirs: []string{"a-", "a/b", "a0"}}).Validate())
}

func TestWhatNewerVersionsWroteIsTold(t *testing.T) {
	for text, newer := range map[string]bool{
		`"format":"morvant-manifest/2"`:                                       true,
		`{"x":1,"format":"morvant-manifest/` + strings.Repeat("9", 20) + `"}`: true,
		`"format":"morvant-manifest/`:                                         false, // cut
		`"format":"morvant-manifest/1"`:                                       false,
		`"format":"other/2"`:                                                  false,
	} {
		_, err := Decode([]byte(text))
		if newer {
			require.ErrorIs(t, err, problem.ErrNewer, text)
			require.ErrorContains(t, err, "morvant-manifest/")
		} else {
			require.ErrorIs(t, err, ErrFormat, text)
		}
	}
}

func TestLimitsOfNames(t *testing.T) {
	long := strings.Repeat("a", maxElement)
	require.NoError(t, CheckPath(long))
	require.Error(t, CheckPath(long+"a"))
	most := strings.TrimSuffix(strings.Repeat(long+"/", 16), "/") // 4095 bytes
	require.NoError(t, CheckPath(most))
	require.Error(t, CheckPath(most+"/a"), "4097 bytes")
	require.NoError(t, CheckTarget("l", most))
	require.Error(t, CheckTarget("l", most+"/a"))
	for _, name := range []string{"CON", "con.txt", "COM1", "lpt9.x", "CONIN$", "conout$", "COM¹", "aux ", "NUL .txt"} {
		require.Error(t, CheckPath("d/"+name), name)
	}
	for _, name := range []string{"CO", "COM", "COM10", "CONX", "LPTX", "CONOUT$X", "NULL"} {
		require.NoError(t, CheckPath("d/"+name), name)
	}
	short, clipped := clipPath(strings.Repeat("x", 200)), clipPath(strings.Repeat("x", 201))
	require.Equal(t, strings.Repeat("x", 200), short)
	require.Equal(t, strings.Repeat("x", 197)+"...", clipped)
}

func TestNamesOfMorvantsOwnFolder(t *testing.T) {
	for _, name := range []string{".morvant", ".MORVANT/x", "a/.Morvant", "MORVAN~1", "mo1F2e~3", ".mor\u200bvant", "\u200b.morvant"} {
		require.True(t, IsPrivate(name), "%q", name)
	}
	for _, name := range []string{"", "morvant", ".morvant2", "Nmorvant", "MORVAN~", "MORVAN~100", "é.morvant"} {
		require.False(t, IsPrivate(name), "%q", name)
	}
}

func TestAComparisonIsEmptyIfNothingDiffers(t *testing.T) {
	a := &Manifest{Files: []File{{Path: "a", Size: 1, Digest: d("1")}}, EmptyDirs: []string{"e"}, Links: []Link{{Path: "l", Target: "a"}}}
	require.True(t, Compare(a, a).Empty())
	for name, b := range map[string]*Manifest{
		"changed":    {Files: []File{{Path: "a", Size: 1, Digest: d("2")}}, EmptyDirs: a.EmptyDirs, Links: a.Links},
		"removed":    {EmptyDirs: a.EmptyDirs, Links: a.Links},
		"added":      {Files: []File{a.Files[0], {Path: "b", Size: 2, Digest: d("22")}}, EmptyDirs: a.EmptyDirs, Links: a.Links},
		"moved":      {Files: []File{{Path: "z", Size: 1, Digest: d("1")}}, EmptyDirs: a.EmptyDirs, Links: a.Links},
		"link":       {Files: a.Files, EmptyDirs: a.EmptyDirs, Links: []Link{{Path: "l", Target: "b"}}},
		"dir gone":   {Files: a.Files, Links: a.Links},
		"another":    {Files: a.Files, EmptyDirs: []string{"e", "f"}, Links: a.Links},
		"two of two": {Files: []File{{Path: "b", Size: 2, Digest: d("22")}}, EmptyDirs: []string{"f"}},
	} {
		require.False(t, Compare(a, b).Empty(), name)
		require.False(t, Compare(b, a).Empty(), name)
	}
}

func TestModesAreThoseOfFiles(t *testing.T) {
	a := NewAttributes()
	a.Files["a"] = Attribute{Mode: 0o777, MTime: time.Unix(1, 0).UTC()}
	b := a.Encode()
	back, err := DecodeAttributes(b)
	require.NoError(t, err)
	require.Equal(t, a.Files["a"].Mode, back.Files["a"].Mode)
	for _, mode := range []string{"1000", "778", "-1", ""} {
		_, err := DecodeAttributes([]byte(strings.Replace(string(b), "777", mode, 1)))
		require.ErrorIs(t, err, ErrFormat, mode)
	}
}

func lower(t *testing.T, limit *int, to int) {
	t.Helper()
	was := *limit
	*limit = to
	t.Cleanup(func() { *limit = was })
}

func TestNoMoreEntriesThanTheLimit(t *testing.T) {
	m := &Manifest{
		Files:     []File{{Path: "a", Digest: d("a")}, {Path: "b", Digest: d("b")}, {Path: "c", Digest: d("c")}},
		Links:     []Link{{Path: "l", Target: "a"}, {Path: "m", Target: "a"}},
		EmptyDirs: []string{"x"},
	}
	a := NewAttributes()
	a.Files["a"], a.Files["b"], a.Dirs["x"] = Attribute{Mode: 0o644}, Attribute{Mode: 0o644}, Attribute{Mode: 0o755}
	encoded, attributes := m.Encode(), a.Encode()
	lower(t, &maxEntries, 6)
	_, err := Decode(encoded)
	require.NoError(t, err)
	lower(t, &maxEntries, 5)
	require.ErrorContains(t, m.Validate(), "6 entries, at most 5 are allowed")
	lower(t, &maxEntries, 3)
	_, err = DecodeAttributes(attributes)
	require.NoError(t, err)
	p := parser{in: encoded}
	_, ok := p.manifest()
	require.True(t, ok, "each list is as long as may be")
	lower(t, &maxEntries, 2)
	_, err = DecodeAttributes(attributes)
	require.ErrorIs(t, err, ErrFormat)
	p = parser{in: encoded}
	_, ok = p.manifest()
	require.False(t, ok)
}

func TestNoMoreBytesThanTheLimit(t *testing.T) {
	m := &Manifest{EmptyDirs: []string{"x"}}
	a := NewAttributes()
	a.Files["a"] = Attribute{Mode: 0o644}
	encoded, attributes := m.Encode(), a.Encode()
	lower(t, &maxEncoded, len(encoded))
	_, err := Decode(encoded)
	require.NoError(t, err)
	lower(t, &maxEncoded, len(encoded)-1)
	_, err = Decode(encoded)
	require.ErrorContains(t, err, "are allowed")
	lower(t, &maxEncoded, len(attributes))
	_, err = DecodeAttributes(attributes)
	require.NoError(t, err)
	lower(t, &maxEncoded, len(attributes)-1)
	_, err = DecodeAttributes(attributes)
	require.ErrorContains(t, err, "bytes of attributes")
}

// TestAnyTwoDifferencesAreDifferences: one kind does not make up for another.
func TestAnyTwoDifferencesAreDifferences(t *testing.T) {
	kinds := []func(*Changes){
		func(c *Changes) { c.Changed = make([]Changed, 1) }, func(c *Changes) { c.Added = make([]File, 1) },
		func(c *Changes) { c.Removed = make([]File, 1) }, func(c *Changes) { c.Moved = make([]Moved, 1) },
		func(c *Changes) { c.Links = make([]LinkChange, 1) }, func(c *Changes) { c.DirsAdded = make([]string, 1) },
		func(c *Changes) { c.DirsGone = make([]string, 1) },
	}
	for _, first := range kinds {
		for _, second := range kinds {
			var c Changes
			first(&c)
			second(&c)
			require.False(t, c.Empty())
		}
	}
}

func TestOtherNamesOfFilesAreReadBackAndChecked(t *testing.T) {
	a := NewAttributes()
	a.Others["d/a"] = Other{Name: "/mods/a \"b\"", Device: 5, File: 1 << 63}
	a.Others["b"] = Other{Device: 1, File: 2}
	a.Others["c"] = Other{Name: `C:\mods\new\under\c`}
	a.Links["l"] = `\\server\share\mods`
	back, err := DecodeAttributes(a.Encode())
	require.NoError(t, err)
	require.Equal(t, a, back)
	require.Equal(t, a, a.Clone())
	links, err := DecodeLinks(EncodeLinks(a.Links))
	require.NoError(t, err)
	require.Equal(t, a.Links, links)
	old, err := DecodeLinks([]byte(`[{"path":"l","target":"C:\new\under\mods"}]`))
	require.NoError(t, err, "as a version wrote it that escaped nothing")
	require.Equal(t, map[string]string{"l": `C:\new\under\mods`}, old)
	old, err = DecodeLinks([]byte(`[{"path":"l","target":"\\server\share"}]`))
	require.NoError(t, err)
	require.Equal(t, map[string]string{"l": `\\server\share`}, old)
	require.NotContains(t, string(NewAttributes().Encode()), "others", "what has none is written as before")
	for _, others := range []string{
		`{"device":1,"file":2,"name":"","path":"../a"}`,
		`{"device":1,"file":2,"name":"a\nb","path":"a"}`,
		`{"device":-1,"file":2,"name":"","path":"a"}`,
		`{"device":1,"file":2,"name":"","path":"a"},{"device":1,"file":2,"name":"","path":"a"}`,
	} {
		_, err := DecodeAttributes([]byte(`{"dirs":[],"files":[],"format":"` + AttributesFormat + `","others":[` + others + `]}`))
		require.Error(t, err, others)
	}
}

// TestWhatHasSomethingElseInItsPlaceYields: a file where a folder comes, a folder where a file comes, the same path; nothing else.
func TestWhatHasSomethingElseInItsPlaceYields(t *testing.T) {
	base := &Manifest{
		Files:     []File{{Path: "a"}, {Path: "a.txt"}, {Path: "b/deep/one"}, {Path: "b/two"}, {Path: "c"}},
		Links:     []Link{{Path: "d", Target: "c"}},
		EmptyDirs: []string{"e"},
	}
	left := base.Yields(&Manifest{Files: []File{{Path: "a/inside"}, {Path: "b/deep"}, {Path: "c", Size: 1}, {Path: "e/x"}}, EmptyDirs: []string{"d"}})
	require.Equal(t, &Manifest{Files: []File{{Path: "a.txt"}, {Path: "b/two"}}}, left)
}
