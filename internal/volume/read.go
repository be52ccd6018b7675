package volume

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/gofrs/flock"

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

// OpenNamed is Open for a file that the player names. What a shell puts in its place, /dev/stdin and /dev/fd/N, may be a
// pipe; any other pipe, device or socket is ErrNotRegular.
func OpenNamed(name string) (*os.File, error) {
	for _, prefix := range []string{"/dev/fd/", "/proc/self/fd/"} {
		if n, ok := strings.CutPrefix(name, prefix); ok && n != "" && strings.Trim(n, "0123456789") == "" {
			return os.Open(name)
		}
	}
	if name == "/dev/stdin" {
		return os.Open(name)
	}
	return Open(name)
}

// WriteNamed writes a file that the player names: a new one, or over one that is there. What is no regular file is
// ErrNotRegular.
func WriteNamed(name string, content []byte, over bool) error {
	flags := os.O_WRONLY | os.O_CREATE | noWait
	if over {
		flags |= os.O_TRUNC
	} else {
		flags |= os.O_EXCL
	}
	if info, err := os.Stat(name); err == nil && over && !info.Mode().IsRegular() {
		return &fs.PathError{Op: "write", Path: name, Err: ErrNotRegular}
	}
	f, err := os.OpenFile(name, flags, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Close())
}

// NewLock returns the lock that a file is. No link is followed to it, and it never waits for the other end of a pipe:
// whatever is no regular file there, which somebody may have put there, is ErrNotRegular.
func NewLock(file string) (*flock.Flock, error) {
	if info, err := os.Lstat(file); err == nil && !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "lock", Path: file, Err: ErrNotRegular}
	}
	return flock.New(file, flock.SetFlag(os.O_CREATE|os.O_RDONLY|noFollow|noWait)), nil
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
