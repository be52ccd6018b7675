package reflink

import (
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"
)

func cloneFile(root *os.Root, name string, src *os.File) (*os.File, error) {
	return create(root, name, func(f *os.File) error {
		return unsupported(unix.IoctlFileClone(int(f.Fd()), int(src.Fd())))
	})
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

// The ioctl FS_IOC_FIEMAP and its structures, from linux/fiemap.h.
const (
	fiemapCall    = 0xc020660b
	fiemapLast    = 0x1
	fiemapShared  = 0x2000
	extentsAtOnce = 128
)

type fiemapExtent struct {
	Logical, Physical, Length uint64
	_                         [2]uint64
	Flags                     uint32
	_                         [3]uint32
}

type fiemap struct {
	Start, Length uint64
	Flags         uint32
	Mapped        uint32
	Count         uint32
	_             uint32
	Extents       [extentsAtOnce]fiemapExtent
}

func shared(f *os.File) (int64, error) {
	var n int64
	m := fiemap{Length: ^uint64(0), Count: extentsAtOnce}
	for {
		m.Mapped = 0
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), fiemapCall, uintptr(unsafe.Pointer(&m))); errno != 0 {
			return 0, unsupported(errno)
		}
		for _, e := range m.Extents[:m.Mapped] {
			if e.Flags&fiemapShared != 0 {
				n += int64(e.Length)
			}
			if e.Flags&fiemapLast != 0 {
				return n, nil
			}
			m.Start = e.Logical + e.Length
		}
		if m.Mapped == 0 {
			return n, nil
		}
	}
}
