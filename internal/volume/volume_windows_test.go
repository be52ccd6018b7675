package volume

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/windows"
)

func attributes(t *testing.T, name string) uint32 {
	t.Helper()
	p, err := windows.UTF16PtrFromString(name)
	require.NoError(t, err)
	a, err := windows.GetFileAttributes(p)
	require.NoError(t, err)
	return a
}

func TestAFileThatTakesAnothersPlaceIsAsHidden(t *testing.T) {
	dir := t.TempDir()
	was, now := filepath.Join(dir, "was"), filepath.Join(dir, "now")
	for _, name := range []string{was, now} {
		require.NoError(t, os.WriteFile(name, nil, 0o644))
	}
	require.NoError(t, KeepFlags(was, now))
	require.Zero(t, attributes(t, now)&(windows.FILE_ATTRIBUTE_HIDDEN|windows.FILE_ATTRIBUTE_SYSTEM))
	p, err := windows.UTF16PtrFromString(was)
	require.NoError(t, err)
	require.NoError(t, windows.SetFileAttributes(p, windows.FILE_ATTRIBUTE_HIDDEN|windows.FILE_ATTRIBUTE_SYSTEM))
	if attributes(t, was)&windows.FILE_ATTRIBUTE_HIDDEN == 0 {
		t.Skip("nothing can be hidden here, as under Wine on some disks")
	}
	require.NoError(t, KeepFlags(was, now))
	require.NotZero(t, attributes(t, now)&windows.FILE_ATTRIBUTE_HIDDEN)
	require.NotZero(t, attributes(t, now)&windows.FILE_ATTRIBUTE_SYSTEM)
	require.Error(t, KeepFlags(was, filepath.Join(dir, "nothing")))
}

func TestAFileIsReplacedAsAWhole(t *testing.T) {
	name := filepath.Join(t.TempDir(), "a")
	require.NoError(t, Replace(name, []byte("one"), 0o644))
	require.NoError(t, os.Chmod(name, 0o444))
	require.Error(t, Replace(name, []byte("two"), 0o644), "what is read-only is not replaced unasked")
	require.NoError(t, os.Chmod(name, 0o644))
	require.NoError(t, Replace(name, []byte("two"), 0o644))
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	require.Equal(t, "two", string(b))
	list, err := os.ReadDir(filepath.Dir(name))
	require.NoError(t, err)
	require.Len(t, list, 1, "nothing is left beside it")
}
