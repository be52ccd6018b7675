package process

import (
	"os"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"
)

func in(dir string) ([]Running, error) {
	snapshot, err := windows.CreateToolhelp32Snapshot(windows.TH32CS_SNAPPROCESS, 0)
	if err != nil {
		return nil, os.NewSyscallError("CreateToolhelp32Snapshot", err)
	}
	defer windows.CloseHandle(snapshot)
	prefix := strings.ToLower(dir) + `\`
	var found []Running
	entry := windows.ProcessEntry32{Size: uint32(unsafe.Sizeof(windows.ProcessEntry32{}))}
	for err = windows.Process32First(snapshot, &entry); err == nil; err = windows.Process32Next(snapshot, &entry) {
		if int(entry.ProcessID) == os.Getpid() {
			continue
		}
		if exe := programOf(entry.ProcessID); strings.HasPrefix(strings.ToLower(exe), prefix) {
			found = append(found, Running{int(entry.ProcessID), exe})
		}
	}
	return found, nil
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
