//go:build !windows

package process

func shell(line string) (string, []string) { return "/bin/sh", []string{"-c", line} }
