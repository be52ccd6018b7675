//go:build unix

package game

import (
	"errors"
	"syscall"
)

// alive reports whether a process of this computer still runs.
func alive(pid int) bool {
	err := syscall.Kill(pid, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
