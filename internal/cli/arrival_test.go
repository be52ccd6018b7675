package cli_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// running is a command that goes on while the test does, and what it has said so far.
type running struct {
	w      *world
	cmd    *exec.Cmd
	mu     sync.Mutex
	out    bytes.Buffer
	moment chan struct{} // something has been said
}

func (r *running) Write(b []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.out.Write(b)
	select {
	case r.moment <- struct{}{}:
	default:
	}
	return len(b), nil
}

func (r *running) said() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.out.String()
}

// begin starts a command; out and err come together.
func (w *world) begin(args ...string) *running {
	w.t.Helper()
	r := &running{w: w, cmd: w.command(args...), moment: make(chan struct{}, 1)}
	r.cmd.Stdout, r.cmd.Stderr = r, r
	require.NoError(w.t, r.cmd.Start())
	w.t.Cleanup(func() { _ = r.cmd.Process.Kill() })
	return r
}

// until waits for words to be said.
func (r *running) until(words string) {
	r.w.t.Helper()
	for late := time.After(60 * time.Second); !strings.Contains(r.said(), words); {
		select {
		case <-r.moment:
		case <-late:
			require.Fail(r.w.t, "it has not said "+words, r.said())
		}
	}
}

func (r *running) ends(code int) string {
	r.w.t.Helper()
	_ = r.cmd.Wait()
	require.Equal(r.w.t, code, r.cmd.ProcessState.ExitCode(), r.said())
	return r.said()
}

const waits = "Updates are let in"

// TestHalfAnUpdateIsNeverHeldAsABuild: the launcher has made every file at its full size and has
// filled two of them when it stalls.
func TestHalfAnUpdateIsNeverHeldAsABuild(t *testing.T) {
	t.Parallel()
	for _, known := range []bool{true, false} {
		w := newLaunched(t)
		if known {
			w.ok("feed", "add", w.feed)
		}
		w.ok("pin", "snapshot/1.1.1", "--yes")
		w.launcher(0, "offer", "1.3.0")
		by := "let-update --calm 200ms --then pin --after"
		stall := program + " demo launcher idle " + w.state + " --size 2MB --habit zero-fill --stop-after 2 || cd ."
		r := w.run(append(strings.Fields(by), stall)...)
		require.Equal(t, 1, r.code, r.out)
		require.Contains(t, r.err, "the update is incomplete")
		require.Contains(t, r.err, "ends in zeros, as if it were still being filled, and ")
		require.Len(t, w.json(0, "builds", "--channel", "snapshot")["builds"], 1, "nothing is recorded")
		w.ok("verify", "--repair", "--yes")

		// Without a command that is known to have ended, it waits on.
		wait := w.begin("let-update", "--calm", "200ms", "--then", "pin")
		wait.until(waits)
		w.launcher(1, "idle", "--habit", "zero-fill", "--stop-after", "2")
		wait.until("ends in zeros")
		w.launcher(0, "idle")
		if known {
			require.Contains(t, wait.ends(0), "is 1.3.0 now")
			require.NotContains(t, w.ok("builds", "--channel", "public").out, "possibly incomplete")
		} else {
			wait.until("none of the known builds")
			w.ok("let-update", "--done")
			require.Contains(t, wait.ends(0), "is 1.3.0 now")
		}
		w.fails(1, "nobody is waiting for an update", "let-update", "--done")
	}
}

func TestABuildRecordedOnDoubtIsMarkedUntilItIsSeenWhole(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	w.launcher(0, "offer", "1.3.0")
	wait := w.begin("let-update", "--calm", "200ms", "--then", "pin", "--label", "odd")
	wait.until(waits)
	w.launcher(1, "idle", "--habit", "zero-fill", "--stop-after", "2")
	wait.until("ends in zeros")
	w.ok("let-update", "--done")
	require.Contains(t, wait.ends(0), "marked as possibly incomplete")
	for _, command := range [][]string{{"status"}, {"builds"}, {"verify"}, {"watch", "--once"}} {
		r := w.ok(command...)
		require.Contains(t, r.out+r.err, "possibly incomplete", command)
	}
	build := w.json(0, "status")["build"].(map[string]any)
	require.Contains(t, build["doubt"], "zeros")
	w.ok("store", "check", "--recover-builds")
	w.ok("builds", "whole", "odd")
	require.NotContains(t, w.ok("status").out, "possibly incomplete")
	require.Contains(t, w.ok("builds", "whole", "odd").out, "is not marked")

	// The launcher goes on, and what it leads to is whole.
	wait = w.begin("let-update", "--calm", "1s", "--then", "pin", "--label", "1.3.0") // a busy launcher is no calm one
	wait.until(waits)
	w.launcher(0, "idle")
	require.NotContains(t, wait.ends(0), "possibly incomplete")
	w.isRelease("1.3.0")
}

