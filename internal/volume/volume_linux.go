package volume

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

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

// The magic numbers of linux/magic.h and of the file systems themselves.
var networks = map[uint32]string{0x6969: "nfs", 0xff534d42: "cifs", 0xfe534d42: "smb", 0x517b: "smb", 0x01021997: "9p", 0x5346414f: "afs", 0x00c36400: "ceph"}

// network knows the file systems of the kernel by number; those of FUSE by the name that
// they are mounted under.
func network(dir string) string {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil {
		return ""
	}
	if kind := networks[uint32(st.Type)]; kind != "" {
		return kind
	}
	const fuse = 0x65735546
	if uint32(st.Type) != fuse {
		return ""
	}
	var at unix.Stat_t
	mounts, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil || unix.Stat(dir, &at) != nil {
		return ""
	}
	device := fmt.Sprintf("%d:%d", unix.Major(at.Dev), unix.Minor(at.Dev))
	for line := range strings.Lines(string(mounts)) {
		fields := strings.Fields(line)
		i := slices.Index(fields, "-")
		if len(fields) > 2 && fields[2] == device && i >= 0 && i+1 < len(fields) {
			kind, remote := strings.CutPrefix(fields[i+1], "fuse.")
			for _, known := range []string{"sshfs", "rclone", "glusterfs", "s3fs", "davfs", "curlftpfs"} {
				if remote && strings.HasPrefix(kind, known) {
					return kind
				}
			}
		}
	}
	return ""
}

// maxFile knows FAT by its number in linux/magic.h.
func maxFile(dir string) int64 {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) == nil && st.Type == unix.MSDOS_SUPER_MAGIC {
		return fatMax
	}
	return 0
}
