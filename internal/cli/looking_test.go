package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/game"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// TestLookingNeverWaits: while another Morvant works on the game, or is stopped, what only looks answers at once, says who is at
// work, and notes nothing of what it sees meanwhile; what changes something waits, and then says why not.
func TestLookingNeverWaits(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("data/a.pak", "a")
	w.write("mine.txt", "mine")
	w.ok("add", "quay", w.live, "--keep", "mine.txt")
	w.ok("snapshot", "1")
	w.write("data/a.pak", "a of 2")
	w.ok("snapshot", "2")
	w.ok("pin", "2", "--yes")
	w.ok("lane", "new", "old", "--from", "1", "--yes")
	w.ok("status")

	lock, err := volume.NewLock(filepath.Join(w.home, "locks", "quay"))
	require.NoError(t, err)
	got, err := lock.TryLock()
	require.NoError(t, err)
	require.True(t, got)
	require.NoError(t, os.WriteFile(filepath.Join(w.home, "locks", "quay.holder"), []byte("morvant pin (process 4711, since 12:30)\n"), 0o644))
	require.NoError(t, os.Rename(w.path("mine.txt"), w.path("mine.aside"))) // as in the middle of a change
	for _, args := range [][]string{{"status"}, {"verify"}, {"diff", "1", "2"}, {"diff", "1"}, {"identify"}, {"builds"}, {"history"}, {"why", "data/a.pak"}, {"lane", "list"}, {"saves", "list"}} {
		r := w.run(args...)
		require.Contains(t, []int{0, 3}, r.code, "%v: %s", args, r.err)
		if args[0] != "builds" && args[0] != "history" {
			require.Contains(t, r.err, "another Morvant is working on this game: morvant pin (process 4711, since 12:30). This is how it stands meanwhile; nothing of it is noted.", args)
		}
	}
	w.fails(1, "another Morvant is working on this game", "pin", "1", "--yes")
	require.NoError(t, os.Rename(w.path("mine.aside"), w.path("mine.txt")))
	require.NoError(t, lock.Close())
	r := w.ok("status")
	require.NotContains(t, r.out+r.err, "gone")
	require.NotContains(t, r.err, "another Morvant")
	w.ok("pin", "1", "--yes")
}

// TestAMorvantThatDoesNotGoOnIsEnded, after a question, and what it had begun ends with it.
func TestAMorvantThatDoesNotGoOnIsEnded(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok(w.setting()...)
	require.Contains(t, w.ok("game", "interrupt").out, "No other Morvant is working on quay")
	w.ok("pin", "1.1.1", "--yes")
	wait := w.begin("let-update")
	wait.until(waits)
	require.Contains(t, w.stateText(), "at-once")
	require.Contains(t, w.run("status").err, "morvant let-update (process ")
	w.fails(4, "needs a yes", "game", "interrupt")
	r := w.ok("game", "interrupt", "--yes")
	require.Contains(t, r.out, "nothing holds quay any more")
	require.Contains(t, r.err, "A wait for an update of quay was interrupted; the block is set again.")
	require.Contains(t, w.stateText(), "by-hand")
	require.NotContains(t, w.ok("status").err, "another Morvant")
}

// TestWhatAnotherComputerHasBegunIsNotFinishedHere: a home on a stick, or on a share.
func TestWhatAnotherComputerHasBegunIsNotFinishedHere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a", "a")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("pin", "1", "--yes")
	staging := filepath.Join(w.dir, "staging")
	w.ok("block", "add", "staging-folder", "path="+staging)
	home, err := game.OpenHome(t.Context(), w.home)
	require.NoError(t, err)
	home.Computer = "ada-pc"
	require.NoError(t, home.Begin(t.Context(), "quay", "main", state.BegunBlock, "", true))
	require.NoError(t, home.Close())
	const sentence = "it began on another computer, where it has to be ended: ada-pc"
	require.Contains(t, w.ok("status").err, sentence)
	w.fails(1, "morvant game interrupt takes over here", "pin", "1", "--yes")
	require.NoFileExists(t, staging)
	w.fails(4, "needs a yes", "game", "interrupt")
	require.Contains(t, w.ok("game", "interrupt", "--yes").err, "has begun on the computer ada-pc and is not over")
	require.FileExists(t, staging, "setting the block went on here")
	w.ok("pin", "1", "--yes")
	require.NotContains(t, w.ok("status").err, "another computer")
}
