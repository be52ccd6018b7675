package cli_test

import (
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// newWhole is a folder of eight files of a game that nobody offers, recorded as 1.0 while it is 1.1.
func newWhole(t *testing.T) *world {
	t.Helper()
	w := newWorld(t)
	w.becomes("1.0")
	w.ok("add", "quay", w.live, "--program", "bin/quay.exe", "--keep", "Mods/**")
	w.ok("snapshot", "1.0")
	w.becomes("1.1")
	return w
}

// files are those of the game, each of which every version has otherwise.
var eight = []string{"bin/quay.exe", "data/a.pak", "data/b.pak", "data/c.pak", "data/d.pak", "data/e.pak", "data/f.pak", "version.txt"}

// becomes has the launcher bring files of a version; all of them if none are named.
func (w *world) becomes(version string, files ...string) {
	w.t.Helper()
	if len(files) == 0 {
		files = eight
	}
	for _, f := range files {
		w.write(f, f+" of "+version)
	}
}

// is checks that every file is of one version.
func (w *world) is(version string) {
	w.t.Helper()
	for _, f := range eight {
		require.Equal(w.t, f+" of "+version, w.read(f))
	}
}

func TestAnUnpinLeadsToTheFolderFromBeforeWhateverCameInBetween(t *testing.T) {
	t.Parallel()
	w := newWhole(t)
	w.write("Mods/mine.txt", "mine")
	w.age()
	before := w.picture()
	w.ok("pin", "1.0", "--yes")
	w.becomes("1.2", eight[:5]...)
	w.ok("verify", "--repair", "--yes")
	w.becomes("1.3", eight[3:]...)
	w.ok("verify", "--repair", "--yes")
	w.is("1.0")
	for _, how := range [][]string{{"--whole"}, nil} {
		r := w.ok(append([]string{"unpin", "--yes"}, how...)...)
		w.is("1.1")
		require.Equal(t, before, w.picture())
		require.Contains(t, r.err, "updates came since then: update/")
		w.ok("undo", "--yes")
		w.is("1.0")
	}
	history := w.ok("history")
	require.Equal(t, 2, strings.Count(history.out, "an update had come"))
	require.Contains(t, history.out, "5 files")

	// They can be gone to, compared and dropped like any build.
	var updates []string
	for _, b := range w.json(0, "builds")["builds"].([]any) {
		if b := b.(map[string]any); b["channel"] == "update" {
			updates = append(updates, "update/"+b["label"].(string))
		}
	}
	require.Len(t, updates, 2)
	require.Contains(t, w.ok("diff", "1.0", updates[0]).out, "version.txt")
	w.ok("unpin", "--to", updates[0], "--yes")
	for i, f := range eight {
		version := "1.0"
		if i >= 3 {
			version = "1.3"
		}
		require.Equal(t, f+" of "+version, w.read(f))
	}
	w.ok("pin", updates[1], "--yes")
	require.Equal(t, "bin/quay.exe of 1.2", w.read("bin/quay.exe"))
	require.Equal(t, "version.txt of 1.0", w.read("version.txt"))
	w.ok("unpin", "--stay")
	w.ok("builds", "forget", updates[0], "--yes")
	require.NotContains(t, w.ok("builds").out, strings.TrimPrefix(updates[0], "update/")+" ")
}

func TestWhatAChangeDidNotTouchIsLookedAtToo(t *testing.T) {
	t.Parallel()
	w := newWhole(t)
	w.ok("pin", "1.0", "--yes")
	w.ok("unpin", "--yes")
	w.is("1.1")
	w.ok("snapshot", "1.1")
	w.becomes("1.0", eight[2:]...) // a pin changes the first two alone
	w.ok("pin", "1.0", "--yes")
	w.becomes("1.2", eight[4:7]...)
	now := w.picture()
	for _, command := range []string{"undo", "unpin"} {
		r := w.run(command, "--yes")
		require.Equal(t, 4, r.code, command+r.out+r.err)
		require.Contains(t, r.err, "data/d.pak, data/e.pak, data/f.pak differ from 1.0")
		require.Equal(t, now, w.picture())
	}
	w.ok("undo", "--recorded", "--yes")
	require.Equal(t, "data/d.pak of 1.2", w.read("data/d.pak"))
	require.Equal(t, "bin/quay.exe of 1.1", w.read("bin/quay.exe"))
	w.ok("undo", "--recorded", "4", "--yes")
	w.ok("unpin", "--whole", "--yes")
	require.Equal(t, "data/d.pak of 1.0", w.read("data/d.pak"))
	require.Equal(t, "bin/quay.exe of 1.1", w.read("bin/quay.exe"))
}

func TestAChangeThatChangesNothingIsNone(t *testing.T) {
	t.Parallel()
	w := newWhole(t)
	w.ok("pin", "1.0", "--yes")
	w.ok("pin", "1.0", "--yes")
	w.ok("verify", "--repair", "--yes")
	require.Len(t, w.json(0, "history")["changes"], 1)
	w.ok("undo", "--yes")
	w.is("1.1")
}

func TestAnUndoGivesThePinBackAsItWas(t *testing.T) {
	t.Parallel()
	w := newWhole(t)
	w.ok("pin", "1.0", "--follow", "--companion", "note.txt=x", "--yes")
	w.ok("pin", "1.0", "--without", "note.txt", "--yes")
	before := w.json(0, "status")
	w.ok("pin", "1.0", "--companion", "more.txt=x", "--follow", "--yes")
	w.ok("undo", "--yes")
	after := w.json(0, "status")
	require.Equal(t, before["pin"], after["pin"])
	require.NoFileExists(t, w.path("more.txt"))
	w.ok("undo", "--yes")
	require.Contains(t, w.ok("status").out, "follows")
}

func TestAnUpdateOverAnOverlayIsNotMixed(t *testing.T) {
	t.Parallel()
	w := newWhole(t)
	over := w.source("over", map[string]string{"data/a.pak": "my a"})
	w.ok("pin", "1.0", "--overlay", over+":data/**", "--yes")
	w.becomes("1.2", "bin/quay.exe", "version.txt", "data/b.pak", "data/new.pak")
	now := w.picture()
	require.Equal(t, 4, w.run("unpin", "--yes").code)
	require.Equal(t, now, w.picture())
	w.ok("unpin", "--whole", "--yes")
	w.is("1.1")
	require.NoError(t, os.RemoveAll(w.path("data/new.pak")))
}

func TestALaneThatWasMadeIsNotEmptied(t *testing.T) {
	t.Parallel()
	w := newWhole(t)
	w.ok("lane", "new", "old", "--from", "1.0", "--yes")
	old := w.live + " [old]"
	before := picture(t, old)
	r := w.run("-l", "old", "undo", "--yes")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "morvant lane remove")
	require.Equal(t, before, picture(t, old))
	r = w.ok("-l", "old", "unpin", "--yes")
	require.Contains(t, r.err, "--stay")
	require.Equal(t, before, picture(t, old))
	require.Contains(t, w.ok("-l", "old", "status").out, "not held")
}