func TestADoubtEndsWhereAFeedHasTheSameBuild(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("game", "set", "--updating-rule", w.state+"=^half-done = (yes)")
	w.ok("pin", "1.1.1", "--yes")
	wait := w.begin("let-update", "--calm", "200ms", "--then", "pin")
	wait.until(waits)
	w.launcher(0, "offer", "1.3.0")
	w.launcher(0, "idle")
	wait.until("none of the known builds")
	require.NoError(t, os.WriteFile(w.state, []byte("half-done = yes\n"), 0o644))
	wait.until(`the launcher says that it is at work ("yes")`)
	w.ok("let-update", "--done")
	wait.ends(0)
	require.Contains(t, w.ok("status").out, "possibly incomplete")
	w.ok("feed", "add", w.feed)
	require.NotContains(t, w.ok("status").out, "possibly incomplete")
	require.NotContains(t, w.ok("builds", "--channel", "public").out, "possibly incomplete")
}

func TestAProgramThatDoesNotSayItsVersionAnyMoreIsNotWhole(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("game", "set", "--program", "bin/quay.exe")
	w.ok("pin", "1.1.1", "--yes")
	wait := w.begin("let-update", "--calm", "200ms", "--then", "stay", "--label", "new")
	wait.until(waits)
	require.NoError(t, os.WriteFile(w.path("bin/quay.exe"), []byte("not a program yet"), 0o755))
	wait.until("bin/quay.exe no longer reports its version")
	require.NoError(t, wait.cmd.Process.Kill())
}

// TestAHotfixThatNobodyKnowsIsTaken: a known build but for one file is not half done for ever.
func TestAHotfixThatNobodyKnowsIsTaken(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("pin", "snapshot/1.1.1", "--yes")
	w.launcher(0, "offer", "1.3.0")
	wait := w.begin("let-update", "--calm", "200ms", "--then", "pin", "--label", "1.3.0-hotfix")
	wait.until(waits)
	w.launcher(0, "idle", "--habit", "hotfix")
	require.Contains(t, wait.ends(0), "is 1.3.0-hotfix now")
	status := w.ok("status").out
	require.NotContains(t, status, "possibly incomplete", "nothing speaks against it")

	// Without a name for it, both readings are told.
	w.ok("pin", "snapshot/1.1.1", "--yes")
	w.ok("builds", "forget", "1.3.0-hotfix", "--yes")
	w.launcher(0, "offer", "1.3.0")
	wait = w.begin("let-update", "--calm", "200ms", "--then", "stay")
	wait.until(waits)
	w.launcher(0, "idle", "--habit", "hotfix")
	wait.until("the update looks complete, but it is none of the known builds (like 1.3.0, but for 1 file)")
	w.ok("let-update", "--done")
	require.Contains(t, wait.ends(0), "is 1.3.0 now", "as the game says")
}

func TestWhileTheLauncherIsAtWorkAnUpdateIsNotOver(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("game", "set", "--updating-rule", w.state+"=^half-done = (yes)")
	w.ok("pin", "snapshot/1.1.1", "--yes")
	w.launcher(0, "offer", "1.3.0")
	wait := w.begin("let-update", "--calm", "200ms", "--then", "pin")
	wait.until(waits)
	w.launcher(1, "idle", "--stop-after", "3")
	wait.until(`the launcher says that it is at work ("yes")`)
	w.launcher(0, "idle")
	require.Contains(t, wait.ends(0), "is 1.3.0 now")
}

// TestALauncherThatSwapsTheFolder puts another folder in the lane's place, or calls it otherwise.
func TestALauncherThatSwapsTheFolder(t *testing.T) {
	t.Parallel()
	for _, habit := range []string{"swap", "wipe", "rename"} {
		w := newLaunched(t)
		w.ok("feed", "add", w.feed)
		w.ok(w.setting()...)
		w.ok("pin", "snapshot/1.1.1", "--yes")
		w.launcher(0, "offer", "1.3.0")
		calm := "200ms"
		if runtime.GOOS == "windows" {
			calm = "8s" // where a look at the folder keeps it from being moved, for its time
		}
		wait := w.begin("let-update", "--calm", calm, "--then", "pin", "--yes")
		wait.until(waits)
		w.outside("demo", "launcher", "idle", w.state, "--size", "2MB", "--habit", habit) // on some systems a folder that a program works in cannot be moved
		if habit == "rename" {
			w.live += " (updated)"
		}
		wait.ends(0)
		w.isRelease("1.3.0")
		require.Contains(t, w.ok("status").out, "is held at 1.3.0", habit)
		require.Contains(t, w.stateText(), "updates = by-hand", "%s: the block is on again", habit)
		require.FileExists(t, filepath.Join(w.live, ".morvant", "lane.toml"))
		w.ok("unblock")
	}
}

func TestACommandThatFailsEndsTheWaitForAnUpdate(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	w.ok("pin", "1.2.0", "--yes")
	r := w.run("let-update", "--after", "no-such-program-anywhere", "--yes")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "no-such-program-anywhere")
	require.NotContains(t, r.err, "mistake", "also where the folder is let go between two looks")
	w.ok("verify")
}
