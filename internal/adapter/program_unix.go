//go:build !windows

package adapter

import (
	"io/fs"
	"os/exec"
)

func command(program string) *exec.Cmd { return exec.Command(program) }

func endings() []string { return []string{""} }

func executable(info fs.FileInfo) bool { return info.Mode().Perm()&0o111 != 0 }
