//go:build !linux

package volume

import (
	"os"
	"path/filepath"
	"runtime"
)

// Mounts lists where disks are, as far as the system tells.
func Mounts() (list []string) {
	if runtime.GOOS == "darwin" {
		list, _ = filepath.Glob("/Volumes/*")
	}
	for letter := 'C'; runtime.GOOS == "windows" && letter <= 'Z'; letter++ {
		if root := string(letter) + `:\`; exists(root) {
			list = append(list, root)
		}
	}
	return list
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
