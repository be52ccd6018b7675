// Package reflink shares file content between two files of one file system, so
// that a copy takes no space and no time. Where the system cannot, it says so
// and the caller copies.
package reflink

import (
	"errors"
	"os"
)

// ErrUnsupported means that these two files cannot share content.
var ErrUnsupported = errors.New("file content cannot be shared here")

// Block is the alignment, in bytes, of the ranges that Range can share on every
// file system in use.
const Block = 4096

// File makes dst, which must be empty, share all content of src.
func File(dst, src *os.File) error { return cloneFile(dst, src) }

// Range makes dst share n bytes of src. Offsets and n must be multiples of Block,
// but for a range that ends where src ends.
func Range(dst *os.File, dstOffset int64, src *os.File, srcOffset, n int64) error {
	return cloneRange(dst, dstOffset, src, srcOffset, n)
}

// Shared returns how many bytes of a file's space on disk it shares with others.
func Shared(f *os.File) (int64, error) { return shared(f) }
