package volume

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestASpoolGivesBackWhatWasPutAndLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	left := filepath.Join(dir, partOf(spoolBase)+"of a killed run")
	require.NoError(t, os.WriteFile(left, nil, 0o600))
	s, err := NewSpool(dir)
	require.NoError(t, err)
	require.NoFileExists(t, left)
	require.NoError(t, s.Put("a", []byte("one")))
	require.NoError(t, s.Put("b", []byte("three")))
	for name, want := range map[string]string{"b": "three", "a": "one"} {
		got, err := s.Get(name)
		require.NoError(t, err)
		require.Equal(t, want, string(got))
	}
	_, err = s.Get("c")
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, s.Close())
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, list)
}
