package scan

import (
	"encoding/binary"
	"io/fs"
	"os"
	"unicode/utf16"
	"unsafe"

	"golang.org/x/sys/windows"
)

const openFlags = 0

// stampOf has no file id and no time of any change: a file's own information does not
// carry them here. See stampOfFile and folderStamps.
func stampOf(info fs.FileInfo) Stamp {
	return Stamp{Size: info.Size(), MTime: info.ModTime().UnixNano()}
}

// stampOfFile asks an open file for what stampOf cannot tell.
func stampOfFile(f *os.File, info fs.FileInfo) Stamp {
	s := stampOf(info)
	var basic struct {
		CreationTime, LastAccessTime, LastWriteTime, ChangeTime windows.Filetime
		FileAttributes                                          uint32
		_                                                       uint32
	}
	h := windows.Handle(f.Fd())
	if windows.GetFileInformationByHandleEx(h, windows.FileBasicInfo, (*byte)(unsafe.Pointer(&basic)), uint32(unsafe.Sizeof(basic))) == nil {
		s.CTime = basic.ChangeTime.Nanoseconds()
	}
	var id windows.ByHandleFileInformation
	if windows.GetFileInformationByHandle(h, &id) == nil {
		s.Ino = uint64(id.FileIndexHigh)<<32 | uint64(id.FileIndexLow)
	}
	return s
}

// Where the fields stand that folderStamps reads, in FILE_ID_BOTH_DIR_INFO.
const (
	infoNext       = 0
	infoChangeTime = 32
	infoNameLength = 60
	infoFileID     = 96
	infoName       = 104
)

// folderStamps asks an open folder, in one go, for the ids of its files and the times
// of any change of theirs. Where the system does not tell, the map is empty.
func folderStamps(f *os.File) map[string]Stamp {
	list := make(map[string]Stamp)
	buf := make([]byte, 64<<10)
	for {
		if windows.GetFileInformationByHandleEx(windows.Handle(f.Fd()), windows.FileIdBothDirectoryInfo, &buf[0], uint32(len(buf))) != nil {
			return list
		}
		for at := 0; ; {
			e := buf[at:]
			n := int(binary.LittleEndian.Uint32(e[infoNameLength:]))
			if infoName+n > len(e) {
				return list
			}
			name := make([]uint16, n/2)
			for i := range name {
				name[i] = binary.LittleEndian.Uint16(e[infoName+2*i:])
			}
			t := binary.LittleEndian.Uint64(e[infoChangeTime:])
			changed := windows.Filetime{LowDateTime: uint32(t), HighDateTime: uint32(t >> 32)}
			list[string(utf16.Decode(name))] = Stamp{CTime: changed.Nanoseconds(), Ino: binary.LittleEndian.Uint64(e[infoFileID:])}
			next := int(binary.LittleEndian.Uint32(e[infoNext:]))
			if next == 0 {
				break
			}
			at += next
		}
	}
}
