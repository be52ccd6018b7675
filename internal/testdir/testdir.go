// Package testdir lets tests put their temporary folders into memory. Nothing else uses it.
package testdir

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"morvant/internal/volume"
)

// shared is where Linux has a folder in memory.
const shared = "/dev/shm"

const prefix = "morvant-tests-"

// sweep removes what runs that were killed have left: no run takes that long.
func sweep() {
	left, _ := filepath.Glob(filepath.Join(shared, prefix+"*"))
	for _, dir := range left {
		if info, err := os.Stat(dir); err == nil && time.Since(info.ModTime()) > 2*time.Hour {
			os.RemoveAll(dir)
		}
	}
}

// InMemory lets tests put their temporary folders into memory, where the system has a folder
// for that with room to spare, and returns what ends that. Most of what a test of small files
// waits for is a disk that really writes them.
func InMemory() (end func(), err error) {
	const enough = 6 << 30
	if free, err := volume.Free(shared); err != nil || free < enough || os.Getenv("TMPDIR") != "" {
		return func() {}, nil
	}
	sweep()
	dir, err := os.MkdirTemp(shared, prefix)
	if err != nil {
		return func() {}, nil
	}
	if err := os.Chmod(dir, 0o755); err != nil { // some tests are other users
		return nil, err
	}
	return func() {
		os.Unsetenv("TMPDIR")
		os.RemoveAll(dir)
	}, os.Setenv("TMPDIR", dir)
}

// Main runs the tests of a package in memory, and ends the process.
func Main(m *testing.M) {
	end, err := InMemory()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	end()
	os.Exit(code)
}
