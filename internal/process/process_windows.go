package process

import (
	"errors"
	"os"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"
)

func in(dir string) ([]Running, error) {
	prefix := strings.ToLower(dir) + `\`
	var found []Running
	err := others(func(r Running) {
		if strings.HasPrefix(strings.ToLower(r.Path), prefix) {
			found = append(found, r)
		}
	})
	return found, err
}

// others calls f for every other program whose file may be known.
func others(f func(Running)) error {
	snapshot, err := windows.CreateToolhelp32Snapshot(windows.TH32CS_SNAPPROCESS, 0)
	if err != nil {
		return os.NewSyscallError("CreateToolhelp32Snapshot", err)
	}
	defer windows.CloseHandle(snapshot)
	entry := windows.ProcessEntry32{Size: uint32(unsafe.Sizeof(windows.ProcessEntry32{}))}
	for err = windows.Process32First(snapshot, &entry); err == nil; err = windows.Process32Next(snapshot, &entry) {
		if int(entry.ProcessID) == os.Getpid() {
			continue
		}
		if exe := programOf(entry.ProcessID); exe != "" {
			f(Running{int(entry.ProcessID), exe})
		}
	}
	return nil
}

// programOf returns the path of a process's program, empty if it may not be asked.
func programOf(pid uint32) string {
	p, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, pid)
	if err != nil {
		return ""
	}
	defer windows.CloseHandle(p)
	buf := make([]uint16, windows.MAX_LONG_PATH)
	n := uint32(len(buf))
	if err := windows.QueryFullProcessImageName(p, 0, &buf[0], &n); err != nil {
		return ""
	}
	return windows.UTF16ToString(buf[:n])
}

// writing asks about each file for a way to read it that bears no writer beside it.
func writing(_ string, likely []string) ([]Open, error) {
	var found []Open
	for _, file := range likely {
		name, err := windows.UTF16PtrFromString(file)
		if err != nil {
			continue
		}
		h, err := windows.CreateFile(name, windows.GENERIC_READ, windows.FILE_SHARE_READ|windows.FILE_SHARE_DELETE, nil, windows.OPEN_EXISTING, windows.FILE_ATTRIBUTE_NORMAL, 0)
		switch {
		case err == nil:
			windows.CloseHandle(h)
		case errors.Is(err, windows.ERROR_SHARING_VIOLATION):
			o := Open{File: file}
			if by := holders(file); len(by) > 0 {
				o.By = by[0]
			}
			found = append(found, o)
		}
	}
	return found, nil
}
