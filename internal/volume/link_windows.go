package volume

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"
	"unicode/utf16"

	"golang.org/x/sys/windows"
)

// noWait is not needed where no named pipe lies among files.
const noWait = 0

// noFollow is not known to the system.
const noFollow = 0

// The structure REPARSE_DATA_BUFFER of a mount point: tag, length, then offsets and
// lengths of two names in bytes, and the names.
const (
	mountPointHead = 8
	mountPointBody = 8
)

// link makes a junction: unlike a symbolic link it needs no rights beyond those to the
// folder.
func link(target, name string) error {
	if err := os.Mkdir(name, 0o777); err != nil {
		return err
	}
	if err := setJunction(target, name); err != nil {
		return errors.Join(&os.LinkError{Op: "junction", Old: target, New: name, Err: err}, os.Remove(name))
	}
	return nil
}

func setJunction(target, name string) error {
	p, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return err
	}
	h, err := windows.CreateFile(p, windows.GENERIC_WRITE, 0, nil, windows.OPEN_EXISTING,
		windows.FILE_FLAG_OPEN_REPARSE_POINT|windows.FILE_FLAG_BACKUP_SEMANTICS, 0)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(h)
	substitute, shown := utf16.Encode([]rune(`\??\`+target)), utf16.Encode([]rune(target))
	var names []byte
	for _, u := range append(append(substitute, 0), append(shown, 0)...) {
		names = binary.LittleEndian.AppendUint16(names, u)
	}
	b := binary.LittleEndian.AppendUint32(nil, windows.IO_REPARSE_TAG_MOUNT_POINT)
	b = binary.LittleEndian.AppendUint16(b, uint16(mountPointBody+len(names)))
	b = binary.LittleEndian.AppendUint16(b, 0)
	for _, n := range []int{0, 2 * len(substitute), 2*len(substitute) + 2, 2 * len(shown)} {
		b = binary.LittleEndian.AppendUint16(b, uint16(n))
	}
	b = append(b, names...)
	var returned uint32
	return windows.DeviceIoControl(h, windows.FSCTL_SET_REPARSE_POINT, &b[0], uint32(len(b)), nil, 0, &returned, nil)
}

// symlinkIn makes a junction where the link is to lead to a folder by its full path, for a symbolic link takes
// rights that players do not have.
func symlinkIn(root *os.Root, target, path string) error {
	if info, err := os.Stat(target); filepath.IsAbs(target) && err == nil && info.IsDir() {
		return link(target, filepath.Join(root.Name(), filepath.FromSlash(path)))
	}
	return root.Symlink(target, path)
}

// isLink takes symbolic links and junctions, which Go calls irregular.
func isLink(info fs.FileInfo) bool {
	return info.Mode()&(fs.ModeSymlink|fs.ModeIrregular) != 0
}

// renameOver replaces a file and does not return before that is on disk.
func renameOver(from, to string) error {
	a, err := windows.UTF16PtrFromString(from)
	if err != nil {
		return err
	}
	b, err := windows.UTF16PtrFromString(to)
	if err != nil {
		return err
	}
	if err := windows.MoveFileEx(a, b, windows.MOVEFILE_REPLACE_EXISTING|windows.MOVEFILE_WRITE_THROUGH); err != nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return nil
}

func names(root *os.Root, path string, _ fs.FileInfo) (int, error) {
	f, err := root.Open(path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	var info windows.ByHandleFileInformation
	if err := windows.GetFileInformationByHandle(windows.Handle(f.Fd()), &info); err != nil {
		return 0, &fs.PathError{Op: "stat", Path: path, Err: err}
	}
	return int(info.NumberOfLinks), nil
}

// chmod goes by the name where a read-only file may not be opened for it.
func chmod(root *os.Root, path string, mode fs.FileMode) error {
	err := root.Chmod(path, mode)
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	return byName(root, path, err, func(name string) error { return os.Chmod(name, mode) })
}

// chtimes takes the read-only attribute off meanwhile where it is in the way.
func chtimes(root *os.Root, path string, when time.Time) error {
	err := root.Chtimes(path, when, when)
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	return byName(root, path, err, func(name string) error {
		info, err := os.Stat(name)
		if err != nil {
			return err
		}
		if err := os.Chmod(name, 0o666); err != nil {
			return err
		}
		return errors.Join(os.Chtimes(name, when, when), os.Chmod(name, info.Mode().Perm()))
	})
}

// byName does something to a file by its full name, if no link stands there.
func byName(root *os.Root, path string, cause error, do func(name string) error) error {
	info, err := root.Lstat(path)
	if err != nil || isLink(info) {
		return cause
	}
	return do(filepath.Join(root.Name(), filepath.FromSlash(path)))
}

// keepFlags gives a file the attributes hidden and system that another one has.
func keepFlags(from, to string) error {
	const flags = windows.FILE_ATTRIBUTE_HIDDEN | windows.FILE_ATTRIBUTE_SYSTEM
	a, err := windows.UTF16PtrFromString(from)
	if err != nil {
		return err
	}
	has, err := windows.GetFileAttributes(a)
	if err != nil || has&flags == 0 {
		return nil
	}
	b, err := windows.UTF16PtrFromString(to)
	if err != nil {
		return err
	}
	is, err := windows.GetFileAttributes(b)
	if err != nil {
		return err
	}
	return windows.SetFileAttributes(b, is|has&flags)
}
