//go:build unix

package cli

import (
	"syscall"
)

// openFiles returns how many files this process may have open at once.
func openFiles() uint64 {
	var limit syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit) != nil {
		return leastFiles
	}
	return limit.Cur
}
