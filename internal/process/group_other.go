//go:build unix && !linux

package process

import (
	"os"
	"syscall"
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
