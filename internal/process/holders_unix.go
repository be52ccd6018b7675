//go:build !windows

package process

// transient is never true: here a file that is open can be renamed and removed.
func transient(error) bool { return false }

func holders(string) []Running { return nil }
