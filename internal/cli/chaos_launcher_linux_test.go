//go:build long

package cli_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
)

// TestChaosWithALauncher lets a launcher with random habits work on a game that is watched and
// mended, while the player does one thing and another, and some of it is killed. In the end nothing
// of the player's is lost, no half build is held as a whole one, the block comes off, and the
// watch is alive.
func TestChaosWithALauncher(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("game", "set", "--keep", "Mods/**", "--updating-rule", w.state+`=(?i)^half-done = (yes)`)
	w.ok(w.setting()...)
	w.ok("block", "add", "staging-folder", "path="+w.state+".staging")
	w.ok("pin", "snapshot/1.1.1", "--yes")
	mods := make(map[string]string)
	var story []string
	tell := func(format string, args ...any) { story = append(story, fmt.Sprintf(format, args...)) }
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(story)
		}
	})

	watch := w.command("watch", "--repair", "--calm", "300ms", "--every", "2s", "-g", "quay")
	watch.Dir = w.dir
	said, err := os.Create(filepath.Join(w.dir, "watch.out"))
	require.NoError(t, err)
	watch.Stdout, watch.Stderr = said, said
	require.NoError(t, watch.Start())
	outside := func(args ...string) result {
		cmd := w.command(args...)
		cmd.Dir = w.dir
		return w.finish(cmd)
	}
	labels := []string{"1.1.0", "1.2.0", "1.3.0"}
	habits := slices.DeleteFunc(standin.Habits(), func(h standin.Habit) bool { return h == standin.Rename || h == standin.Hotfix })
	background := func(bound time.Duration, args ...string) func() {
		ctx, cancel := context.WithTimeout(t.Context(), bound)
		own := w.command(args...)
		cmd := exec.CommandContext(ctx, own.Path, own.Args[1:]...)
		cmd.Dir, cmd.Env = w.dir, own.Env
		if err := cmd.Start(); errors.Is(err, context.DeadlineExceeded) { // killed before it began
			cancel()
			return func() {}
		} else {
			require.NoError(t, err)
		}
		return func() { _ = cmd.Wait(); cancel() }
	}
	for end, n := time.Now().Add(chaosFor()), 0; time.Now().Before(end); n++ {
		idle := []string{"demo", "launcher", "idle", w.state, "--size", "2MB", "--pause", "300ms"}
		for range r.IntN(3) {
			idle = append(idle, "--habit", string(habits[r.IntN(len(habits))]))
		}
		if r.IntN(3) == 0 {
			idle = append(idle, "--stop-after", fmt.Sprint(1+r.IntN(10)))
		}
		outside("demo", "launcher", "offer", w.state, labels[r.IntN(len(labels))], "--size", "2MB")
		tell("%v", idle[4:])
		launcher := background(time.Duration(200+r.IntN(4000))*time.Millisecond, idle...)
		switch r.IntN(6) {
		case 0:
			name, text := fmt.Sprintf("Mods/%d.txt", n%5), fmt.Sprintf("mod %d", n)
			if os.MkdirAll(w.path("Mods"), 0o755) == nil && os.WriteFile(w.path(name), []byte(text), 0o644) == nil {
				tell("write %s", name)
			}
			// What is written while a launcher empties the folder is nobody's fault: it counts once it
			// is recorded.
			launcher()
			if b, err := os.ReadFile(w.path(name)); err == nil && string(b) == text && outside("snapshot", fmt.Sprintf("mods-%d", n), "-g", "quay").code == 0 {
				mods[name] = text
			}
		case 1:
			tell("unblock, block")
			outside("unblock", "-g", "quay", "--force")
			outside("block", "-g", "quay")
		case 2:
			tell("let-update")
			outside("let-update", "-g", "quay", "--calm", "300ms", "--then", []string{"pin", "back", "stay"}[r.IntN(3)], "--yes", "--after", "sleep 1")
			outside("pin", "snapshot/1.1.1", "-g", "quay", "--yes")
		case 3:
			tell("a pin that is killed")
			background(time.Duration(r.IntN(400))*time.Millisecond, "pin", "public/1.2.0", "-g", "quay", "--yes")()
		case 4:
			tell("pin")
			outside("pin", []string{"snapshot/1.1.1", "public/1.2.0"}[r.IntN(2)], "-g", "quay", "--yes")
		default:
			time.Sleep(time.Duration(r.IntN(1000)) * time.Millisecond)
		}
		launcher()
	}

	require.NoError(t, watch.Process.Signal(os.Interrupt), "the watch is alive")
	require.NoError(t, watch.Wait())
	b, err := os.ReadFile(said.Name())
	require.NoError(t, err)
	t.Logf("%d events, %d operations", len(b), len(story))

	// Held, whole, and blocked, however it was left.
	r2 := outside("pin", "snapshot/1.1.1", "-g", "quay", "--yes")
	require.Equal(t, 0, r2.code, r2.err)
	w.isRelease("1.1.1")
	r2 = outside("unblock", "-g", "quay", "--force")
	require.Equal(t, 0, r2.code, r2.err)
	require.NotContains(t, w.stateText(), "by-hand", "every block is off")
	info, err := os.Lstat(w.state + ".staging")
	require.True(t, err != nil || info.IsDir(), "the staging path is free")

	// Nothing of the player's is lost.
	for name, text := range mods {
		if b, err := os.ReadFile(w.path(name)); err == nil && string(b) == text {
			continue
		}
		found := false
		for _, s := range w.json(0, "builds", "--channel", "snapshot")["builds"].([]any) {
			label := s.(map[string]any)["label"].(string)
			if !found && w.run("pin", "snapshot/"+label, "--exact", "--yes", "--no-block").code == 0 {
				b, err := os.ReadFile(w.path(name))
				found = err == nil && string(b) == text
			}
		}
		require.True(t, found, "%s with %q is nowhere", name, text)
	}
	// No half build is recorded as a whole one: what let-update took by itself is a release.
	for _, s := range w.json(0, "builds", "--channel", "snapshot")["builds"].([]any) {
		build := s.(map[string]any)
		label := build["label"].(string)
		if build["doubt"] != nil || !slices.ContainsFunc(standin.Releases(), func(rel standin.Release) bool { return rel.Label == label }) {
			continue
		}
		require.Equal(t, 0, w.run("pin", "snapshot/"+label, "--yes", "--no-block").code)
		w.isRelease(label)
	}
}
