//go:build unix

package scan

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

// openFlags keep an open from following a link or waiting for a named pipe.
const openFlags = syscall.O_NOFOLLOW | syscall.O_NONBLOCK

func look(root *os.Root, p string) (fs.FileMode, Stamp, error) {
	info, err := root.Lstat(p)
	if err != nil {
		return 0, Stamp{}, err
	}
	return info.Mode(), stampOf(info), nil
}

func lookIn(root *os.Root, _ *os.File, name string) (fs.FileMode, Stamp, int, error) {
	info, err := root.Lstat(name)
	if err != nil {
		return 0, Stamp{}, 0, err
	}
	names := 1
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		names = int(st.Nlink)
	}
	return info.Mode(), stampOf(info), names, nil
}

func lookAt(f *os.File) (fs.FileMode, Stamp, error) {
	info, err := f.Stat()
	if err != nil {
		return 0, Stamp{}, err
	}
	return info.Mode(), stampOf(info), nil
}

// settle brings a file to disk, so that the next write through a mapping moves its time;
// disks that cannot are passed over.
func settle(f *os.File) error {
	err := f.Sync()
	if errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.EROFS) || errors.Is(err, syscall.ENOTSUP) {
		return nil
	}
	return err
}
