package cli_test

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// huge is more than what status reads in passing.
const huge = 300 << 20

// newHuge holds a game that has a huge file, most of it nothing.
func newHuge(t *testing.T) *world {
	t.Helper()
	w := newWorld(t)
	w.write("small.txt", "small")
	w.write("huge.pak", "the start")
	require.NoError(t, os.Truncate(w.path("huge.pak"), huge))
	w.age()
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("pin", "1")
	return w
}

// patch changes a few bytes in the middle of a file, and gives it back its time.
func patch(t *testing.T, name string) {
	t.Helper()
	info, err := os.Stat(name)
	require.NoError(t, err)
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("four hundred bytes, or fewer"), info.Size()/2)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, os.Chtimes(name, info.ModTime(), info.ModTime()))
}

func TestAHugeFileThatWasTouchedIsNotCalledAsItShouldBe(t *testing.T) {
	t.Parallel()
	w := newHuge(t)
	patch(t, w.path("huge.pak"))
	unread := "1 file (315 MB) was touched and not read since; it may differ."
	r := w.run("status")
	require.Equal(t, 3, r.code, r.out)
	require.Contains(t, r.out, "is held at 1. "+unread)
	require.NotContains(t, r.out, "Every file is as it should be")
	require.Contains(t, r.out, "1 as built, ")
	j := w.json(3, "status")
	require.Equal(t, false, j["drifted"])
	require.Len(t, j["drift"].(map[string]any)["unread"], 1)
	r = w.run("launch", "--check-only")
	require.Equal(t, 3, r.code)
	require.Contains(t, r.err, unread)

	// A watch reads it: nothing else is to be done.
	r = w.run("watch", "--once")
	require.Equal(t, 3, r.code)
	require.Contains(t, r.out, "1 file of quay changed")
	require.Contains(t, w.run("status").out, "1 file differs.")
	require.Equal(t, 3, w.run("launch", "--check-only").code)

	// So does a repair, and then all is well.
	w.ok("verify", "--repair", "--yes")
	require.Contains(t, w.ok("status").out, "Every file is as it should be.")
}

func TestAHugeFileThatWasTouchedForNothingIsRead(t *testing.T) {
	onlyLong(t)
	t.Parallel()
	w := newHuge(t)
	require.NoError(t, os.Rename(w.path("huge.pak"), w.path("other")))
	require.NoError(t, os.Rename(w.path("other"), w.path("huge.pak")))
	now := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(w.path("huge.pak"), now, now))
	require.Equal(t, 3, w.run("status").code, "it is not known")
	require.Contains(t, w.ok("watch", "--once").err, "is 1, as it should be")
	w.ok("status")

	// Another file over it, with its name, time and size.
	other := filepath.Join(w.dir, "other.pak")
	require.NoError(t, os.WriteFile(other, []byte("not it"), 0o644))
	require.NoError(t, os.Truncate(other, huge))
	require.NoError(t, os.Chtimes(other, now, now))
	require.NoError(t, os.Rename(other, w.path("huge.pak")))
	require.Equal(t, 3, w.run("status").code)
	require.Contains(t, w.run("verify").out, "1 file differs")
	require.Contains(t, w.run("status").out, "1 file differs")
}

func TestAWatchReadsHugeFilesAtRestAndMendsThem(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("a process cannot be interrupted from here")
	}
	w := newHuge(t)
	before := w.picture()
	events, end := w.watching("--repair")
	defer end()
	require.Contains(t, w.next(events).Message, "as it should be")
	patch(t, w.path("huge.pak"))
	e := w.next(events)
	require.Equal(t, "1 file of quay touched (315 MB); reading it", e.Message)
	for !e.Mended {
		e = w.next(events)
	}
	require.Contains(t, e.Message, "1 file of quay changed; restored to 1")
	require.Equal(t, before, w.picture())
}
