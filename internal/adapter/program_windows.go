package adapter

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// command starts a script by the program for it: Windows itself starts .exe and .cmd alone.
func command(program string) *exec.Cmd {
	if strings.EqualFold(filepath.Ext(program), ".py") {
		for _, name := range []string{"py.exe", "python.exe", "python3.exe"} {
			if python, err := exec.LookPath(name); err == nil {
				return exec.Command(python, program)
			}
		}
	}
	return exec.Command(program)
}

func endings() []string {
	list := filepath.SplitList(os.Getenv("PATHEXT"))
	if len(list) == 0 {
		list = []string{".exe", ".cmd", ".bat"}
	}
	return append(list, ".py")
}

func executable(fs.FileInfo) bool { return true }
