package volume

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

func free(dir string) (int64, error) {
	name, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return 0, err
	}
	var available uint64
	if err := windows.GetDiskFreeSpaceEx(name, &available, nil, nil); err != nil {
		return 0, &os.PathError{Op: "ask for the free space of", Path: dir, Err: err}
	}
	return int64(available), nil
}

func syncAll(*os.File) (bool, error) { return false, nil }

// syncDir does nothing: Windows has no call that syncs a folder's names, and its
// file systems keep a log of them.
func syncDir(*os.File) error { return nil }

func isFull(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL)
}

func startSync(*os.File, int64, int64) {}
