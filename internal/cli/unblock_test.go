package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// newBlocked holds a game that is blocked by a launcher's setting and by a path that is held.
func newBlocked(t *testing.T) (w *world, config, staging string) {
	t.Helper()
	w = newWorld(t)
	w.write("a.txt", "1")
	config, staging = filepath.Join(w.dir, "launcher.cfg"), filepath.Join(w.dir, "launcher", "staging")
	require.NoError(t, os.WriteFile(config, []byte("updates = at-once\nother = 1\n"), 0o644))
	w.ok("add", "quay", w.live)
	w.ok("block", "add", "key-value-setting", "file="+config, "key=updates", "value=by-hand")
	w.ok("block", "add", "staging-folder", "path="+staging)
	w.ok("block", "add", "read-only-files")
	w.ok("snapshot", "1")
	w.ok("pin", "1")
	b, err := os.ReadFile(config)
	require.NoError(t, err)
	require.Contains(t, string(b), "by-hand")
	require.FileExists(t, staging)
	return w, config, staging
}

func TestABlockComesOffWithoutTheLiveFolder(t *testing.T) {
	t.Parallel()
	w, config, staging := newBlocked(t)
	away := filepath.Join(w.dir, "uninstalled")
	require.NoError(t, os.Rename(w.live, away))
	r := w.outside("unblock", "-g", "quay")
	require.Contains(t, r.err, "is gone; the files in it that were made read-only stay noted, for when it is back")
	require.NotContains(t, r.out, "everything is as it was found")
	b, err := os.ReadFile(config)
	require.NoError(t, err)
	require.Equal(t, "updates = at-once\nother = 1\n", string(b))
	require.NoFileExists(t, staging)

	// Once it is back, the rest comes off.
	require.NoError(t, os.Rename(away, w.live))
	w.ok("unblock")
	info, err := os.Stat(w.path("a.txt"))
	require.NoError(t, err)
	require.NotZero(t, info.Mode().Perm()&0o200)
	require.Contains(t, w.run("status").out, "not blocked")
}

func TestAnUnblockByForceAlwaysEnds(t *testing.T) {
	t.Parallel()
	w, config, staging := newBlocked(t)
	require.NoError(t, os.WriteFile(config, []byte("the launcher has made it anew\n"), 0o644))
	r := w.run("unblock")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "morvant unblock --force lets go of what cannot be put back")
	require.NoFileExists(t, staging, "one that cannot be lifted stops no other")

	r = w.ok("unblock", "--force")
	require.Contains(t, r.err, `it was "at-once", and Morvant has set "by-hand": where that stands, write back what it was`)
	require.Contains(t, r.out, "what the notes name was not put back")
	b, err := os.ReadFile(config)
	require.NoError(t, err)
	require.Equal(t, "the launcher has made it anew\n", string(b))
	require.Contains(t, w.ok("unblock").out, "everything is as it was found")

	// The same where the folder is gone as well.
	require.NoError(t, os.WriteFile(config, []byte("updates = at-once\n"), 0o644))
	w.ok("block")
	require.NoError(t, os.Remove(config))
	require.NoError(t, os.Mkdir(config, 0o755))
	require.NoError(t, os.RemoveAll(w.live))
	r = w.outside("unblock", "--force", "-g", "quay")
	require.Contains(t, r.err, "write back what it was")
	require.NoFileExists(t, staging)
	require.Contains(t, w.outside("unblock", "-g", "quay").out, "everything is as it was found")
}
