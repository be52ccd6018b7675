package saves

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/manifest"
	"morvant/internal/progress"
	"morvant/internal/scan"
	"morvant/internal/store"
	"morvant/internal/volume"
)

func newKeeper(t *testing.T) *Archive {
	t.Helper()
	dir := t.TempDir()
	s, err := store.Open(t.Context(), filepath.Join(dir, "store"))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	c := scan.OpenCache(filepath.Join(dir, "cache.db"))
	t.Cleanup(func() { c.Close() })
	lane := filepath.Join(dir, "Quay [old]")
	require.NoError(t, os.MkdirAll(lane, 0o755))
	return &Archive{Dir: lane, Store: s, Cache: c, Meter: progress.None{}, Now: time.Now}
}

func write(t *testing.T, dir, p, text string) {
	t.Helper()
	name := filepath.Join(dir, filepath.FromSlash(p))
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
}

func TestFoldersOfSavesAreFound(t *testing.T) {
	k := newKeeper(t)
	home := t.TempDir()
	t.Setenv("QUAY_SAVES", filepath.Join(home, "Documents"))
	write(t, home, "Saved Games/Quay/1001/a.sav", "a")
	write(t, home, "Saved Games/Quay/1002/a.sav", "a")
	write(t, home, "Saved Games/Quay/readme.txt", "a file")
	write(t, home, "Documents/Quay/b.sav", "b")
	write(t, k.Dir, "profiles/p.sav", "p")
	f := Finder{Dir: k.Dir, Home: home, Own: []string{filepath.Join(home, "morvant")}}
	find := func(patterns ...string) ([]Place, []string, error) {
		f.Patterns = patterns
		return f.Find()
	}
	places, none, err := find("~/Saved Games/Quay/*", "$QUAY_SAVES/Quay", "%QUAY_SAVES%/Quay", "profiles", "~/nothing/*")
	require.NoError(t, err)
	require.Equal(t, []string{"~/nothing/*"}, none)
	require.Equal(t, []Place{
		{Path: filepath.Join(home, "Saved Games", "Quay", "1001")}, {Path: filepath.Join(home, "Saved Games", "Quay", "1002")},
		{Path: filepath.Join(home, "Documents", "Quay")}, {Path: "profiles", Inside: true},
	}, places)
	require.Equal(t, filepath.Join(k.Dir, "profiles"), places[3].In(k.Dir))
	write(t, home, "morvant/store/x", "x")
	for _, bad := range []string{"~", "~/..", k.Dir, filepath.Dir(k.Dir), "~/morvant/store", "~/morvant", filepath.VolumeName(home) + "/"} {
		_, _, err := find(bad)
		require.ErrorIs(t, err, ErrPattern, bad)
	}
	for _, bad := range []string{"", " ", "~/**", "../x", "[a"} {
		require.ErrorIs(t, Check(bad), ErrPattern, bad)
	}
}

