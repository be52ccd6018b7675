//go:build unix

package volume

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

func free(dir string) (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, &os.PathError{Op: "ask for the free space of", Path: dir, Err: err}
	}
	return int64(st.Bavail) * int64(st.Bsize), nil
}

func syncDir(dir *os.File) error { return dir.Sync() }

func isFull(err error) bool {
	return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT)
}

func sameDisk(a, b string) (bool, error) {
	var x, y unix.Stat_t
	if err := unix.Stat(a, &x); err != nil {
		return false, &os.PathError{Op: "stat", Path: a, Err: err}
	}
	if err := unix.Stat(b, &y); err != nil {
		return false, &os.PathError{Op: "stat", Path: b, Err: err}
	}
	return x.Dev == y.Dev, nil
}

func writable(dir string) bool { return unix.Access(dir, unix.W_OK|unix.X_OK) == nil }
