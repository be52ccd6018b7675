package volume

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"morvant/internal/process"
)

// Small is the size in bytes up to which settings, markers and notes are read.
const Small = 1 << 20

// Errors that callers test for.
var (
	ErrNotRegular = errors.New("it is not a regular file")
	ErrTooLarge   = errors.New("it is too large for such a file")
)

// Open opens a regular file for reading. It never waits: a named pipe or a device in its
// place, which somebody may have put there, is ErrNotRegular.
func Open(name string) (*os.File, error) {
	return regular(name, func() (*os.File, error) { return os.OpenFile(name, os.O_RDONLY|noWait, 0) })
}

// OpenIn is Open for a file below root, which it does not leave.
func OpenIn(root *os.Root, name string) (*os.File, error) {
	return regular(filepath.Join(root.Name(), name), func() (*os.File, error) { return root.OpenFile(name, os.O_RDONLY|noWait, 0) })
}

func regular(full string, open func() (*os.File, error)) (*os.File, error) {
	var f *os.File
	err := process.Reading(full, func() (err error) {
		f, err = open()
		return err
	})
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "read", Path: full, Err: ErrNotRegular}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// ReadFile reads a regular file of at most limit bytes.
func ReadFile(name string, limit int64) ([]byte, error) {
	f, err := Open(name)
	if err != nil {
		return nil, err
	}
	return readAll(f, limit)
}

// ReadIn is ReadFile for a file below root, which it does not leave.
func ReadIn(root *os.Root, name string, limit int64) ([]byte, error) {
	f, err := OpenIn(root, name)
	if err != nil {
		return nil, err
	}
	return readAll(f, limit)
}

func readAll(f *os.File, limit int64) ([]byte, error) {
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	tooLarge := &fs.PathError{Op: "read", Path: f.Name(), Err: fmt.Errorf("%w (%d MB)", ErrTooLarge, info.Size()>>20)}
	if info.Size() > limit {
		return nil, tooLarge
	}
	b := make([]byte, 0, info.Size()+1)
	for {
		n, err := f.Read(b[len(b):cap(b)])
		b = b[:len(b)+n]
		switch {
		case int64(len(b)) > limit:
			return nil, tooLarge
		case errors.Is(err, io.EOF):
			return b, nil
		case err != nil:
			return nil, err
		case len(b) == cap(b):
			b = append(b, 0)[:len(b)]
		}
	}
}
