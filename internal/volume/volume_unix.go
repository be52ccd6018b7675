//go:build unix

package volume

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"syscall"

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

// owners returns who owns a file, and whether this process may give files away.
func owners(info fs.FileInfo, err error) (uid, gid int, may bool) {
	if err != nil || os.Geteuid() != 0 {
		return 0, 0, false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, 0, false
	}
	return int(st.Uid), int(st.Gid), true
}

func own(name, like string) error {
	uid, gid, may := owners(os.Lstat(like))
	if !may || uid == 0 && gid == 0 {
		return nil
	}
	return tolerant(os.Lchown(name, uid, gid))
}

func ownIn(root *os.Root, name, like string) error {
	if os.Geteuid() != 0 {
		return nil // who may not give files away
	}
	uid, gid, may := owners(root.Lstat(like))
	if !may || uid == 0 && gid == 0 {
		return nil
	}
	return tolerant(root.Lchown(name, uid, gid))
}

// tolerant passes over disks that know no owners.
func tolerant(err error) error {
	if errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EINVAL) {
		return nil
	}
	return err
}

func ownAll(dir string) error {
	uid, gid, may := owners(os.Lstat(dir))
	if !may || uid == 0 {
		return nil
	}
	return filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if is, _, _ := owners(d.Info()); is != 0 {
			return nil
		}
		err = os.Lchown(p, uid, gid)
		if Absent(err) {
			return nil
		}
		return tolerant(err)
	})
}

// ownerOf returns who owns a file; -1 if that is not known.
func ownerOf(name string) int {
	info, err := os.Stat(name)
	if err != nil {
		return -1
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return -1
	}
	return int(st.Uid)
}

func trusted(dir, like string) bool {
	switch ownerOf(dir) {
	case -1, 0, os.Geteuid(), ownerOf(like):
		return true
	}
	return false
}

func owned(dir string) bool { return ownerOf(dir) == os.Geteuid() }

func mine(dir string) bool {
	switch uid := ownerOf(dir); uid {
	case -1, 0, os.Geteuid(): // disks that know no owners often say that it is the administrator's
		return true
	default:
		return os.Geteuid() == 0 && os.Getenv("SUDO_UID") == strconv.Itoa(uid)
	}
}

// maySet goes by the owner: only who owns a file, or the administrator, may set its time.
func maySet(root *os.Root, path string) bool {
	info, err := root.Lstat(path)
	if err != nil {
		return true // whatever is wrong shows later
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return !immutable(root, path) && (!ok || os.Geteuid() == 0 || int(st.Uid) == os.Geteuid())
}

func isReadOnly(err error) bool { return errors.Is(err, unix.EROFS) }

// modesAreKept says that a mode that does not stay as it is set is the disk's doing.
const modesAreKept = true
