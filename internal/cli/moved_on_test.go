package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
)

// newMovedOn holds 1.1.1 in a folder that was 1.3.0 before, and that has become 1.2.0 since.
func newMovedOn(t *testing.T) (w *world, before, now map[string]string) {
	t.Helper()
	w = newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	w.update("1.2.0")
	w.ok("snapshot", "1.2.0")
	w.update("1.3.0")
	before = w.picture()
	w.ok("pin", "1.1.1", "--yes")
	w.update("1.2.0")
	return w, before, w.picture()
}

// isRelease checks that every file of a release is there as it should be.
func (w *world) isRelease(label string) {
	w.t.Helper()
	w.isReleaseOf(quay, label)
}

func (w *launched) isRelease(label string) {
	w.t.Helper()
	w.isReleaseOf(standin.Quay{Bytes: 2_000_000}, label)
}

func (w *world) isReleaseOf(q standin.Quay, label string) {
	w.t.Helper()
	info, err := os.Stat(w.path("logs/last.txt"))
	had := err == nil
	log := ""
	if had {
		log = w.read("logs/last.txt")
	}
	got, err := standin.Play(q, w.live, true)
	require.NoError(w.t, err)
	require.Equal(w.t, label, got)
	if !had {
		require.NoError(w.t, os.RemoveAll(w.path("logs")))
		return
	}
	w.write("logs/last.txt", log)
	require.NoError(w.t, os.Chtimes(w.path("logs/last.txt"), info.ModTime(), info.ModTime()))
}

func TestAnUndoOfAFolderThatHasMovedOnMixesNothing(t *testing.T) {
	t.Parallel()
	w, _, now := newMovedOn(t)
	for _, command := range []string{"undo", "unpin"} {
		for _, how := range []string{"--yes", "--dry-run"} {
			r := w.run(command, how)
			require.Equal(t, 4, r.code)
			require.Contains(t, r.err, "the folder is no longer as the pin to 1.1.1 left it: it looks like 1.2.0 now")
			require.Contains(t, r.err, "--whole brings the folder back as it was before")
			require.Equal(t, now, w.picture())
		}
		w.fails(2, "choose one", command, "--whole", "--recorded")
	}
	for _, other := range [][]string{{"--stay"}, {"--to", "1.1.1"}} {
		for _, how := range []string{"--whole", "--recorded"} {
			w.fails(2, "choose one", append([]string{"unpin", how}, other...)...)
		}
	}

	r := w.ok("undo", "--whole", "--yes")
	require.Contains(t, r.err, "as the pin to 1.1.1 left them; later changes are lost")
	w.isRelease("1.3.0")
	require.Contains(t, w.ok("status").out, "is not held at any build")
	// That is a change like any other.
	w.ok("undo", "2", "--yes")
	require.Equal(t, now, w.picture())

	w.ok("unpin", "--whole", "--yes")
	w.isRelease("1.3.0")
	w.ok("undo", "--yes")
	require.Equal(t, now, w.picture())

	w.ok("unpin", "--stay")
	require.Equal(t, now, w.picture())
}

// TestAnUndoOfAnUndoOfAFolderThatHasMovedOnMixesNothing: the lane is held only after it.
func TestAnUndoOfAnUndoOfAFolderThatHasMovedOnMixesNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	w.update("1.2.0")
	w.ok("snapshot", "1.2.0")
	w.update("1.3.0")
	w.ok("pin", "1.1.1", "--yes")
	w.ok("undo", "--yes")
	w.update("1.2.0")
	now := w.picture()
	r := w.run("undo", "2", "--yes")
	require.Equal(t, 4, r.code, r.out)
	require.Contains(t, r.err, "the folder is no longer as the undo of change 1 left it: it looks like 1.2.0 now")
	require.Equal(t, now, w.picture())
	w.ok("undo", "2", "--whole", "--yes")
	w.isRelease("1.1.1")
	require.Contains(t, w.ok("status").out, "Every file is as it should be")
}

// TestWhatAFolderWasAsAWholeIsNotAlwaysKnown: where it is held neither before nor after.
func TestWhatAFolderWasAsAWholeIsNotAlwaysKnown(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	friend := filepath.Join(w.dir, "friend")
	require.NoError(t, quay.Write(friend, "1.1.1"))
	require.NoError(t, os.WriteFile(filepath.Join(friend, "theirs.txt"), []byte("a friend's"), 0o644))
	w.ok("carry", friend, "--yes")
	w.ok("game", "set", "--no-keep", "theirs.txt")
	w.write("theirs.txt", "mine by now")
	w.fails(1, "does not know the whole folder as it was", "undo", "--whole", "--yes")
	require.Equal(t, "mine by now", w.read("theirs.txt"))
	require.Contains(t, w.ok("undo", "--yes").err, "1 file is no longer as the carry from")
}

func TestAnUndoOfOnlyWhatWasRecordedIsChosen(t *testing.T) {
	t.Parallel()
	w, before, now := newMovedOn(t)
	r := w.ok("undo", "--recorded", "--yes")
	require.Contains(t, r.err, "files that it did not touch stay as they are")
	is := w.picture()
	require.Equal(t, before["version.txt"], is["version.txt"])
	require.NotEqual(t, now, is)
}

// TestAnUndoBesideThePlayersOwnChangesGoesOnAndSaysSo: a file or two look like no other build.
func TestAnUndoBesideThePlayersOwnChangesGoesOnAndSaysSo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.3.0")
	w.ok("snapshot", "1.3.0")
	w.update("1.1.1")
	w.ok("pin", "1.3.0", "--yes")
	w.write("read me first.txt", "a note of the player's")
	require.NotContains(t, w.ok("undo", "--dry-run").err, "left it")
	w.write("data/cargo/carg-0013.txt", "the player's own cargo")
	r := w.ok("undo", "--yes")
	require.Contains(t, r.err, "1 file is no longer as the pin to 1.3.0 left it")
	require.Equal(t, "a note of the player's", w.read("read me first.txt"))
}

// TestAnUnpinSaysWhereItLeads: to what was there before it as a whole; what an update has brought between two pins is named.
func TestAnUnpinSaysWhereItLeads(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	w.ok("pin", "1.1.1", "--yes")
	require.Contains(t, w.ok("unpin", "--dry-run").err, "leads to 1.1.1 (snapshot)")
	w.update("1.3.0")
	w.ok("snapshot", "1.3.0")
	w.ok("pin", "1.1.1", "--yes")
	r := w.ok("unpin", "--dry-run")
	require.Contains(t, r.err, "leads to 1.1.1 (snapshot)")
	require.Contains(t, r.err, "morvant unpin --stay")
	require.Contains(t, r.err, "an update came since then: snapshot/1.3.0; morvant unpin --to snapshot/1.3.0 leads to it")
	w.ok("unpin", "--yes")
	w.isRelease("1.1.1")
}
