//go:build !windows

package adapter

import (
	"io/fs"
	"os/exec"
	"syscall"
)

// group is the program and everything that it has started.
type group struct{ id int }

func startGroup(cmd *exec.Cmd) (*group, error) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return &group{cmd.Process.Pid}, nil
}

func (g *group) kill() { _ = syscall.Kill(-g.id, syscall.SIGKILL) } // none may be left

func (g *group) close() error { return nil }

func command(program string) *exec.Cmd { return exec.Command(program) }

func endings() []string { return []string{""} }

func executable(info fs.FileInfo) bool { return info.Mode().Perm()&0o111 != 0 }
