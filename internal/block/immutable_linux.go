package block

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// immutable is FS_IMMUTABLE_FL of linux/fs.h.
const immutable = 0x10

// setImmutable sets or takes away the attribute that keeps even the owner from
// changing, renaming or removing a file. It takes administrator's rights.
func setImmutable(root *os.Root, path string, on bool) error {
	f, err := root.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	flags, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	if err != nil {
		return fmt.Errorf("%s: immutable files are not possible here: %w", path, err)
	}
	want := flags &^ immutable
	if on {
		want = flags | immutable
	}
	if want == flags {
		return nil
	}
	if err := unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, want); err != nil {
		return fmt.Errorf("%s: immutable files need administrator's rights: %w", path, err)
	}
	return nil
}
