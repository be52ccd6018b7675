//go:build !windows

package cli

func systemShell(line string) (string, []string) { return "/bin/sh", []string{"-c", line} }
