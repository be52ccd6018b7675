package process

import (
	"bytes"
	"io"
	"os"
	"runtime"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// becomeReaper makes this process the parent of whatever its descendants leave behind.
func becomeReaper() {
	runtime.LockOSThread() // the death of the thread that starts a program counts as its parent's
	_ = unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
}

func attachedToKeeper() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
}

// endOrphans ends all children of this process, and theirs, which then are its own.
func endOrphans() {
	for until := time.Now().Add(5 * time.Second); time.Now().Before(until); {
		list := childrenOf(os.Getpid())
		if len(list) == 0 {
			return
		}
		for _, pid := range list {
			_ = syscall.Kill(pid, syscall.SIGKILL)
			var status syscall.WaitStatus
			_, _ = syscall.Wait4(pid, &status, syscall.WNOHANG, nil)
		}
	}
}

// childrenOf lists the processes that have a parent, as the system tells them.
func childrenOf(parent int) []int {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var list []int
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		f, err := os.Open("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		stat, err := io.ReadAll(f)
		f.Close()
		if err != nil || !bytes.ContainsRune(stat, ')') {
			continue
		}
		// The name, in parentheses, may hold anything; state and parent follow.
		fields := bytes.Fields(stat[bytes.LastIndexByte(stat, ')')+1:])
		if len(fields) > 1 && string(fields[1]) == strconv.Itoa(parent) && string(fields[0]) != "Z" {
			list = append(list, pid)
		}
	}
	return list
}

// Self is this program, for it to be started once more.
func Self() string {
	const self = "/proc/self/exe" // also where its file has been replaced
	if _, err := os.Stat(self); err == nil {
		return self
	}
	name, _ := os.Executable()
	return name
}
