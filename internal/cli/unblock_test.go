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
	require.NotContains(t, r.out, "everything is as the block found it")
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
	require.Contains(t, w.run("status").out, "let in; morvant block blocks them")
}

func TestAnUnblockByForceAlwaysEnds(t *testing.T) {
	t.Parallel()
	w, config, staging := newBlocked(t)
	require.NoError(t, os.WriteFile(config, []byte("updates = one\nupdates = two\n"), 0o644))
	r := w.run("unblock")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "morvant unblock --force gives up what cannot be restored")
	require.NoFileExists(t, staging, "one that cannot be lifted stops no other")

	r = w.ok("unblock", "--force")
	require.Contains(t, r.err, `it was "at-once", and Morvant set it to "by-hand": change it back there`)
	require.Contains(t, r.out, "the notes above name what was not restored")
	b, err := os.ReadFile(config)
	require.NoError(t, err)
	require.Equal(t, "updates = one\nupdates = two\n", string(b))
	require.Contains(t, w.ok("unblock").out, "everything is as the block found it")

	// The same where the folder is gone as well.
	require.NoError(t, os.WriteFile(config, []byte("updates = at-once\n"), 0o644))
	w.ok("block")
	require.NoError(t, os.Remove(config))
	require.NoError(t, os.Mkdir(config, 0o755))
	require.NoError(t, os.RemoveAll(w.live))
	r = w.outside("unblock", "--force", "-g", "quay")
	require.Contains(t, r.err, "change it back there")
	require.NoFileExists(t, staging)
	require.Contains(t, w.outside("unblock", "-g", "quay").out, "everything is as the block found it")
}

func TestABlockComesOffWhateverTheSettingsSay(t *testing.T) {
	t.Parallel()
	for name, broken := range map[string]func(settings string) string{
		"a rule that cannot be used": func(s string) string { return s + "\n[[block]]\nkind = \"magic\"\n" },
		"no TOML":                    func(s string) string { return s + "\nwhat is this\n" },
		"nothing":                    func(string) string { return "" },
	} {
		w, config, staging := newBlocked(t)
		file := filepath.Join(w.home, "games", "quay.toml")
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, []byte(broken(string(b))), 0o644))
		r := w.ok("unblock", "-g", "quay")
		require.Contains(t, r.err, "the settings cannot be used", name)
		now, err := os.ReadFile(config)
		require.NoError(t, err)
		require.Equal(t, "updates = at-once\nother = 1\n", string(now), name)
		require.NoFileExists(t, staging)
		info, err := os.Stat(w.path("a.txt"))
		require.NoError(t, err)
		require.Equal(t, name != "nothing", info.Mode().Perm()&0o200 != 0, "%s: where the folder is not known, its files wait", name)

		require.NoError(t, os.WriteFile(file, b, 0o644))
		w.ok("unblock")
		info, err = os.Stat(w.path("a.txt"))
		require.NoError(t, err)
		require.NotZero(t, info.Mode().Perm()&0o200)
	}
}

func TestAWatchThatMendsLeavesABlockThatWasTakenOff(t *testing.T) {
	t.Parallel()
	w, config, _ := newBlocked(t)
	require.Contains(t, w.ok("unblock").err, "Updates are let in until you run morvant block or pin again")
	now := func() string {
		b, err := os.ReadFile(config)
		require.NoError(t, err)
		return string(b)
	}
	w.write("a.txt", "spoilt")
	require.Contains(t, w.ok("watch", "--once", "--repair").out, "restored to 1")
	require.Contains(t, now(), "at-once", "what is mended is the file, not the block")
	require.Contains(t, w.ok("status").out, "let in; morvant block blocks them")
	w.ok("watch", "--once", "--repair")
	require.Contains(t, now(), "at-once")
	w.ok("block")
	require.Contains(t, now(), "by-hand")
	require.NoError(t, os.WriteFile(config, []byte("updates = at-once\n"), 0o644))
	w.ok("watch", "--once", "--repair")
	require.Contains(t, now(), "by-hand", "it is guarded again")
	w.ok("unblock")
	w.ok("pin", "1")
	require.Contains(t, now(), "by-hand")
}
