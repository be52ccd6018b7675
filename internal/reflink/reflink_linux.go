package reflink

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

func cloneFile(dst, src *os.File) error {
	return unsupported(unix.IoctlFileClone(int(dst.Fd()), int(src.Fd())))
}

func cloneRange(dst *os.File, dstOffset int64, src *os.File, srcOffset, n int64) error {
	return unsupported(unix.IoctlFileCloneRange(int(dst.Fd()), &unix.FileCloneRange{
		Src_fd:      int64(src.Fd()),
		Src_offset:  uint64(srcOffset),
		Src_length:  uint64(n),
		Dest_offset: uint64(dstOffset),
	}))
}

// unsupported marks every refusal: no support, another file system, alignment.
// A copy is right after each of them, and shows any other trouble by itself.
func unsupported(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%w: %v", ErrUnsupported, err)
}
