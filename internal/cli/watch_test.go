package cli_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// How long something is waited for that a program in the background does, and how often looked.
const (
	waitLong = 60 * time.Second
	waitStep = 100 * time.Millisecond
)

type watchEvent struct {
	Gone    []any
	Message string
	Drifted bool
	Mended  bool
	Files   int
	Update  *struct {
		Build    string
		Done, Of int
	}
}

// watching starts the watch and returns its events and what ends it.
func (w *world) watching(args ...string) (<-chan watchEvent, func()) {
	w.t.Helper()
	events, end := w.watchingBy(w.command(append([]string{"--json", "watch", "--calm", "300ms"}, args...)...))
	return events, func() { end() }
}

// watchingBy is watching with a command of its own; the end returns what it has said
// beside its events.
func (w *world) watchingBy(cmd *exec.Cmd) (<-chan watchEvent, func() string) {
	w.t.Helper()
	out, err := cmd.StdoutPipe()
	require.NoError(w.t, err)
	var said bytes.Buffer
	cmd.Stderr = &said
	require.NoError(w.t, cmd.Start())
	events := make(chan watchEvent, 100)
	go func() {
		for in := bufio.NewScanner(io.Reader(out)); in.Scan(); {
			var e watchEvent
			if json.Unmarshal(in.Bytes(), &e) == nil {
				events <- e
			}
		}
		close(events)
	}()
	return events, func() string {
		require.NoError(w.t, cmd.Process.Signal(os.Interrupt))
		require.NoError(w.t, cmd.Wait(), said.String())
		return said.String()
	}
}

func (w *world) next(events <-chan watchEvent) watchEvent {
	w.t.Helper()
	select {
	case e, ok := <-events:
		require.True(w.t, ok, "the watch has ended")
		return e
	case <-time.After(30 * time.Second):
		w.t.Fatal("no event")
	}
	return watchEvent{}
}

func TestAWatchTellsOfAnUpdateInOneMessage(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("a process cannot be interrupted from here")
	}
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("pin", "snapshot/1.1.1", "--yes")
	require.Equal(t, 0, w.run("watch", "--once").code)
	w.launcher(0, "offer", "1.3.0")
	events, end := w.watching()
	require.Contains(t, w.next(events).Message, "as it should be")
	w.launcher(1, "idle", "--stop-after", "6")
	e := w.next(events)
	require.Contains(t, e.Message, "1.1.1 → 1.3.0, half done")
	require.Equal(t, "1.3.0", e.Update.Build)
	w.launcher(0, "idle")
	e = w.next(events)
	require.Equal(t, e.Update.Of, e.Update.Done)
	w.ok("verify", "--repair", "--yes")
	require.Contains(t, w.next(events).Message, "as it should be", "also when another command mends it")
	end()
	_, more := <-events
	require.False(t, more, "one message a burst")
}

func TestAWatchMends(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("a process cannot be interrupted from here")
	}
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("pin", "1.1.1", "--yes")
	before := w.picture()
	note := filepath.Join(w.dir, "notice")
	events, end := w.watching("--repair", "--notice", "touch "+note)
	w.next(events)
	w.write("new/folder/file.txt", "extra is no drift")
	w.write("data/cargo.pak", "spoilt")
	e := w.next(events)
	for !e.Mended {
		t.Log(e.Message)
		e = w.next(events)
	}
	require.Contains(t, e.Message, "restored to 1.1.1")
	require.NoError(t, os.RemoveAll(w.path("new")))
	require.Equal(t, before["data/cargo.pak"], w.picture()["data/cargo.pak"])
	require.NoError(t, os.WriteFile(w.state, []byte("updates = at-once\n"), 0o644)) // the launcher rewrites its setting
	for e = w.next(events); !e.Mended; e = w.next(events) {
	}
	require.Contains(t, e.Message, "the block is broken")
	b, err := os.ReadFile(w.state)
	require.NoError(t, err)
	require.Equal(t, "updates = by-hand\n", string(b))
	end()
	require.FileExists(t, filepath.Join(w.dir, "notice"))
	w.write("data/cargo.pak", "spoilt")
	require.Equal(t, 3, w.run("watch", "--once").code)
	require.Contains(t, w.ok("watch", "--install").out, "watch --repair")
}
