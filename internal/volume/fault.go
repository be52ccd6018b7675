package volume

import (
	"io/fs"
	"os"
)

// Fault, if set, is asked before each call by which this package changes or looks at something
// below a root; what it returns instead of nil is what comes of the call. Only tests set it.
var Fault func(op, path string) error

// faulty asks Fault.
func faulty(op, path string) error {
	if Fault == nil {
		return nil
	}
	return Fault(op, path)
}

// LstatIn says what is at a path below root.
func LstatIn(root *os.Root, path string) (fs.FileInfo, error) {
	if err := faulty("lstat", path); err != nil {
		return nil, err
	}
	return root.Lstat(path)
}

// MkdirIn makes a folder below root.
func MkdirIn(root *os.Root, path string, mode fs.FileMode) error {
	if err := faulty("mkdir", path); err != nil {
		return err
	}
	return root.Mkdir(path, mode)
}

// SymlinkIn makes a link below root.
func SymlinkIn(root *os.Root, target, path string) error {
	if err := faulty("symlink", path); err != nil {
		return err
	}
	return symlinkIn(root, target, path)
}

// CreateIn makes a file below root, or empties the one that is there.
func CreateIn(root *os.Root, path string) (*os.File, error) {
	if err := faulty("create", path); err != nil {
		return nil, err
	}
	return root.Create(path)
}