// TestAfterTheGameNoHalfOfAnUpdateIsMended: the launcher hands over to what runs from the game's folder, and that updates the game
// slowly.
func TestAfterTheGameNoHalfOfAnUpdateIsMended(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("the game of this test is a shell script")
	}
	w := newWhole(t)
	sleep, err := exec.LookPath("sleep")
	require.NoError(t, err)
	b, err := os.ReadFile(sleep)
	require.NoError(t, err)
	w.write("bin/helper", string(b))
	require.NoError(t, os.Chmod(w.path("bin/helper"), 0o755))
	w.write("play.sh", "(bin/helper 4 & sleep 1; for f in "+strings.Join(eight[1:], " ")+"; do sleep 0.2; printf '%s of 1.2' $f > $f; done) > /dev/null 2>&1 &\n")
	w.ok("pin", "1.0", "--yes")
	r := w.ok("launch", "--through", "sh play.sh", "--repair", "--wait", "0s", "--look-again", "700ms", "--yes")
	w.is("1.0")
	require.Contains(t, r.err, "helper (process ")
	require.Contains(t, r.err, "After the game: 7 files of quay changed")
	repairs := 0
	for _, c := range w.json(0, "history")["changes"].([]any) {
		if c.(map[string]any)["what"] == "repair" {
			repairs++
		}
	}
	require.Equal(t, 1, repairs)
}

