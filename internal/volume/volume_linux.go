package volume

import (
	"os"

	"golang.org/x/sys/unix"
)

func syncAll(dir *os.File) (bool, error) { return true, unix.Syncfs(int(dir.Fd())) }
