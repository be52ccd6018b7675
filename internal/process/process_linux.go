package process

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

func in(dir string) ([]Running, error) {
	dir, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil, err
	}
	list, err := os.ReadDir("/proc")
	if err != nil {
		return nil, err
	}
	var found []Running
	for _, e := range list {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		// A program that ended meanwhile or belongs to somebody else has no
		// readable link, and is passed over.
		exe, err := os.Readlink(filepath.Join("/proc", e.Name(), "exe"))
		if err != nil {
			continue
		}
		exe = strings.TrimSuffix(exe, " (deleted)")
		if strings.HasPrefix(exe, dir+string(filepath.Separator)) {
			found = append(found, Running{pid, exe})
		}
	}
	return found, nil
}
