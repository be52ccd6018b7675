package volume

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

func syncAll(dir *os.File) (bool, error) { return true, unix.Syncfs(int(dir.Fd())) }

func startSync(f *os.File, offset, n int64) {
	_ = unix.SyncFileRange(int(f.Fd()), offset, n, unix.SYNC_FILE_RANGE_WRITE)
}

func composed(name string) string { return name }

func exchange(a, b string) error {
	err := unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) {
		return ErrUnsupported
	}
	return err
}
