// Package reflink shares file content between two files of one file system, so
// that a copy takes no space and no time. Where the system cannot, it says so
// and the caller copies.
package reflink

import (
	"errors"
	"os"
	"runtime"
)

// ErrUnsupported means that these two files cannot share content.
var ErrUnsupported = errors.New("file content cannot be shared here")

// Block is the alignment, in bytes, of the ranges that Range can share on every
// file system in use.
const Block = 4096

// Ranges says whether parts of files can be shared on this system at all.
const Ranges = runtime.GOOS != "darwin"

// File makes the file name below root, new or in place of an old one, share all content
// of src, and returns it open for reading and writing.
func File(root *os.Root, name string, src *os.File) (*os.File, error) {
	return cloneFile(root, name, src)
}

// Range makes dst share n bytes of src. Offsets and n must be multiples of Block,
// but for a range that ends where src ends.
func Range(dst *os.File, dstOffset int64, src *os.File, srcOffset, n int64) error {
	return cloneRange(dst, dstOffset, src, srcOffset, n)
}

// create makes an empty file for the systems that share content into an open one.
func create(root *os.Root, name string, fill func(f *os.File) error) (*os.File, error) {
	f, err := root.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return nil, err
	}
	if err := fill(f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Shared returns how many bytes of a file's space on disk it shares with others.
func Shared(f *os.File) (int64, error) { return shared(f) }
