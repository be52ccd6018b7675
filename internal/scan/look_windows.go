package scan

import (
	"errors"
	"io/fs"
	"math"
	"os"
	"path"
	"unsafe"

	"golang.org/x/sys/windows"

	"morvant/internal/volume"
)

const openFlags = 0

func look(root *os.Root, p string) (fs.FileMode, Stamp, error) {
	dir, err := root.Open(path.Dir(p))
	if err != nil {
		return 0, Stamp{}, err
	}
	defer dir.Close()
	mode, stamp, _, err := lookIn(root, dir, path.Base(p))
	return mode, stamp, err
}

// lookIn opens the file for its attributes only, which neither a program that has it
// open nor a virus scanner minds, and asks everything of that: a listing of the folder
// may be behind for files that are open or have several names.
func lookIn(_ *os.Root, dir *os.File, name string) (fs.FileMode, Stamp, int, error) {
	h, err := openIn(windows.Handle(dir.Fd()), name)
	if err != nil {
		return 0, Stamp{}, 0, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	var all fileAllInformation
	if err := all.of(h); err == nil && (all.Attributes&windows.FILE_ATTRIBUTE_REPARSE_POINT == 0 || !surrogate(tagOf(h))) {
		windows.CloseHandle(h)
		return all.mode(), all.stamp(), int(all.Links), nil
	}
	// What kind of link it is takes a second look.
	f := os.NewFile(uintptr(h), name)
	defer f.Close()
	mode, stamp, err := lookAt(f)
	return mode, stamp, 1, err
}

func lookAt(f *os.File) (fs.FileMode, Stamp, error) {
	info, err := f.Stat()
	if err != nil {
		return 0, Stamp{}, err
	}
	var all fileAllInformation
	if all.of(windows.Handle(f.Fd())) != nil {
		// A file system without ids and times of change.
		return info.Mode(), Stamp{Size: info.Size(), MTime: volume.Nanoseconds(info.ModTime())}, nil
	}
	if all.Attributes&windows.FILE_ATTRIBUTE_REPARSE_POINT != 0 && !surrogate(tagOf(windows.Handle(f.Fd()))) {
		return all.mode(), all.stamp(), nil
	}
	return info.Mode(), all.stamp(), nil
}

// surrogate reports whether a reparse tag makes a file stand for another one, as links
// and junctions do. All others are ordinary files and folders with something about them:
// most of them are kept elsewhere, and come here when they are read.
func surrogate(tag uint32) bool {
	const nameSurrogate = 0x2000_0000
	return tag&nameSurrogate != 0
}

// tagOf returns the reparse tag of an open file; one that cannot be told counts as a
// surrogate's.
func tagOf(h windows.Handle) uint32 {
	var info struct{ Attributes, Tag uint32 }
	if windows.GetFileInformationByHandleEx(h, windows.FileAttributeTagInfo, (*byte)(unsafe.Pointer(&info)), uint32(unsafe.Sizeof(info))) != nil {
		return 0xFFFF_FFFF
	}
	return info.Tag
}

// openIn opens what has a name in a folder, a link itself and not what it leads to.
func openIn(dir windows.Handle, name string) (windows.Handle, error) {
	n, err := windows.NewNTUnicodeString(name)
	if err != nil {
		return 0, err
	}
	attributes := windows.OBJECT_ATTRIBUTES{RootDirectory: dir, ObjectName: n, Attributes: windows.OBJ_CASE_INSENSITIVE}
	attributes.Length = uint32(unsafe.Sizeof(attributes))
	var h windows.Handle
	var status windows.IO_STATUS_BLOCK
	err = windows.NtCreateFile(&h, windows.FILE_READ_ATTRIBUTES|windows.SYNCHRONIZE, &attributes, &status, nil, 0,
		windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, windows.FILE_OPEN,
		windows.FILE_OPEN_REPARSE_POINT|windows.FILE_OPEN_FOR_BACKUP_INTENT|windows.FILE_SYNCHRONOUS_IO_NONALERT, 0, 0)
	if status, ok := err.(windows.NTStatus); ok {
		return 0, status.Errno()
	}
	return h, err
}

// fileAllInformation is FILE_ALL_INFORMATION with room for the beginning of the name,
// which is not asked for. Times are in 100 ns since 1601; a time or an index of 0 is one
// that the file system does not have.
type fileAllInformation struct {
	Created, Accessed, Written, Changed int64
	Attributes                          uint32
	_                                   uint32
	Allocation, Size                    int64
	Links                               uint32
	DeletePending, Directory            bool
	_                                   [2]byte
	Index                               uint64
	EaSize, Access                      uint32
	Position                            int64
	Mode, Alignment, NameLength         uint32
	Name                                [2]uint16
}

// fileAllInformationClass is FileAllInformation of FILE_INFORMATION_CLASS.
const fileAllInformationClass = 18

// of asks for all that is to be known of an open file at once.
func (a *fileAllInformation) of(h windows.Handle) error {
	var status windows.IO_STATUS_BLOCK
	err := windows.NtQueryInformationFile(h, &status, (*byte)(unsafe.Pointer(a)), uint32(unsafe.Sizeof(*a)), fileAllInformationClass)
	if errors.Is(err, windows.STATUS_BUFFER_OVERFLOW) { // of the name
		return nil
	}
	return err
}

func (a *fileAllInformation) mode() fs.FileMode {
	mode := fs.FileMode(0o666)
	if a.Attributes&windows.FILE_ATTRIBUTE_READONLY != 0 {
		mode = 0o444
	}
	const elsewhere = windows.FILE_ATTRIBUTE_OFFLINE | windows.FILE_ATTRIBUTE_RECALL_ON_OPEN | windows.FILE_ATTRIBUTE_RECALL_ON_DATA_ACCESS
	if a.Attributes&windows.FILE_ATTRIBUTE_DIRECTORY != 0 {
		mode |= fs.ModeDir | 0o111
	} else if a.Attributes&elsewhere != 0 {
		mode |= away
	}
	return mode
}

// stamp leaves the device out: what is compared lies in one folder.
func (a *fileAllInformation) stamp() Stamp {
	s := Stamp{Size: a.Size, MTime: sinceEpoch(a.Written), Ino: a.Index}
	if a.Changed != 0 {
		s.CTime = sinceEpoch(a.Changed)
	}
	return s
}

// sinceEpoch returns nanoseconds since 1970; what they cannot tell as the first or last
// that they can.
func sinceEpoch(t int64) int64 {
	const until1970 = 116_444_736_000_000_000
	t -= until1970
	switch {
	case t <= math.MinInt64/100:
		return math.MinInt64 + 1
	case t >= math.MaxInt64/100:
		return math.MaxInt64
	}
	return t * 100
}

// settle does nothing: flushing takes the right to write here.
func settle(*os.File) error { return nil }