// TestPlacesOfSavesAreWhereTheyReallyLie: a link of the game's is followed before anything
// is decided by a path.
func TestPlacesOfSavesAreWhereTheyReallyLie(t *testing.T) {
	k := newKeeper(t)
	home, other := t.TempDir(), t.TempDir()
	write(t, home, "Documents/Quay/b.sav", "b")
	write(t, other, "1001/a.sav", "a")
	write(t, k.Dir, "profiles/p.sav", "p")
	link := func(target, name string) {
		t.Helper()
		if err := volume.Link(target, name); err != nil {
			t.Skip("links to folders cannot be made here")
		}
		if _, err := os.ReadDir(name); err != nil {
			t.Skip("links to folders cannot be made here")
		}
	}
	link(home, filepath.Join(k.Dir, "home"))
	link(filepath.Join(home, "Documents", "Quay"), filepath.Join(k.Dir, "docs"))
	link(other, filepath.Join(k.Dir, "lanes"))
	link(k.Dir, filepath.Join(home, "game"))
	link(filepath.Join(k.Dir, "profiles"), filepath.Join(home, "profiles"))
	f := Finder{Dir: k.Dir, Home: home, Own: []string{other}}
	for _, bad := range [][]string{
		{"home"}, {"hom?"}, {"lanes"}, {"lanes/*"}, {"~/game"}, {"lanes/new"}, // where they lead
		{"docs", "~/Documents"}, {"~/Documents/Quay", "~/Documents"}, {"profiles", "profiles/deeper"}, // in each other
	} {
		require.ErrorIs(t, f.Check(bad), ErrPattern, "%v", bad)
	}
	f.Patterns = []string{"home"}
	_, _, err := f.Find()
	require.ErrorContains(t, err, "leads there by a link) is your home folder")

	f.Patterns = []string{"docs", "~/profiles", "profiles", "~/Documents/Quay"}
	require.NoError(t, f.Check(nil))
	places, _, err := f.Find()
	require.NoError(t, err)
	real, err := volume.Real(filepath.Join(home, "Documents", "Quay"))
	require.NoError(t, err)
	require.Equal(t, []Place{{Path: real}, {Path: "profiles", Inside: true}}, places, "each once, by where it lies")

	// A backup of an earlier version names a folder by the link that led to it.
	b := &Backup{ID: 1, Parts: []Part{{Place: Place{Path: "docs", Inside: true}}}}
	settled, err := f.Settle(b)
	require.NoError(t, err)
	require.Equal(t, Place{Path: real}, settled.Parts[0].Place)
	b.Parts = append(b.Parts, Part{Place: Place{Path: filepath.Join(real, "deeper")}}, Part{Place: Place{Path: real}}, Part{Place: Place{Path: "profiles", Inside: true}})
	settled, err = f.Settle(b)
	require.NoError(t, err)
	require.Equal(t, []Part{{Place: Place{Path: real}}, {Place: Place{Path: "profiles", Inside: true}}}, settled.Parts, "what lies in another is held by it")
	b.Parts[0].Path = "home"
	_, err = f.Settle(b)
	require.ErrorIs(t, err, ErrPattern)

	// Whatever has become of a place since, one inside the lane does not lead out of it.
	_, err = k.Record(t.Context(), []Place{{Path: "docs", Inside: true}})
	require.Error(t, err)
}

func TestSavesComeBackAsTheyWere(t *testing.T) {
	k := newKeeper(t)
	dir := t.TempDir()
	at := Place{Path: filepath.Join(dir, "1001")}
	write(t, at.Path, "slot1.sav", "first")
	write(t, at.Path, "deep/slot2.sav", "second")
	first, err := k.Record(t.Context(), []Place{at})
	require.NoError(t, err)
	require.Equal(t, 2, first.Files)
	again, err := k.Record(t.Context(), []Place{at})
	require.NoError(t, err)
	require.True(t, first.Same(again))

	write(t, at.Path, "slot1.sav", "changed")
	write(t, at.Path, "slot3.sav", "new")
	changed, err := k.Record(t.Context(), []Place{at})
	require.NoError(t, err)
	require.False(t, first.Same(changed))
	back, err := k.Propose(t.Context(), first)
	require.NoError(t, err)
	require.Len(t, back[0].Plan.Steps, 2)
	require.NoError(t, k.Carry(t.Context(), back))
	b, err := os.ReadFile(filepath.Join(at.Path, "slot1.sav"))
	require.NoError(t, err)
	require.Equal(t, "first", string(b))
	require.NoFileExists(t, filepath.Join(at.Path, "slot3.sav"))
	require.NoDirExists(t, filepath.Join(at.Path, manifest.PrivateDir))

	empty, err := k.ProposeEmpty(t.Context(), []Place{at})
	require.NoError(t, err)
	require.NoError(t, k.Carry(t.Context(), empty))
	list, err := os.ReadDir(at.Path)
	require.NoError(t, err)
	require.Empty(t, list)
	require.NoError(t, os.RemoveAll(dir))
	back, err = k.Propose(t.Context(), changed)
	require.NoError(t, err)
	require.NoError(t, k.Carry(t.Context(), back), "a folder that is gone is made again")
	require.FileExists(t, filepath.Join(at.Path, "slot3.sav"))
	require.NoError(t, k.Recover(t.Context(), []Place{at, {Path: filepath.Join(dir, "gone")}}))
}
