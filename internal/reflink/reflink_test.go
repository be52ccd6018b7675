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
	for name, share := range map[string]func(dst *os.File) error{
		"whole": func(dst *os.File) error { return File(dst, src) },
		"range": func(dst *os.File) error { return Range(dst, Block, src, Block, 2*Block) },
	} {
		dst, err := os.Create(filepath.Join(dir, name))
		require.NoError(t, err)
		defer dst.Close()
		if err := share(dst); err != nil {
			require.ErrorIs(t, err, ErrUnsupported)
			continue
		}
		got, err := os.ReadFile(dst.Name())
		require.NoError(t, err)
		if name == "whole" {
			require.Equal(t, content, got)
		} else {
			require.Equal(t, content[Block:3*Block], got[Block:])
		}
	}
	closed, err := os.Create(filepath.Join(dir, "closed"))
	require.NoError(t, err)
	require.NoError(t, closed.Close())
	require.ErrorIs(t, File(closed, src), ErrUnsupported)
}
