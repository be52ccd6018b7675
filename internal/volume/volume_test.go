package volume

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

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
