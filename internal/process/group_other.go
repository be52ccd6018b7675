//go:build unix && !linux

package process

import (
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// becomeReaper does nothing: here, what leaves its process group outlives it.
func becomeReaper() {}

func attachedToKeeper() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }

func endOrphans() {}

// Self is this program, for it to be started once more.
func Self() string {
	name, _ := os.Executable()
	return name
}

// limit bounds the memory that this process may take, in bytes, as far as the system does that, and lets it write no file.
func limit(memory int64) {
	set := func(what int, n uint64) { _ = unix.Setrlimit(what, &unix.Rlimit{Cur: n, Max: n}) }
	set(unix.RLIMIT_DATA, uint64(memory))
	set(unix.RLIMIT_FSIZE, 0)
	set(unix.RLIMIT_CORE, 0)
}
