//go:build long && linux

package cli_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// figure reads a number out of docs/performance.md; the pattern captures it.
func figure(t *testing.T, pattern string) float64 {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("..", "..", "docs", "performance.md"))
	require.NoError(t, err)
	m := regexp.MustCompile(pattern).FindSubmatch(b)
	require.NotNil(t, m, pattern)
	n, err := strconv.ParseFloat(string(m[1]), 64)
	require.NoError(t, err)
	return n
}

// TestTheFiguresOfThePerformancePageHold: those that do not depend on the machine, with what they are
// allowed. scripts/bench --quick runs it.
func TestTheFiguresOfThePerformancePageHold(t *testing.T) {
	// The program, as a release has it.
	release := filepath.Join(t.TempDir(), "morvant")
	build := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags=-s -w -buildid= -X morvant/internal/cli.released=v1.0.0", "-o", release, "morvant")
	build.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS=linux", "GOARCH=amd64")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	info, err := os.Stat(release)
	require.NoError(t, err)
	says := figure(t, `the program: ([\d.]+) MB`)
	require.InDelta(t, says, float64(info.Size())/1e6, 0.05*says)
	require.Less(t, info.Size(), int64(40e6))

	// Memory, and what six builds take.
	w := newWorld(t)
	w.ok("add", "quay", w.live, "--scratch", "logs/**")
	peak := func(args ...string) {
		cmd := w.command(args...)
		require.Zero(t, w.finish(cmd).code, args)
		used := cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss / 1024
		require.Less(t, used, int64(256), "%v: MiB", args)
		t.Logf("%v: %d MiB", args, used)
	}
	total := int64(0)
	for _, label := range []string{"0.9.0", "1.0.0", "1.1.0", "1.1.1", "1.2.0", "1.3.0"} {
		w.ok("demo", "write", w.live, label, "--size", "400MB")
		peak("snapshot", label)
		total += int64(w.json(0, "builds")["builds"].([]any)[0].(map[string]any)["bytes"].(float64))
	}
	peak("verify", "1.3.0")
	peak("pin", "1.0.0", "--yes")
	store := sizeOf(t, filepath.Join(w.home, "store"))
	require.LessOrEqual(t, float64(store)/float64(total), 0.20, "of six builds' size")
	t.Logf("store: %.3f of six builds", float64(store)/float64(total))

	// A build with no change costs next to nothing.
	files := len(w.picture())
	w.ok("snapshot", "again")
	before := sizeOf(t, w.home)
	w.ok("snapshot", "once-more")
	require.Less(t, sizeOf(t, w.home)-before, int64(1000*files), "bytes for %d files", files)
}

// sizeOf adds up the files of a folder.
func sizeOf(t *testing.T, dir string) int64 {
	t.Helper()
	var n int64
	require.NoError(t, filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err == nil {
			n += info.Size()
		}
		return err
	}))
	return n
}
