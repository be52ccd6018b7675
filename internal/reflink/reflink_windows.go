package reflink

import (
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
)

// duplicateExtents is FSCTL_DUPLICATE_EXTENTS_TO_FILE, which ReFS has.
const duplicateExtents = 0x98344

// most is how many bytes one call may share.
const most = 1 << 30

type duplicateExtentsData struct {
	File           windows.Handle
	Source, Target int64
	Bytes          int64
}

func cloneFile(root *os.Root, name string, src *os.File) (*os.File, error) {
	return create(root, name, func(f *os.File) error {
		info, err := src.Stat()
		if err == nil {
			err = f.Truncate(info.Size())
		}
		if err != nil {
			return fmt.Errorf("%w: %v", ErrUnsupported, err)
		}
		return cloneRange(f, 0, src, 0, info.Size())
	})
}

func cloneRange(dst *os.File, dstOffset int64, src *os.File, srcOffset, n int64) error {
	for n > 0 {
		part := min(n, most)
		// The end of a file is shared up to the end of its block.
		d := duplicateExtentsData{windows.Handle(src.Fd()), srcOffset, dstOffset, (part + Block - 1) / Block * Block}
		var returned uint32
		err := windows.DeviceIoControl(windows.Handle(dst.Fd()), duplicateExtents, (*byte)(unsafe.Pointer(&d)), uint32(unsafe.Sizeof(d)), nil, 0, &returned, nil)
		if err != nil {
			return fmt.Errorf("%w: %v", ErrUnsupported, err)
		}
		dstOffset, srcOffset, n = dstOffset+part, srcOffset+part, n-part
	}
	return nil
}

func shared(*os.File) (int64, error) { return 0, ErrUnsupported }
