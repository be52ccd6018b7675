package cli_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
)

// watched is a held game that is watched and mended.
func watched(t *testing.T, args ...string) (w *launched, events <-chan watchEvent, end func()) {
	t.Helper()
	if runtime.GOOS == "windows" {
		t.Skip("a process cannot be interrupted from here")
	}
	w = newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("pin", "snapshot/1.1.1", "--yes")
	events, end = w.watching(append([]string{"--repair"}, args...)...)
	require.Contains(t, w.next(events).Message, "as it should be")
	return w, events, end
}

// mended waits for the event that says that the lane was brought back.
func (w *world) mended(events <-chan watchEvent) watchEvent {
	w.t.Helper()
	for {
		e := w.next(events)
		if e.Mended {
			return e
		}
		w.t.Log(e.Message)
	}
}

// becomes waits until the folder is a release as a whole.
func (w *launched) becomes(label string) {
	w.t.Helper()
	require.Eventually(w.t, func() bool {
		got, err := standin.Play(standin.Quay{Bytes: 2_000_000}, w.live, true)
		return err == nil && got == label
	}, waitLong, waitStep)
}

// TestAWatchGoesOnInAFolderThatIsSwapped: emptied, put in the place of the old one, twice in a
// row, gone for a while, given another name and back.
func TestAWatchGoesOnInAFolderThatIsSwapped(t *testing.T) {
	t.Parallel()
	for _, habit := range []string{"swap", "wipe", "zero-fill"} {
		w, events, end := watched(t)
		w.launcher(0, "offer", "1.3.0")
		w.launcher(0, "idle", "--habit", habit)
		require.Contains(t, w.mended(events).Message, "restored to 1.1.1", habit)
		w.isRelease("1.1.1")
		end()
	}
	w, _, end := watched(t)
	defer end()
	// Two swaps in a row.
	for _, label := range []string{"1.2.0", "1.3.0"} {
		w.launcher(0, "offer", label)
		w.launcher(0, "idle", "--habit", "swap")
	}
	w.becomes("1.1.1")
}

func TestAWatchGoesOnInAFolderThatWasAway(t *testing.T) {
	t.Parallel()
	w, events, end := watched(t)
	defer end()
	away := w.live + ".away"
	require.NoError(t, os.Rename(w.live, away))
	require.NoError(t, standin.Quay{Bytes: 2_000_000}.Write(away, "1.3.0"))
	require.NoError(t, os.Rename(away, w.live))
	w.mended(events)
	w.isRelease("1.1.1")
}

func TestWhatCannotBeMendedIsTriedAgain(t *testing.T) {
	t.Parallel()
	w, events, end := watched(t, "--every", "3s")
	defer end()
	sleep, err := exec.LookPath("sleep")
	require.NoError(t, err)
	b, err := os.ReadFile(sleep)
	require.NoError(t, err)
	exe := w.path("logs/game")
	require.NoError(t, os.MkdirAll(filepath.Dir(exe), 0o755))
	require.NoError(t, os.WriteFile(exe, b, 0o755))
	game := exec.Command(exe, "600")
	require.NoError(t, game.Start())
	w.write("data/cargo.pak", "spoilt")
	e := w.next(events)
	require.Contains(t, e.Message, "it could not be restored: the game is running")
	require.Contains(t, e.Message, "Morvant tries again")
	require.NoError(t, game.Process.Kill())
	_ = game.Wait()
	e = w.next(events)
	require.True(t, e.Mended, "said once, then mended: %s", e.Message)
}

func TestAWatchDoesNotMendInMidWrite(t *testing.T) {
	t.Parallel()
	w, events, end := watched(t, "--every", "2s")
	defer end()
	w.launcher(0, "offer", "1.3.0")
	update := w.begin("demo", "launcher", "idle", w.state, "--size", "2MB", "--habit", "keep-open", "--pause", "4s")
	e := w.next(events)
	for !strings.Contains(e.Message, "an update is arriving") {
		e = w.next(events) // what was written before the machine took a rest
	}
	require.False(t, e.Mended, e.Message)
	require.Contains(t, e.Message, "an update is arriving: morvant (process ")
	require.Contains(t, e.Message, "has harbour.pak open for writing")
	update.ends(0)
	w.becomes("1.1.1")
}

func TestAnEndlessFightIsNoticed(t *testing.T) {
	t.Parallel()
	w, events, end := watched(t)
	spoil := func() { w.write("data/cargo.pak", "spoilt again") }
	for range 2 {
		spoil()
		require.Contains(t, w.mended(events).Message, "restored")
	}
	w.write("readme.txt", "this for the first time")
	spoil()
	var e watchEvent
	for e = w.next(events); !strings.Contains(e.Message, "for the third time"); e = w.next(events) {
		t.Log(e.Message)
	}
	require.Contains(t, e.Message, "morvant block presets")
	require.Contains(t, e.Message, "morvant let-update")
	require.Equal(t, "spoilt again", w.read("data/cargo.pak"))
	require.Equal(t, "this for the first time", w.read("readme.txt"), "it may be of the same update, of which no half is mended")
	end()

	history := w.json(0, "history")["changes"].([]any)
	repairs := 0
	for _, c := range history {
		if c.(map[string]any)["what"] == "repair" {
			repairs++
		}
	}
	require.Equal(t, 1, repairs, "the same repair twice is one")
	require.Contains(t, w.ok("history").out, "The repair to 1.1.1, 2 times")

	// Looks by a scheduler know of it as well.
	w.ok("verify", "--repair", "--yes")
	spoil()
	w.ok("watch", "--once", "--repair")
	spoil()
	r := w.run("watch", "--once", "--repair")
	require.Equal(t, 3, r.code, r.out)
	require.Contains(t, r.out, "for the third time")
}

