package volume

import (
	"os"

	"golang.org/x/sys/unix"
)

func syncAll(dir *os.File) (bool, error) { return true, unix.Syncfs(int(dir.Fd())) }

func startSync(f *os.File, offset, n int64) {
	_ = unix.SyncFileRange(int(f.Fd()), offset, n, unix.SYNC_FILE_RANGE_WRITE)
}
