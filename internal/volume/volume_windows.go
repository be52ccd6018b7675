package volume

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/windows"
)

func free(dir string) (int64, error) {
	// The folder of a network share must end in a backslash.
	name, err := windows.UTF16PtrFromString(strings.TrimRight(dir, `\`) + `\`)
	if err != nil {
		return 0, err
	}
	var available uint64
	if err := windows.GetDiskFreeSpaceEx(name, &available, nil, nil); err != nil {
		return 0, &os.PathError{Op: "ask for the free space of", Path: dir, Err: err}
	}
	return int64(available), nil
}

// SyncsAll says that Sync brings a whole file system to disk.
const SyncsAll = false

func syncAll(*os.File) (bool, error) { return false, nil }

// syncDir does nothing: Windows has no call that syncs a folder's names, and its
// file systems keep a log of them.
func syncDir(*os.File) error { return nil }

func isFull(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL)
}

func startSync(*os.File, int64, int64) {}

func composed(name string) string { return name }

func exchange(string, string) error { return ErrUnsupported }

func sameDisk(a, b string) (bool, error) {
	x, err := serial(a)
	if err != nil {
		return false, err
	}
	y, err := serial(b)
	return x == y, err
}

// serial returns the number of the volume that holds a file.
func serial(name string) (uint32, error) {
	h, err := openFor(name, 0)
	if err != nil {
		return 0, err
	}
	defer windows.CloseHandle(h)
	var info windows.ByHandleFileInformation
	if err := windows.GetFileInformationByHandle(h, &info); err != nil {
		return 0, &os.PathError{Op: "ask for the volume of", Path: name, Err: err}
	}
	return info.VolumeSerialNumber, nil
}

// writable asks for the right to add files, which is not used.
func writable(dir string) bool {
	h, err := openFor(dir, windows.FILE_WRITE_DATA|windows.FILE_APPEND_DATA)
	if err != nil {
		return false
	}
	windows.CloseHandle(h)
	return true
}

// openFor opens a file or folder with some rights to it.
func openFor(name string, access uint32) (windows.Handle, error) {
	p, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return 0, err
	}
	h, err := windows.CreateFile(p, access, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil,
		windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS, 0)
	if err != nil {
		return 0, &os.PathError{Op: "open", Path: name, Err: err}
	}
	return h, nil
}

// A file belongs to whom its folder says, on Windows.
func own(string, string) error             { return nil }
func ownIn(*os.Root, string, string) error { return nil }
func ownAll(string) error                  { return nil }

func immutable(*os.Root, string) bool { return false }

func maySet(*os.Root, string) bool { return true }

func trusted(string, string) bool { return true }

func owned(string) bool { return false }

func mine(string) bool { return true }

func id(dir string) string {
	n, err := serial(dir)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("%08x", n)
}

func isReadOnly(err error) bool { return errors.Is(err, windows.ERROR_WRITE_PROTECT) }

func network(dir string) string {
	root, err := windows.UTF16PtrFromString(filepath.VolumeName(dir) + `\`)
	if err == nil && windows.GetDriveType(root) == windows.DRIVE_REMOTE {
		return "a network drive"
	}
	return ""
}

// modesAreKept: here a mode is one attribute, and never stays as it is set.
const modesAreKept = false

func maxFile(dir string) int64 {
	root, err := windows.UTF16PtrFromString(filepath.VolumeName(dir) + `\`)
	if err != nil {
		return 0
	}
	var kind [32]uint16
	if windows.GetVolumeInformation(root, nil, 0, nil, nil, nil, &kind[0], uint32(len(kind))) == nil && strings.HasPrefix(windows.UTF16ToString(kind[:]), "FAT") {
		return fatMax
	}
	return 0
}