func TestARestlessStateFileIsOneLine(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("a process cannot be interrupted from here")
	}
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("pin", "1.1.1", "--yes")
	events, end := w.watching()
	w.next(events)
	for i := range 20 {
		require.NoError(t, os.WriteFile(w.state, []byte("updates = at-once\nseen = "+strings.Repeat("x", i)+"\n"), 0o644))
		if i == 0 {
			require.Contains(t, w.next(events).Message, "the block is broken")
		}
	}
	w.write("data/cargo.pak", "spoilt")
	e := w.next(events)
	require.Contains(t, e.Message, "1 file of quay changed", "nothing has been said of the state file again")
	end()
}

func TestWhatStayedIsTold(t *testing.T) {
	t.Parallel()
	w, events, end := watched(t, "--calm", "2s") // so that both are one change
	defer end()
	w.write("data/cargo.pak", "of an update that nobody knows")
	w.write("data/new-in-the-update.pak", "nobody knows it")
	e := w.mended(events)
	require.Contains(t, e.Message, "1 file that nobody knows stays (data/new-in-the-update.pak)")
	require.FileExists(t, w.path("data/new-in-the-update.pak"))
}

// TestARepairRemovesWhatASnapshotHasAdded: where no feed knows the update, but a snapshot does.
func TestARepairRemovesWhatASnapshotHasAdded(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.write("Mods/mine.txt", "a mod")
	w.launcher(0, "offer", "1.3.0")
	w.launcher(0, "idle")
	require.NoError(t, os.RemoveAll(w.path("Mods")))
	w.ok("snapshot", "1.3.0")
	w.ok("pin", "1.1.1", "--yes")
	w.write("Mods/mine.txt", "a mod")
	w.launcher(0, "offer", "1.3.0")
	w.launcher(0, "idle")
	w.ok("verify", "--repair", "--yes")
	w.isRelease("1.1.1")
	require.NoFileExists(t, w.path("data/audio/music/shanty-1.ogv"))
	require.FileExists(t, w.path("Mods/mine.txt"))
	w.ok("undo", "--yes")
	require.FileExists(t, w.path("data/audio/music/shanty-1.ogv"))
}

func TestEventsSayWhyNothingIsMended(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	zeros := make([]byte, 100_000)
	require.NoError(t, os.WriteFile(w.path("data/cargo.pak"), zeros, 0o644))
	r := w.run("--json", "watch", "--once", "--repair")
	require.Equal(t, 3, r.code, r.out)
	var e struct {
		AtWork []string `json:"at_work"`
		Mended bool
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &e))
	require.Contains(t, e.AtWork[0], "data/cargo.pak ends in zeros")
	require.False(t, e.Mended)
}

// TestAnUpdateAtTheGamesEndIsSeen: right then, or a little later.
func TestAnUpdateAtTheGamesEndIsSeen(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("pin", "snapshot/1.1.1", "--yes", "--companion", `bin/standalone.txt=240117\n`)
	launcher := []string{"demo", "launcher", "start", w.state, "--size", "2MB", "--habit", "at-exit"}
	launch := func(again string) result {
		return w.ok(append([]string{"launch", "--wait", "0s", "--look-again", again, "--through", program, "--"}, launcher...)...)
	}
	require.NotContains(t, launch("0s").err, "After the game")
	w.launcher(0, "offer", "1.3.0")
	r := launch("0s")
	require.Contains(t, r.err, "After the game: ")
	require.Contains(t, r.err, "1.1.1 → 1.3.0. Restore it: morvant verify --repair")
	w.ok("verify", "--repair", "--yes")

	// A helper that stays a while after the game has ended.
	helper := `sleep 1; ` + program + ` demo launcher idle ` + w.state + ` --size 2MB`
	if runtime.GOOS == "windows" {
		t.Skip("there is no sh here")
	}
	w.launcher(0, "offer", "1.3.0")
	r = w.ok("launch", "--wait", "0s", "--look-again", "5s", "--through", "/bin/sh", "--", "-c", "("+helper+") >/dev/null 2>&1 &")
	require.Contains(t, r.err, "After the game: ")
}

// TestAWatchSeesTheLaneThatIsSwitchedTo: at once, and not with the next look in any case.
func TestAWatchSeesTheLaneThatIsSwitchedTo(t *testing.T) {
	t.Parallel()
	w, events, end := watched(t, "--every", "2h")
	defer end()
	w.ok("lane", "new", "old", "--from", "1.1.1", "--yes")
	w.ok("lane", "switch", "old")
	altered := func() {
		require.NoError(t, os.WriteFile(w.path("readme.txt"), []byte("altered"), 0o644))
		require.Contains(t, w.mended(events).Message, "restored to 1.1.1")
	}
	altered()
	w.ok("lane", "switch", "main")
	altered()
}
