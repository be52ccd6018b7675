package volume

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestFreeSpaceIsAskedOfTheRightDisk(t *testing.T) {
	n, err := Free(t.TempDir())
	require.NoError(t, err)
	require.Positive(t, n)
	_, err = Free(filepath.Join(t.TempDir(), "nowhere"))
	require.Error(t, err)
}

func TestNamesAreComparedAsTheFolderDoes(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "probe"), nil, 0o644))
	_, statErr := os.Stat(filepath.Join(dir, "PROBE"))
	ignores, err := IgnoresCase(root, "probe", "PROBE")
	require.NoError(t, err)
	require.Equal(t, statErr == nil, ignores)
	// Two files whose names differ by case only are two files.
	if !ignores {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "PROBE"), nil, 0o644))
		ignores, err = IgnoresCase(root, "probe", "PROBE")
		require.NoError(t, err)
		require.False(t, ignores)
	}
	_, err = IgnoresCase(root, "missing", "MISSING")
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestSyncingReportsWhetherItWasDone(t *testing.T) {
	f, err := os.Open(t.TempDir())
	require.NoError(t, err)
	defer f.Close()
	_, err = Sync(f)
	require.NoError(t, err)
	require.NoError(t, SyncDir(f))
	require.False(t, Full(errors.New("something else")))
}

func TestTwoFoldersChangePlacesAtOnce(t *testing.T) {
	dir := t.TempDir()
	a, b := filepath.Join(dir, "a"), filepath.Join(dir, "b")
	for _, p := range []string{a, b} {
		require.NoError(t, os.Mkdir(p, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(p, filepath.Base(p)), nil, 0o644))
	}
	err := Exchange(a, b)
	if errors.Is(err, ErrUnsupported) {
		require.FileExists(t, filepath.Join(a, "a"), "nothing has moved")
		t.Skip("this system has no such call")
	}
	require.NoError(t, err)
	require.FileExists(t, filepath.Join(a, "b"))
	require.FileExists(t, filepath.Join(b, "a"))
	require.Error(t, Exchange(a, filepath.Join(dir, "nothing")))
}

func TestFilesOfOneDisk(t *testing.T) {
	dir := t.TempDir()
	same, err := SameDisk(dir, filepath.Dir(dir))
	require.NoError(t, err)
	require.True(t, same)
	_, err = SameDisk(dir, filepath.Join(dir, "nothing"))
	require.Error(t, err)
}

func TestALinkLeadsToItsFolder(t *testing.T) {
	dir := t.TempDir()
	target, name := filepath.Join(dir, "target"), filepath.Join(dir, "link")
	require.NoError(t, os.Mkdir(target, 0o755))
	if err := Link(target, name); err != nil {
		require.NoFileExists(t, name, "nothing is left of a link that could not be made")
		t.Skip("links to folders cannot be made here: ", err)
	}
	require.NoError(t, os.WriteFile(filepath.Join(name, "x"), nil, 0o644))
	require.FileExists(t, filepath.Join(target, "x"))
	require.True(t, IsLink(name))
	require.False(t, IsLink(target))
	require.False(t, IsLink(filepath.Join(dir, "nothing")))
	got, err := LinkTarget(name)
	require.NoError(t, err)
	require.Equal(t, target, got)
	require.NoError(t, os.Remove(name))
	require.FileExists(t, filepath.Join(target, "x"), "the folder stays")
}

func TestModesAndTimesBelowARoot(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	file := filepath.Join(dir, "a")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	when := time.Date(2031, 8, 5, 9, 0, 0, 0, time.UTC)
	require.NoError(t, Chmod(root, "a", 0o444))
	require.Error(t, os.WriteFile(filepath.Join(dir, "a", "b"), nil, 0o644))
	require.NoError(t, Chtimes(root, "a", when))
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Zero(t, info.Mode().Perm()&0o222)
	require.True(t, info.ModTime().Equal(when))
	require.NoError(t, Chmod(root, "a", 0o644))
	require.Error(t, Chmod(root, "../a", 0o644))
	require.Error(t, Chtimes(root, "nothing", when))
}

func TestWhetherAFolderMayBeChanged(t *testing.T) {
	dir := t.TempDir()
	require.True(t, Writable(dir))
	require.False(t, Writable(filepath.Join(dir, "nothing")))
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, list, "asking leaves nothing behind")
	root := filepath.VolumeName(dir) + string(filepath.Separator)
	probe, err := os.CreateTemp(root, "probe-*")
	require.Equal(t, err == nil, Writable(root), "what is said is what happens")
	if err == nil {
		require.NoError(t, errors.Join(probe.Close(), os.Remove(probe.Name())))
	}
}

