package process

import (
	"context"
	"os/exec"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/windows"
)

// shellCommand hands the line to cmd as it stands: cmd has rules of its own about
// quotes, and takes everything between the outer two. It is the system's cmd,
// whatever PATH says.
func shellCommand(ctx context.Context, line string) *exec.Cmd {
	shell := "cmd"
	if system, err := windows.GetSystemDirectory(); err == nil {
		shell = filepath.Join(system, "cmd.exe")
	}
	cmd := exec.CommandContext(ctx, shell)
	cmd.SysProcAttr = &syscall.SysProcAttr{CmdLine: `cmd /S /C "` + line + `"`}
	return cmd
}
