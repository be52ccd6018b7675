// Package process finds running programs, and starts command lines.
package process

import (
	"context"
	"os/exec"
)

// Running is a program that runs from inside a folder.
type Running struct {
	PID  int
	Path string // of the program's file
}

// In returns the programs that run from files below dir, as far as this user may
// see them. Where the system offers no way to ask, the list is empty.
func In(dir string) ([]Running, error) { return in(dir) }

// Shell returns a command that runs a line the way the player's system does.
func Shell(ctx context.Context, line string) *exec.Cmd {
	name, args := shell(line)
	return exec.CommandContext(ctx, name, args...)
}
