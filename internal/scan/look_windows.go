package scan

import (
	"io/fs"
	"os"
	"path"
	"unsafe"

	"golang.org/x/sys/windows"
)

const openFlags = 0

func look(root *os.Root, p string) (fs.FileInfo, Stamp, error) {
	dir, err := root.Open(path.Dir(p))
	if err != nil {
		return nil, Stamp{}, err
	}
	defer dir.Close()
	return lookIn(root, dir, path.Base(p))
}

// lookIn opens the file for its attributes only, which neither a program that has it
// open nor a virus scanner minds, and asks everything of that: a listing of the folder
// may be behind for files that are open or have several names.
func lookIn(_ *os.Root, dir *os.File, name string) (fs.FileInfo, Stamp, error) {
	h, err := openIn(windows.Handle(dir.Fd()), name)
	if err != nil {
		return nil, Stamp{}, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	f := os.NewFile(uintptr(h), name)
	defer f.Close()
	return lookAt(f)
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

// fileBasicInfo is FILE_BASIC_INFO. The times are in 100 ns since 1601.
type fileBasicInfo struct {
	Created, Accessed, Written, Changed int64
	Attributes                          uint32
	_                                   uint32
}

// lookAt takes a file system without a time of change or ids as it is: then they are 0.
func lookAt(f *os.File) (fs.FileInfo, Stamp, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, Stamp{}, err
	}
	s := Stamp{Size: info.Size(), MTime: info.ModTime().UnixNano()}
	h := windows.Handle(f.Fd())
	var ids windows.ByHandleFileInformation
	if windows.GetFileInformationByHandle(h, &ids) == nil {
		s.Dev, s.Ino = uint64(ids.VolumeSerialNumber), uint64(ids.FileIndexHigh)<<32|uint64(ids.FileIndexLow)
	}
	var basic fileBasicInfo
	if windows.GetFileInformationByHandleEx(h, windows.FileBasicInfo, (*byte)(unsafe.Pointer(&basic)), uint32(unsafe.Sizeof(basic))) == nil && basic.Changed != 0 {
		changed := windows.Filetime{LowDateTime: uint32(basic.Changed), HighDateTime: uint32(basic.Changed >> 32)}
		s.CTime = changed.Nanoseconds()
	}
	return info, s, nil
}
