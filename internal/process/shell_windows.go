package process

import (
	"context"
	"os/exec"
	"syscall"
)

// shellCommand hands the line to cmd as it stands: cmd has rules of its own about
// quotes, and takes everything between the outer two.
func shellCommand(ctx context.Context, line string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "cmd")
	cmd.SysProcAttr = &syscall.SysProcAttr{CmdLine: `cmd /S /C "` + line + `"`}
	return cmd
}
