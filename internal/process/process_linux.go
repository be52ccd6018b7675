package process

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

func in(dir string) ([]Running, error) {
	dir, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil, err
	}
	prefix := dir + string(filepath.Separator)
	var found []Running
	err = others(func(r Running) {
		if strings.HasPrefix(r.Path, prefix) {
			found = append(found, r)
		}
	})
	return found, err
}

// others calls f for every other program whose file may be known: one that has ended meanwhile
// or belongs to somebody else has no readable link, and is passed over.
func others(f func(Running)) error {
	list, err := os.ReadDir("/proc")
	if err != nil {
		return err
	}
	for _, e := range list {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		if exe, err := os.Readlink(filepath.Join("/proc", e.Name(), "exe")); err == nil {
			f(Running{pid, strings.TrimSuffix(exe, " (deleted)")})
		}
	}
	return nil
}

func writing(dir string, _ []string) ([]Open, error) {
	dir, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil, err
	}
	prefix := dir + string(filepath.Separator)
	var found []Open
	err = others(func(r Running) {
		proc := filepath.Join("/proc", strconv.Itoa(r.PID))
		list, err := os.ReadDir(filepath.Join(proc, "fd"))
		if err != nil {
			return
		}
		for _, e := range list {
			file, err := os.Readlink(filepath.Join(proc, "fd", e.Name()))
			if err == nil && strings.HasPrefix(file, prefix) && opensToWrite(filepath.Join(proc, "fdinfo", e.Name())) {
				found = append(found, Open{file, r})
			}
		}
	})
	return found, err
}

// opensToWrite reads of a descriptor whether it was opened to write: a line "flags:", octal.
func opensToWrite(info string) bool {
	f, err := os.Open(info)
	if err != nil {
		return false
	}
	defer f.Close()
	var pos, flags int64
	n, err := fmt.Fscanf(f, "pos: %d\nflags: %o\n", &pos, &flags)
	return n == 2 && err == nil && flags&unix.O_ACCMODE != unix.O_RDONLY
}
