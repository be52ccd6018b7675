package process

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

func in(dir string) ([]Running, error) {
	dir, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil, err
	}
	list, err := unix.SysctlKinfoProcSlice("kern.proc.all")
	if err != nil {
		return nil, os.NewSyscallError("sysctl kern.proc.all", err)
	}
	prefix := strings.ToLower(dir) + "/"
	var found []Running
	for i := range list {
		pid := int(list[i].Proc.P_pid)
		if pid == os.Getpid() {
			continue
		}
		if exe := programOf(pid); strings.HasPrefix(strings.ToLower(exe), prefix) {
			found = append(found, Running{pid, exe})
		}
	}
	return found, nil
}

// programOf returns the path of a process's program, empty if it may not be asked: of
// what kern.procargs2 tells, the number of arguments (4 bytes) comes first, then the
// path, ended by a zero byte.
func programOf(pid int) string {
	b, err := unix.SysctlRaw("kern.procargs2", pid)
	if err != nil || len(b) < binary.Size(uint32(0)) {
		return ""
	}
	path, _, _ := bytes.Cut(b[4:], []byte{0})
	exe := string(path)
	if real, err := filepath.EvalSymlinks(exe); err == nil {
		return real
	}
	return exe
}
