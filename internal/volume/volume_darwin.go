package volume

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
	"golang.org/x/text/unicode/norm"
)

// composed makes the two ways to write an accented letter one: the file systems of
// macOS take them for the same, and some hand out the other than they were given.
func composed(name string) string { return norm.NFC.String(name) }

// SyncsAll says that Sync brings a whole file system to disk.
const SyncsAll = false

func syncAll(*os.File) (bool, error) { return false, nil }

func startSync(*os.File, int64, int64) {}

func exchange(a, b string) error {
	err := unix.RenamexNp(a, b, unix.RENAME_SWAP)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOTSUP) {
		return ErrUnsupported
	}
	return err
}

func immutable(*os.Root, string) bool { return false }

func id(dir string) string {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil || st.Fsid.Val == [2]int32{} {
		return ""
	}
	return fmt.Sprintf("%x-%08x%08x", st.Type, uint32(st.Fsid.Val[0]), uint32(st.Fsid.Val[1]))
}

func network(dir string) string {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil || st.Flags&unix.MNT_LOCAL != 0 {
		return ""
	}
	return unix.ByteSliceToString(st.Fstypename[:])
}

func maxFile(dir string) int64 {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) == nil && unix.ByteSliceToString(st.Fstypename[:]) == "msdos" {
		return fatMax
	}
	return 0
}
