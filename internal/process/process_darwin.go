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
	prefix := strings.ToLower(dir) + "/"
	var found []Running
	err = others(func(r Running) {
		if strings.HasPrefix(strings.ToLower(r.Path), prefix) {
			found = append(found, r)
		}
	})
	return found, err
}

// others calls f for every other program whose file may be known.
func others(f func(Running)) error {
	list, err := unix.SysctlKinfoProcSlice("kern.proc.all")
	if err != nil {
		return os.NewSyscallError("sysctl kern.proc.all", err)
	}
	for i := range list {
		pid := int(list[i].Proc.P_pid)
		if pid == os.Getpid() {
			continue
		}
		if exe := programOf(pid); exe != "" {
			f(Running{pid, exe})
		}
	}
	return nil
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

// writing finds nothing: without rights of an administrator the system does not tell.
func writing(string, []string) ([]Open, error) { return nil, nil }
