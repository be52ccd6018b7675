// Package process finds running programs.
package process

// Running is a program that runs from inside a folder.
type Running struct {
	PID  int
	Path string // of the program's file
}

// In returns the programs that run from files below dir, as far as this user may
// see them. Where the system offers no way to ask, the list is empty.
func In(dir string) ([]Running, error) { return in(dir) }
