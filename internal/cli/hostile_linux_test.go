package cli_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// ends runs the program and fails if it is still at it after a while.
func (w *world) ends(args ...string) result {
	w.t.Helper()
	cmd := w.command(args...)
	timer := time.AfterFunc(30*time.Second, func() { _ = cmd.Process.Kill() })
	r := w.finish(cmd)
	require.True(w.t, timer.Stop(), "morvant %v does not end", args)
	require.NotContains(w.t, r.err, "panic")
	return r
}

// TestWhatIsNoFileIsNotWaitedFor: a pipe without an end, a device without an end, a file of
// 20 GB, where somebody else may have put them in place of a small file.
func TestWhatIsNoFileIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	for name, make := range map[string]func(t *testing.T, file string){
		"pipe": func(t *testing.T, file string) { require.NoError(t, syscall.Mkfifo(file, 0o644)) },
		"20 GB": func(t *testing.T, file string) {
			require.NoError(t, os.WriteFile(file, nil, 0o644))
			require.NoError(t, os.Truncate(file, 20<<30))
		},
		"device": func(t *testing.T, file string) {
			if err := syscall.Mknod(file, syscall.S_IFCHR|0o644, 1<<8|5); err != nil { // as /dev/zero
				t.Skip("devices cannot be made here")
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newLaunched(t)
			w.ok(w.setting()...)
			w.ok("game", "set", "--version-rule", `says.txt=^version (\S+)`, "--waiting-rule", filepath.Join(w.dir, "waiting.cfg")+`=^pending = (\S+)`)
			w.ok("pin", "1.1.1", "--yes")
			put := func(file string) {
				require.NoError(t, os.RemoveAll(file))
				require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
				make(t, file)
			}
			status := []string{"status", "-g", "quay"}

			put(w.path(".morvant/lane.toml"))
			require.Contains(t, []int{0, 3}, w.ends(status...).code)
			require.NoError(t, os.RemoveAll(w.path(".morvant/lane.toml")))

			put(w.path(".morvant/change/journal"))
			require.Contains(t, []int{0, 3}, w.ends(status...).code)
			require.NoDirExists(t, w.path(".morvant/change"))

			put(w.path("says.txt"))
			put(filepath.Join(w.dir, "waiting.cfg"))
			require.Contains(t, []int{0, 1, 3}, w.ends(status...).code)
			require.NoError(t, os.RemoveAll(w.path("says.txt")))
			require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "waiting.cfg")))

			feed := filepath.Join(w.dir, "feed")
			put(filepath.Join(feed, "feed.json"))
			require.Equal(t, 1, w.ends("feed", "add", "-g", "quay", feed).code)

			bag := filepath.Join(w.dir, "bag")
			require.NoError(t, os.MkdirAll(bag, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(bag, "bagit.txt"), nil, 0o644))
			put(filepath.Join(bag, "manifest-sha256.txt"))
			require.Equal(t, 1, w.ends("import", "-g", "quay", bag, "x").code)
			archive := filepath.Join(w.dir, "archive.zip")
			put(archive)
			require.Equal(t, 1, w.ends("import", "-g", "quay", archive, "x").code)

			put(w.state) // the launcher's own
			require.Contains(t, w.ends("block", "-g", "quay", "--show").out, "does not hold")
			require.NotZero(t, w.ends("unblock", "-g", "quay").code)
		})
	}
}

// TestALinkInThePlaceOfMorvantsFolderLeadsNowhere: what would be written into it would be
// written over the game.
func TestALinkInThePlaceOfMorvantsFolderLeadsNowhere(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	require.NoError(t, os.RemoveAll(w.path(".morvant")))
	before := w.picture()
	require.NoError(t, os.Symlink(".", w.path(".morvant")))
	r := w.ok("pin", "1.1.1", "--yes")
	require.Contains(t, r.err, "was not a folder, and Morvant needs its own folder there")
	after := w.picture()
	for p := range before {
		require.Equal(t, before[p], after[p], p)
	}
	require.Len(t, after, len(before)+1, "the link under another name, and nothing else")
	require.NoFileExists(t, w.path("lane.toml"))
	info, err := os.Lstat(w.path(".morvant"))
	require.NoError(t, err)
	require.True(t, info.IsDir())
}

// TestAFolderOfSomebodyElseIsNotTakenForALane: a marker is easily written.
func TestAFolderOfSomebodyElseIsNotTakenForALane(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("needs root to give a folder away")
	}
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	w.ok("lane", "new", "old", "--from", "1.1.1", "--yes")
	parked := w.json(0, "lane", "list")["lanes"].([]any)[1].(map[string]any)["folder"].(string)
	marker, err := os.ReadFile(filepath.Join(parked, ".morvant", "lane.toml"))
	require.NoError(t, err)
	away := parked + "-mine"
	require.NoError(t, os.Rename(parked, away))
	forge := func(dir string) {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, ".morvant"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".morvant", "lane.toml"), marker, 0o644))
		require.NoError(t, os.Chown(dir, 65534, 65534))
	}
	forge(parked) // where it is remembered to be
	w.fails(1, "belongs to another user", "lane", "switch", "old", "--yes")
	require.Equal(t, "main", w.json(0, "status")["lane"])
	require.NoError(t, os.RemoveAll(parked))
	other := filepath.Join(filepath.Dir(parked), "A") // read before the true one
	forge(other)
	w.ok("lane", "switch", "old", "--yes")
	require.Equal(t, "Cinder Quay 1.1.1\n", w.read("version.txt"))

	// A name made beforehand.
	other = filepath.Join(w.dir, "beforehand")
	require.NoError(t, os.Mkdir(other, 0o755))
	require.NoError(t, os.Chown(other, 65534, 65534))
	w.fails(1, "belongs to another user", "lane", "new", "third", "--to", other, "--from", "1.1.1", "--yes")
	link := filepath.Join(w.dir, "link")
	require.NoError(t, os.Symlink(other, link))
	w.fails(1, "belongs to another user", "lane", "new", "fourth", "--to", link, "--from", "1.1.1", "--yes")
	require.Empty(t, picture(t, other))
}

// TestAHomeIsItsOwnersAlone: others cannot look into it, and nobody uses one of theirs.
func TestAHomeIsItsOwnersAlone(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	for file, mode := range map[string]os.FileMode{"": 0o700, "state.db": 0o600} {
		info, err := os.Stat(filepath.Join(w.home, file))
		require.NoError(t, err)
		require.Equal(t, mode, info.Mode().Perm(), file)
	}
	// As earlier versions made it.
	require.NoError(t, os.Chmod(w.home, 0o755))
	require.NoError(t, os.Chmod(filepath.Join(w.home, "state.db"), 0o644))
	w.ok("status")
	info, err := os.Stat(w.home)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	// As somebody wants it.
	require.NoError(t, os.Chmod(w.home, 0o750))
	w.ok("status")
	info, err = os.Stat(w.home)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o750), info.Mode().Perm())

	if os.Getuid() != 0 {
		t.Skip("needs root to give a folder away")
	}
	require.NoError(t, os.Chown(w.home, 65534, 65534))
	w.fails(1, "belongs to another user", "status")
	cmd := w.command("status")
	cmd.Env = append(cmd.Env, "SUDO_UID=65534")
	require.Equal(t, 0, w.finish(cmd).code, "who has become administrator uses their own")
}
