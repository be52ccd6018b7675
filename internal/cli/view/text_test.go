package view

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatSystemsSayIsPutPlainly: no function of a system, and no stop before the one that follows.
func TestWhatSystemsSayIsPutPlainly(t *testing.T) {
	nowhere := filepath.Join(t.TempDir(), "nothing")
	_, err := os.Lstat(nowhere)
	require.Equal(t, nowhere+": there is no such file or folder", OneLine(err))
	require.Equal(t, "read the settings: "+nowhere+": there is no such file or folder; it failed", OneLine(errors.Join(fmt.Errorf("read the settings: %w", err), errors.New("it failed."))))
	require.Equal(t, "a: permission denied", OneLine(&fs.PathError{Op: "CreateFile", Path: "a", Err: fs.ErrPermission}))
	require.Equal(t, "a → b: it exists already", OneLine(&os.LinkError{Op: "rename", Old: "a", New: "b", Err: fs.ErrExist}))
	require.Equal(t, "a: "+syscall.EIO.Error(), OneLine(&fs.PathError{Op: "write", Path: "a", Err: syscall.EIO}))
	require.Equal(t, `C:\Quay\a.pak: there is no such file or folder`, Plain(`GetFileAttributesEx C:\Quay\a.pak: The system cannot find the file specified.`))
}
