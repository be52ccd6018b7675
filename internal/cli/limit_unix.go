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

// addressSpace returns how much memory this process may reserve, in bytes, after asking for all that it may have.
func addressSpace() uint64 {
	var limit syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_AS, &limit) != nil {
		return leastSpace
	}
	if limit.Cur < leastSpace && limit.Cur < limit.Max {
		limit.Cur = limit.Max
		_ = syscall.Setrlimit(syscall.RLIMIT_AS, &limit)
	}
	return limit.Cur
}
