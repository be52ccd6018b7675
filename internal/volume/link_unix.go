//go:build !windows

package volume

import (
	"io/fs"
	"os"
	"syscall"
	"time"
)

// noWait keeps an open from waiting for the other end of a named pipe.
const noWait = syscall.O_NONBLOCK

// noFollow makes an open fail where the name is a link.
const noFollow = syscall.O_NOFOLLOW

func link(target, name string) error { return os.Symlink(target, name) }

func symlinkIn(root *os.Root, target, path string) error { return root.Symlink(target, path) }

func isLink(info fs.FileInfo) bool { return info.Mode().Type() == fs.ModeSymlink }

func renameOver(from, to string) error { return os.Rename(from, to) }

func names(_ *os.Root, _ string, info fs.FileInfo) (int, error) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 1, nil
	}
	return int(st.Nlink), nil
}

func keepFlags(string, string) error { return nil }

func chmod(root *os.Root, path string, mode fs.FileMode) error { return root.Chmod(path, mode) }

func chtimes(root *os.Root, path string, when time.Time) error { return root.Chtimes(path, when, when) }
