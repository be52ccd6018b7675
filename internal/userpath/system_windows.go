package userpath

import (
	"os"
	"path/filepath"
)

// systemFolders are full of what the system needs.
func systemFolders() []string { return []string{os.Getenv("SystemRoot"), os.Getenv("windir")} }

// sharedFolders hold what belongs to many programs or users: a game may lie within.
func sharedFolders() []string {
	list := []string{}
	for _, name := range []string{"ProgramFiles", "ProgramFiles(x86)", "ProgramW6432", "ProgramData", "PUBLIC", "USERPROFILE"} {
		if dir := os.Getenv(name); dir != "" {
			list = append(list, dir)
		}
	}
	if dir := os.Getenv("USERPROFILE"); dir != "" {
		list = append(list, filepath.Dir(dir))
	}
	return list
}
