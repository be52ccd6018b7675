package app

import (
	"fmt"
)

// Exit codes.
const (
	ExitDone        = 0
	ExitFailed      = 1
	ExitUsage       = 2
	ExitDifferent   = 3
	ExitUnanswered  = 4
	ExitInterrupted = 130
)

// ExitCode passes on how a program ended.
type ExitCode struct{ Code int }

func (e *ExitCode) Error() string { return fmt.Sprintf("the game ended with exit code %d", e.Code) }
