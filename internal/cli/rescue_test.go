package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// newAbandoned is a game that is held and blocked, with its staging folder in use, as it was before the block.
func newAbandoned(t *testing.T) (w *launched, before string, staging string) {
	t.Helper()
	w = newLaunched(t)
	staging = filepath.Join(w.dir, "launcher", "staging")
	require.NoError(t, os.MkdirAll(staging, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(staging, "half.bin"), []byte("half an update"), 0o644))
	w.ok(w.setting()...)
	w.ok("block", "add", "staging-folder", "path="+staging)
	w.ok("block", "add", "read-only-files")
	before = w.stateText()
	w.ok("pin", "1.1.1", "--yes")
	require.NotEqual(t, before, w.stateText())
	require.FileExists(t, staging)
	return w, before, staging
}

// TestAFolderIsRescuedThoughItsHomeIsLost: all that a block has changed comes back, what lies outside of the folder only where the
// player says so.
func TestAFolderIsRescuedThoughItsHomeIsLost(t *testing.T) {
	t.Parallel()
	w, before, staging := newAbandoned(t)
	require.NoError(t, os.RemoveAll(w.home))
	r := w.outside("rescue", w.live, "--dry-run")
	require.Contains(t, r.err, "which is gone")
	require.Contains(t, r.err, "a block of 3 rules")
	require.DirExists(t, w.path(".morvant"))

	kept := filepath.Join(t.TempDir(), "kept")
	require.NoError(t, os.CopyFS(kept, os.DirFS(w.live)))
	r = w.outside("rescue", w.live, "--yes")
	require.Contains(t, r.out, w.state+" is left as it is: only a note in the folder says")
	require.NotEqual(t, before, w.stateText())
	require.NoDirExists(t, w.path(".morvant"))
	info, err := os.Stat(w.path("bin/quay.exe"))
	if err == nil {
		require.NotZero(t, info.Mode()&0o200, "it can be written again")
	}

	require.NoError(t, os.CopyFS(w.path(".morvant"), os.DirFS(filepath.Join(kept, ".morvant"))))
	j := map[string]any(w.json(0, "rescue", w.live, "--yes", "--outside"))
	require.Equal(t, true, j["whole"])
	require.Equal(t, before, w.stateText())
	b, err := os.ReadFile(filepath.Join(staging, "half.bin"))
	require.NoError(t, err)
	require.Equal(t, "half an update", string(b))
	w.isRelease("1.1.1")
	w.fails(1, "there is nothing of Morvant's in it", "rescue", w.live, "--yes")
}

// TestANewHomeTakesABlockOverThatALostOneHasLeft: what stands at the path is Morvant's own, never the player's.
func TestANewHomeTakesABlockOverThatALostOneHasLeft(t *testing.T) {
	t.Parallel()
	w, _, staging := newAbandoned(t)
	before := w.stateText()
	w.home = filepath.Join(w.dir, "another home")
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "home")))
	require.Contains(t, w.ok("add", "quay", w.live).err, "a block that another Morvant has set stands here (3 rules)")
	w.fails(4, "add --force", "unblock")
	require.Equal(t, before, w.stateText())
	require.Contains(t, w.ok("unblock", "--force").out, "everything is as the block found it")
	require.Contains(t, w.stateText(), "at-once")
	require.DirExists(t, staging)

	// Without the note, what stands at the path is taken for Morvant's own.
	w.ok("snapshot", "1.1.1")
	w.ok("block", "add", "staging-folder", "path="+staging)
	w.ok("pin", "1.1.1", "--yes")
	require.FileExists(t, staging)
	w.home = filepath.Join(w.dir, "a third home")
	require.NoError(t, os.RemoveAll(w.path(".morvant")))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.1.1")
	w.ok("block", "add", "staging-folder", "path="+staging)
	w.ok("pin", "1.1.1", "--yes")
	w.ok("unblock")
	b, err := os.ReadFile(filepath.Join(staging, "half.bin"))
	require.NoError(t, err)
	require.Equal(t, "half an update", string(b))
}

// TestARescuedFolderOfThisHomeStaysRegistered: its builds and its history stay, the hold ends.
func TestARescuedFolderOfThisHomeStaysRegistered(t *testing.T) {
	t.Parallel()
	w, before, staging := newAbandoned(t)
	w.write("mine.txt", "mine")
	r := w.ok("rescue", w.live, "--yes")
	require.Contains(t, r.out, "It is not held at 1.1.1 any more")
	require.Equal(t, before, w.stateText())
	require.DirExists(t, staging)
	require.NoDirExists(t, w.path(".morvant"))
	require.Equal(t, "mine", w.read("mine.txt"))
	require.Contains(t, w.ok("builds").out, "1.1.1")
	w.ok("pin", "1.1.1", "--yes")
}

// TestAParkedFolderAndWhatWasSetAsideAreGivenBack, with a folder that somebody brought, whose note tells lies.
func TestAParkedFolderAndWhatWasSetAsideAreGivenBack(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	require.NoError(t, os.RemoveAll(w.home))
	secret := filepath.Join(w.dir, "secret.txt")
	require.NoError(t, os.WriteFile(secret, []byte("secret"), 0o600))
	parked := w.parked("old")
	require.NoError(t, os.MkdirAll(filepath.Join(parked, ".morvant", "aside", "2031-01-01"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(parked, ".morvant", "aside", "2031-01-01", "odd.txt"), []byte("odd"), 0o644))
	note := `{"home":"x","generation":3}` + "\n" + `[{"rule":{"Kind":"occupy","Path":"taken"},"path":"` + filepath.ToSlash(filepath.Join(parked, "taken")) + `","aside":"` + filepath.ToSlash(secret) + `"}]`
	require.NoError(t, os.WriteFile(filepath.Join(parked, ".morvant", "block.json"), []byte(note), 0o644))
	require.NoError(t, os.RemoveAll(w.live))
	r := w.outside("rescue", parked, "--yes")
	require.FileExists(t, secret, r.out+r.err)
	require.NoDirExists(t, parked)
	require.Equal(t, "odd", readFile(t, filepath.Join(parked+" [set aside 1]", "2031-01-01", "odd.txt")))
	require.NotEmpty(t, w.picture())
	require.True(t, strings.Contains(r.out, "It was parked, and has its own name again: "+w.live), r.out)
	entries, err := os.ReadDir(w.live)
	require.NoError(t, err)
	for _, e := range entries {
		require.NotEqual(t, ".morvant", e.Name())
	}
}