// TestAFolderThatIsScratchAndTheRightToBeRunAreOfABuild: a game that cannot write its log, or cannot be started, is not whole.
func TestAFolderThatIsScratchAndTheRightToBeRunAreOfABuild(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.write("logs/last.txt", "played")
	w.write("saved/logs/old.txt", "played")
	w.ok("add", "quay", w.live, "--scratch", "logs/**", "--scratch", "saved/logs/**")
	if runtime.GOOS != "windows" {
		require.NoError(t, os.Chmod(w.path("bin/quay.exe"), 0o755))
	}
	w.ok("snapshot", "1.0")
	w.ok("pin", "1.0", "--yes")
	w.ok("lane", "new", "old", "--from", "1.0", "--yes")
	require.DirExists(t, w.live+" [old]/logs")
	require.DirExists(t, w.live+" [old]/saved/logs")
	require.NoFileExists(t, w.live+" [old]/logs/last.txt")
	require.NoError(t, os.RemoveAll(w.path("logs")))
	w.ok("verify", "--repair", "--yes")
	w.ok("pin", "1.0", "--clean", "--yes")
	require.FileExists(t, w.path("saved/logs/old.txt"))
	if runtime.GOOS == "windows" {
		return
	}
	require.NoError(t, os.Chmod(w.path("bin/quay.exe"), 0o644))
	r := w.run("status")
	require.Equal(t, 3, r.code)
	require.Regexp(t, `cannot be run .*bin/quay.exe`, r.out)
	require.Equal(t, []any{"bin/quay.exe"}, w.json(3, "verify")["drift"].(map[string]any)["not_runnable"])
	w.ok("verify", "--repair", "--yes")
	info, err := os.Stat(w.path("bin/quay.exe"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o755), info.Mode())
	w.ok("status")
}

// TestAnUpdateAsItCameIsNeverTheNewest: it is gone to by its name alone.
func TestAnUpdateAsItCameIsNeverTheNewest(t *testing.T) {
	t.Parallel()
	w := newWhole(t)
	w.ok("snapshot", "1.1")
	w.ok("pin", "1.0", "--yes")
	w.becomes("1.2", eight[:3]...)
	w.ok("verify", "--repair", "--yes")
	require.Contains(t, w.ok("builds").out, "came in 1 wave over 1.0")
	w.ok("pin", "newest", "--yes")
	w.is("1.1")
	w.ok("unpin", "--stay")
	require.Contains(t, w.ok("builds", "--on", "2199-01-01").out, "1.1")
}

// TestAFightIsGivenUpPerUpdate: never five files of one build and three of another, made by Morvant.
func TestAFightIsGivenUpPerUpdate(t *testing.T) {
	t.Parallel()
	w := newWhole(t)
	w.ok("pin", "1.0", "--yes")
	w.becomes("1.2")
	w.write("data/new.pak", "new in 1.2")
	w.ok("watch", "--once", "--repair")
	w.is("1.0")
	w.becomes("1.2", eight[:3]...)
	w.ok("watch", "--once", "--repair")
	w.is("1.0")
	w.becomes("1.2", eight[1:4]...)
	r := w.run("watch", "--once", "--repair")
	require.Equal(t, 3, r.code, r.out)
	require.Contains(t, r.out, "for the third time within the hour")
	require.Contains(t, r.out, "the update as a whole (update/")
	w.is("1.2")
	history := w.ok("history").out
	require.Contains(t, history, "The keeping of update/")
	require.Equal(t, 3, w.run("watch", "--once", "--repair").code)
	w.is("1.2")
	w.ok("verify", "--repair", "--yes")
	w.is("1.0")
	w.ok("undo", "--yes", "--whole")
	w.ok("unpin", "--whole", "--yes")
	w.is("1.1")
}

// TestAnUnpinGivesBackWhatAnExactPinHasTaken: also the player's own files, unless they have been changed since.
func TestAnUnpinGivesBackWhatAnExactPinHasTaken(t *testing.T) {
	t.Parallel()
	w := newWhole(t)
	w.write("Mods/a.txt", "a of then")
	w.write("Mods/b.txt", "b of then")
	w.ok("snapshot", "then")
	w.write("Mods/a.txt", "a of now")
	w.write("Mods/b.txt", "b of now")
	w.write("Mods/new.txt", "new")
	w.ok("pin", "then", "--exact", "--yes")
	require.Equal(t, "a of then", w.read("Mods/a.txt"))
	require.NoFileExists(t, w.path("Mods/new.txt"))
	w.write("Mods/b.txt", "b, later")
	w.ok("unpin", "--yes")
	require.Equal(t, "a of now", w.read("Mods/a.txt"))
	require.Equal(t, "new", w.read("Mods/new.txt"))
	require.Equal(t, "b, later", w.read("Mods/b.txt"))
}

// TestATrimKeepsTheWayBack: what an unpin leads to is referred to, and an update as it came goes when it is forgotten.
func TestATrimKeepsTheWayBack(t *testing.T) {
	t.Parallel()
	w := newWhole(t)
	w.ok("pin", "1.0", "--yes")
	w.becomes("1.2", eight[:4]...)
	w.ok("verify", "--repair", "--yes")
	w.ok("store", "trim", "--yes")
	w.ok("store", "check")
	w.ok("unpin", "--yes")
	w.is("1.1")
	w.ok("store", "trim", "--yes")
	w.ok("undo", "--yes")
	w.is("1.0")
	w.ok("unpin", "--yes")
	w.is("1.1")
	w.ok("store", "check")
}
