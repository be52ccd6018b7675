package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
)

// newTwoLanes is a game whose live lane has 1.0, and whose lane old has 0.9.
func newTwoLanes(t *testing.T) (w *world, old string) {
	t.Helper()
	w = newWorld(t)
	w.becomes("0.9")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "0.9")
	w.becomes("1.0")
	w.ok("snapshot", "1.0")
	w.ok("pin", "1.0", "--yes")
	w.ok("lane", "new", "old", "--from", "0.9", "--yes")
	return w, w.live + " [old]"
}

// TestMarkersDecideWhichLaneIsWhere: whoever has moved the folders by hand is believed.
func TestMarkersDecideWhichLaneIsWhere(t *testing.T) {
	t.Parallel()
	w, old := newTwoLanes(t)
	require.NoError(t, os.Rename(w.live, w.live+" aside"))
	require.NoError(t, os.Rename(old, w.live))
	require.NoError(t, os.Rename(w.live+" aside", old))
	r := w.ok("status")
	require.Contains(t, r.err, "have changed places by hand; by their markers, old is live now")
	require.Contains(t, r.out, "held at 0.9. Every file is as it should be")
	w.ok("lane", "switch", "main")
	require.Contains(t, w.ok("status").out, "held at 1.0. Every file is as it should be")
	w.is("1.0")
}

func TestACopyThatHasAMarkerBecomesALaneOnlyAfterAQuestion(t *testing.T) {
	t.Parallel()
	w, _ := newTwoLanes(t)
	dir := filepath.Join(w.dir, "copy")
	require.NoError(t, os.CopyFS(dir, os.DirFS(w.live)))
	r := w.run("lane", "new", "copied", "--adopt", dir, "--yes")
	require.Equal(t, 4, r.code, r.err)
	require.Contains(t, r.err, "it is a copy of it")
	require.Len(t, w.json(0, "lane", "list")["lanes"], 2)
}

func TestALinkInTheGamesPlaceIsRefusedBeforeASwitch(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("links need a right there")
	}
	w, old := newTwoLanes(t)
	require.NoError(t, os.Rename(w.live, filepath.Join(w.dir, "moved")))
	require.NoError(t, os.Symlink(filepath.Join(w.dir, "moved"), w.live))
	r := w.run("-g", "quay", "lane", "switch", "old")
	require.Equal(t, 1, r.code, r.out)
	require.Contains(t, r.err, "is a link to another place")
	require.FileExists(t, filepath.Join(old, "version.txt"))
	target, err := os.Readlink(w.live)
	require.NoError(t, err)
	require.Equal(t, filepath.Join(w.dir, "moved"), target)
}

// TestALaunchInTheFolderOfAParkedLaneStartsTheLiveOne: after a switch, an open window stands there.
func TestALaunchInTheFolderOfAParkedLaneStartsTheLiveOne(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("the game of this test is a shell script")
	}
	w, old := newTwoLanes(t)
	saves := filepath.Join(w.dir, "saves")
	require.NoError(t, os.Mkdir(saves, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(saves, "1.sav"), []byte("day 1"), 0o644))
	w.ok("game", "set", "--saves", saves)
	in := func(args ...string) *exec.Cmd {
		cmd := w.command(args...)
		cmd.Dir = old
		cmd.Env = append(cmd.Env, "PWD="+w.live) // as the shell has it that stood there before a switch
		return cmd
	}
	r := w.finish(in("launch", "--through", "cat version.txt", "--wait", "0s", "--look-again", "0"))
	require.Contains(t, r.err, "This is the folder of lane old, which is parked; the live lane, main, is started")
	require.Contains(t, r.out, "version.txt of 1.0")
	require.Contains(t, r.err, "The saves are backed up")
	require.NoError(t, os.WriteFile(filepath.Join(saves, "1.sav"), []byte("day 2"), 0o644))
	r = w.finish(in("launch", "old", "--through", "cat version.txt", "--wait", "0s", "--look-again", "0"))
	require.Contains(t, r.out, "version.txt of 0.9")
	require.Contains(t, r.err, "The saves are backed up")
}

// TestTheHistoryOfWhatOneWorksOnIsNeverRewound: a .git in the game's folder.
func TestTheHistoryOfWhatOneWorksOnIsNeverRewound(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.write(".git/HEAD", "first")
	require.Contains(t, w.ok("add", "quay", w.live).err, ".git is in it")
	w.ok("snapshot", "1.0")
	w.becomes("1.1")
	w.write(".git/HEAD", "second")
	w.write(".git/objects/1", "work")
	w.ok("snapshot", "1.1")
	w.ok("pin", "1.0", "--clean", "--yes")
	w.write(".git/HEAD", "third")
	w.ok("undo", "--yes")
	w.ok("pin", "1.0", "--yes")
	w.ok("unpin", "--yes")
	require.Equal(t, "third", w.read(".git/HEAD"))
	require.Equal(t, "work", w.read(".git/objects/1"))
	w.is("1.1")
}

func TestALaneIsMadeOfTheFolderAsItIs(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.ok("add", "quay", w.live)
	w.ok("lane", "new", "same", "--yes")
	b, err := os.ReadFile(w.live + " [same]/version.txt")
	require.NoError(t, err)
	require.Equal(t, "version.txt of 1.0", string(b))
}
