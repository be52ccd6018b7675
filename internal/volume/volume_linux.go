package volume

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// SyncsAll says that Sync brings a whole file system to disk.
const SyncsAll = true

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

// immutable asks for the attribute that chattr sets.
func immutable(root *os.Root, path string) bool {
	var st unix.Statx_t
	name := filepath.Join(root.Name(), filepath.FromSlash(path))
	err := unix.Statx(unix.AT_FDCWD, name, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_MODE, &st)
	return err == nil && st.Attributes&(unix.STATX_ATTR_IMMUTABLE|unix.STATX_ATTR_APPEND) != 0
}

func id(dir string) string {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil || st.Fsid.Val == [2]int32{} {
		return ""
	}
	return fmt.Sprintf("%x-%08x%08x", uint64(st.Type), uint32(st.Fsid.Val[0]), uint32(st.Fsid.Val[1]))
}