func TestWhatSpellingsHaveInCommon(t *testing.T) {
	require.Equal(t, Fold("Data/VOICES.pak"), Fold("data/voices.PAK"))
	require.NotEqual(t, Fold("data/a"), Fold("data/b"))
	composed, decomposed := "caf\u00e9", "cafe\u0301"
	require.Equal(t, runtime.GOOS == "darwin", Fold(composed) == Fold(decomposed), "only macOS takes them for one")
	switch runtime.GOOS {
	case "windows", "darwin":
		require.Equal(t, "readme", UsualFold("ReadMe"))
	default:
		require.Equal(t, "ReadMe", UsualFold("ReadMe"))
	}
	for name, windows := range map[string]bool{"data/a.pak": true, "why?.txt": false, "a|b": false, `say "hi"`: false, "a+b (1).txt": true} {
		require.Equal(t, windows || runtime.GOOS != "windows", CanHold(name), name)
	}
}

func TestAJunctionToANetworkShareIsRefused(t *testing.T) {
	name := filepath.Join(t.TempDir(), "link")
	require.ErrorContains(t, Link(`\\server\share`, name), "cannot lead to a network share")
	require.NoFileExists(t, name)
}

func TestALinkIsTriedBesideThePlace(t *testing.T) {
	dir, target := t.TempDir(), t.TempDir()
	if err := Link(target, filepath.Join(dir, "try")); err != nil {
		require.ErrorIs(t, CanLink(dir, target), ErrNoLinks)
		return
	}
	require.NoError(t, os.Remove(filepath.Join(dir, "try")))
	require.NoError(t, CanLink(dir, target))
	require.ErrorIs(t, CanLink(dir, filepath.Join(target, "nothing")), ErrNoLinks)
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, list, "nothing is left of the try")
}

func TestReplacingClearsAwayWhatAKilledRunHasLeft(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	name := filepath.Join(dir, "state.cfg")
	left := filepath.Join(dir, partOf("state.cfg")+"LEFTOVER")
	other := filepath.Join(dir, partOf("other.cfg")+"LEFTOVER")
	for _, p := range []string{left, other} {
		require.NoError(t, os.WriteFile(p, nil, 0o644))
	}
	require.NoError(t, Replace(name, []byte("one"), 0o644))
	require.NoFileExists(t, left)
	require.FileExists(t, other, "of another file, which may be at work")
	require.NoError(t, ReplaceIn(root, "state.cfg", []byte("two"), 0o444))
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	require.Equal(t, "two", string(b))
	require.NoError(t, os.Chmod(name, 0o644)) // for Windows to remove it
}

func TestWhatIsNotThereAndWhatIs(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), nil, 0o644))
	_, err := os.Lstat(filepath.Join(dir, "a", "b"))
	require.True(t, Absent(err), "below a file there is nothing: %v", err)
	_, err = os.Lstat(filepath.Join(dir, "c"))
	require.True(t, Absent(err))
	require.False(t, Absent(os.ErrPermission))
	require.False(t, Absent(nil))
	require.Equal(t, Earliest.UnixNano(), Nanoseconds(time.Date(1500, 1, 1, 0, 0, 0, 0, time.UTC)))
	require.Equal(t, Latest.UnixNano(), Nanoseconds(time.Date(2500, 1, 1, 0, 0, 0, 0, time.UTC)))
	require.Equal(t, int64(-5), Nanoseconds(time.Unix(0, -5)))
}

func TestWhatTheDiskOfATestCanHold(t *testing.T) {
	dir := t.TempDir()
	traits, err := TraitsOf(dir)
	require.NoError(t, err)
	require.Equal(t, ID(dir), ID(filepath.Dir(dir)))
	require.Empty(t, Network(dir))
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, list)
	require.Len(t, Traits{NoLinks: true, NoModes: true, MaxFile: fatMax, Clock: 2 * time.Second}.Lacks(), 4)
	require.Contains(t, Traits{MaxFile: fatMax}.Lacks()[0], "4 GB")
	if runtime.GOOS == "linux" {
		require.Zero(t, traits.MaxFile)
	}
}
