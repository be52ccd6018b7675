package reflink

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"

	"golang.org/x/sys/unix"
)

// cloneFile clones by clonefile(2), which makes a new file. The clone has the source's
// mode, times and flags; the caller sets those that it wants, but for a flag that forbids
// to write, which is refused.
func cloneFile(root *os.Root, name string, src *os.File) (*os.File, error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(src.Fd()), &st); err != nil || st.Flags&(unix.UF_IMMUTABLE|unix.UF_APPEND) != 0 {
		return nil, fmt.Errorf("%w: the file is protected", ErrUnsupported)
	}
	if err := root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	dir, err := root.Open(path.Dir(name))
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	if err := unix.Fclonefileat(int(src.Fd()), int(dir.Fd()), path.Base(name), unix.CLONE_NOFOLLOW|unix.CLONE_NOOWNERCOPY); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrUnsupported, err)
	}
	if err := root.Chmod(name, 0o644); err != nil {
		return nil, err
	}
	return root.OpenFile(name, os.O_RDWR, 0)
}

// cloneRange has no counterpart here.
func cloneRange(_ *os.File, _ int64, _ *os.File, _, _ int64) error { return ErrUnsupported }

func shared(*os.File) (int64, error) { return 0, ErrUnsupported }
