package reflink

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// What sharing does where it is possible is tested on a file system that can;
// here, that it is right or refused.
func TestSharingIsRightOrRefused(t *testing.T) {
	dir := t.TempDir()
	content := make([]byte, 3*Block+100)
	for i := range content {
		content[i] = byte(i / 7)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "src"), content, 0o644))
	src, err := os.Open(filepath.Join(dir, "src"))
	require.NoError(t, err)
	defer src.Close()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	whole, err := File(root, "whole", src)
	if err != nil {
		require.ErrorIs(t, err, ErrUnsupported)
	} else {
		got, err := os.ReadFile(whole.Name())
		require.NoError(t, err)
		require.Equal(t, content, got)
		_, err = whole.WriteAt([]byte("changed"), 0)
		require.NoError(t, err)
		require.NoError(t, whole.Close())
		is, err := os.ReadFile(src.Name())
		require.NoError(t, err)
		require.Equal(t, content, is, "the one does not change with the other")
	}
	part, err := os.Create(filepath.Join(dir, "part"))
	require.NoError(t, err)
	defer part.Close()
	if err := Range(part, Block, src, Block, 2*Block); err != nil {
		require.ErrorIs(t, err, ErrUnsupported)
	} else {
		require.True(t, Ranges)
		got, err := os.ReadFile(part.Name())
		require.NoError(t, err)
		require.Equal(t, content[Block:3*Block], got[Block:])
	}
	require.NoError(t, src.Close())
	_, err = File(root, "of nothing", src)
	require.ErrorIs(t, err, ErrUnsupported)
}
