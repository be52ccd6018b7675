package cli_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// asPlayer makes a world whose commands are run by a user who is not the administrator, and to whom all of it
// belongs. go on with what it returns.
func asPlayer(t *testing.T) (w *world, run func(args ...string) result) {
	w = newWorld(t)
	if os.Geteuid() != 0 {
		return w, func(args ...string) result { return w.run(args...) }
	}
	const player = 65534
	for dir := w.dir; dir != filepath.Dir(os.TempDir()) && len(dir) > 1; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		require.NoError(t, err)
		require.NoError(t, os.Chmod(dir, info.Mode().Perm()|0o055))
		if dir == os.TempDir() {
			break
		}
	}
	own := filepath.Join(w.dir, "morvant")
	out, err := exec.Command("cp", program, own).CombinedOutput()
	require.NoError(t, err, string(out))
	return w, func(args ...string) result {
		out, err := exec.Command("chown", "-R", strconv.Itoa(player), w.dir).CombinedOutput()
		require.NoError(t, err, string(out))
		cmd := w.command(args...)
		cmd.Path = own
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: player, Gid: player, NoSetGroups: true}}
		return w.finish(cmd)
	}
}

func TestChangesWorkThroughReadOnlyFolders(t *testing.T) {
	t.Parallel()
	w, run := asPlayer(t)
	ok := func(args ...string) result {
		t.Helper()
		r := run(args...)
		require.Equal(t, 0, r.code, "%v: %s%s", args, r.out, r.err)
		return r
	}
	mode := func(p string) fs.FileMode {
		info, err := os.Stat(w.path(p))
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	w.write("data/a.pak", "a")
	w.write("a.txt", "a")
	ok("add", "quay", w.live)
	ok("snapshot", "1")
	ok("pin", "1", "--yes")
	w.write("Extra/deep/x.txt", "x")
	w.write("data/extra.pak", "extra")
	for _, dir := range []string{"Extra/deep", "Extra", "data"} {
		require.NoError(t, os.Chmod(w.path(dir), 0o555))
	}
	t.Cleanup(func() {
		for _, dir := range []string{"Extra", "Extra/deep", "data"} {
			_ = os.Chmod(w.path(dir), 0o755)
		}
	})
	ok("pin", "1", "--clean", "--yes")
	require.NoFileExists(t, w.path("Extra/deep/x.txt"))
	require.NoDirExists(t, w.path("Extra"))
	require.NoFileExists(t, w.path("data/extra.pak"))
	require.EqualValues(t, 0o555, mode("data"), "it is read-only again")
	ok("undo", "--yes")
	require.Equal(t, "x", w.read("Extra/deep/x.txt"))
	require.EqualValues(t, 0o555, mode("Extra/deep"))
	require.EqualValues(t, 0o555, mode("Extra"))
	require.EqualValues(t, 0o555, mode("data"))
	ok("verify")
	// A file that changed in one is brought back, too.
	require.NoError(t, os.WriteFile(w.path("data/a.pak"), []byte("changed"), 0o644))
	ok("verify", "--repair", "--yes")
	require.Equal(t, "a", w.read("data/a.pak"))
	require.EqualValues(t, 0o555, mode("data"))

	// What a build says of a folder's mode counts, though the folder was opened for the change.
	require.NoError(t, os.Chmod(w.path("data"), 0o755))
	w.write("data/b.pak", "b")
	ok("snapshot", "2")
	require.NoError(t, os.Remove(w.path("data/b.pak")))
	require.NoError(t, os.Chmod(w.path("data"), 0o555))
	ok("pin", "2", "--exact", "--yes")
	require.Equal(t, "b", w.read("data/b.pak"))
	require.EqualValues(t, 0o755, mode("data"))
}
