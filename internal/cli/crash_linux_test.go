package cli_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
)

// killPoints are the system calls that change something, in groups that are
// counted on their own.
var killPoints = []string{
	"renameat,renameat2,rename", "mkdirat,mkdir", "unlinkat,unlink,rmdir", "utimensat",
	"fsync,fdatasync,syncfs", "symlinkat", "pwrite64", "ftruncate", "write",
}

// crashWorld is a folder in which a pin has one of everything to do.
type crashWorld struct {
	*world
	template      string
	before, after map[string]string
}

func newCrashWorld(t *testing.T) *crashWorld {
	w := &crashWorld{world: newWorld(t)}
	w.write("same.txt", "stays as it is")
	w.write("data/changed.txt", "old content")
	w.write("data/deep/removed-by-update.txt", "comes back")
	w.write("music/song.ogv", "moves with its content")
	w.write("was-file", "a file that becomes a folder")
	w.write("was-folder/inside.txt", "in a folder that becomes a file")
	w.write("Mods/mine.txt", "mine")
	w.write("big.bin", strings.Repeat("0123456789abcdef", 40_000))
	require.NoError(t, os.Mkdir(w.path("empty"), 0o755))
	require.NoError(t, os.Symlink("same.txt", w.path("link")))
	require.NoError(t, os.Chmod(w.path("same.txt"), 0o600))
	w.age()
	w.ok("add", "quay", w.live, "--keep", "Mods/**")
	w.ok("snapshot", "1")
	w.after = w.picture()

	w.write("data/changed.txt", "new content, longer")
	require.NoError(t, os.RemoveAll(w.path("data/deep")))
	require.NoError(t, os.Mkdir(w.path("audio"), 0o755))
	require.NoError(t, os.Rename(w.path("music/song.ogv"), w.path("audio/song.ogv")))
	require.NoError(t, os.Remove(w.path("music")))
	require.NoError(t, os.Remove(w.path("was-file")))
	w.write("was-file/now-inside.txt", "folder now")
	require.NoError(t, os.RemoveAll(w.path("was-folder")))
	w.write("was-folder", "file now")
	w.write("big.bin", strings.Repeat("0123456789abcdef", 20_000)+"inserted"+strings.Repeat("0123456789abcdef", 20_000))
	require.NoError(t, os.Remove(w.path("empty")))
	require.NoError(t, os.Remove(w.path("link")))
	require.NoError(t, os.Symlink("big.bin", w.path("link")))
	require.NoError(t, os.Chmod(w.path("same.txt"), 0o644))
	w.write("added-by-update.txt", "goes")
	w.before = w.picture()
	w.template = filepath.Join(w.dir, "template")
	w.save()
	return w
}

func (w *crashWorld) save() {
	w.t.Helper()
	require.NoError(w.t, os.RemoveAll(w.template))
	require.NoError(w.t, os.Mkdir(w.template, 0o755))
	require.NoError(w.t, exec.Command("cp", "-a", w.live, w.home, w.template).Run())
}

// restore brings the world back to the moment before the pin.
func (w *crashWorld) restore() {
	w.t.Helper()
	require.NoError(w.t, os.RemoveAll(w.live))
	require.NoError(w.t, os.RemoveAll(w.home))
	require.NoError(w.t, exec.Command("cp", "-a", filepath.Join(w.template, "Quay"), filepath.Join(w.template, "home"), w.dir).Run())
}

// traced runs the program under strace with these options. One processor makes it
// likelier that a call with a number is the same one in every run.
func (w *world) traced(args []string, options ...string) result {
	w.t.Helper()
	path, err := exec.LookPath("strace")
	require.NoError(w.t, err)
	cmd := w.command(args...)
	cmd.Path = path
	cmd.Args = slices.Concat([]string{"strace", "-f", "-qq", "-o", "/dev/null"}, options, []string{program}, args)
	cmd.Env = append(cmd.Env, "GOMAXPROCS=1")
	return w.finish(cmd)
}

// killed runs the program and kills it at call number n of a group. It reports
// false if the program ended before.
func (w *crashWorld) killed(calls string, n int, args ...string) bool {
	w.t.Helper()
	r := w.traced(args, "-e", "trace="+calls, "-e", fmt.Sprintf("inject=%s:signal=KILL:when=%d", calls, n))
	if r.code == 0 {
		return false
	}
	require.Equal(w.t, -1, r.code, "killed at %s %d: %s", calls, n, r.err)
	return true
}

// settled expects the folder to be one of the two states once the next command
// has run, and both ways to be open from there.
func (w *crashWorld) settled(where string, from, to map[string]string, again []string) {
	w.t.Helper()
	r := w.run("status")
	require.Contains(w.t, []int{0, 3}, r.code, "%s: %s%s", where, r.out, r.err)
	require.NoDirExists(w.t, w.path(".morvant/change"), where)
	now := w.picture()
	finished := now["data/changed.txt"] == to["data/changed.txt"]
	if finished {
		require.Equal(w.t, to, now, where)
	} else {
		require.Equal(w.t, from, now, where)
		require.NotContains(w.t, r.err, "finished now", where)
		w.ok(again...)
		require.Equal(w.t, to, w.picture(), where)
	}
	w.ok("undo", "--yes")
	require.Equal(w.t, from, w.picture(), "%s: undo", where)
	w.ok("store", "check")
}

func canTrace(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("runs traced are slow")
	}
	if out, err := exec.Command("strace", "-qq", "-o", "/dev/null", "-e", "inject=getuid:retval=7", "true").CombinedOutput(); err != nil {
		t.Skipf("strace cannot inject faults here: %v %s", err, out)
	}
}

func TestKilledAtAnyPointAPinIsFinishedOrTakenBack(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	pin := []string{"pin", "1", "--clean", "--yes"}
	w.ok(pin...)
	require.Equal(t, w.after, w.picture(), "the pin itself")
	sweep(t, w, pin, w.before, w.after)
}

func TestKilledAtAnyPointAnUndoIsFinishedOrTakenBack(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	w.ok("pin", "1", "--clean", "--yes")
	w.save()
	for _, calls := range some(killPoints) {
		kills := 0
		for n := 1; ; n += stride(n) {
			w.restore()
			if !w.killed(calls, n, "undo", "--yes") {
				break
			}
			kills++
			where := fmt.Sprintf("undo killed at %s %d", calls, n)
			r := w.run("status")
			require.NoDirExists(t, w.path(".morvant/change"), where)
			now := w.picture()
			if now["data/changed.txt"] == w.before["data/changed.txt"] {
				require.Equal(t, w.before, now, where)
				continue
			}
			require.Equal(t, w.after, now, "%s: %s", where, r.err)
			w.ok("undo", "--yes")
			require.Equal(t, w.before, w.picture(), where)
		}
		require.Positive(t, kills, calls)
		t.Logf("undo: %d kills at %s", kills, calls)
	}
}

func sweep(t *testing.T, w *crashWorld, args []string, from, to map[string]string) {
	for _, calls := range some(killPoints) {
		kills := 0
		for n := 1; ; n += stride(n) {
			w.restore()
			if !w.killed(calls, n, args...) {
				break
			}
			kills++
			w.settled(fmt.Sprintf("%v killed at %s %d", args, calls, n), from, to, args)
		}
		require.Positive(t, kills, calls)
		t.Logf("%v: %d kills at %s", args, kills, calls)
	}
}

func TestKilledWhileRecoveringItRecoversAllTheSame(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	pin := []string{"pin", "1", "--clean", "--yes"}
	for n := 4; n < 40; n += 3 * stride(n) {
		w.restore()
		if !w.killed("renameat,renameat2,rename", n, pin...) {
			break
		}
		for m := 1; m < 10; m += 2 {
			if !w.killed("renameat,renameat2,rename,fsync,syncfs,unlinkat,unlink,rmdir", m, "status") {
				break
			}
		}
		w.settled(fmt.Sprintf("pin killed at rename %d, then its recovery", n), w.before, w.after, pin)
	}
}

// cutOff leaves a change cut off on its way, with the journal written.
func (w *crashWorld) cutOff(args []string) {
	w.t.Helper()
	for n := 9; n > 2; n-- {
		w.restore()
		if !w.killed("renameat,renameat2,rename", n, args...) {
			continue
		}
		if _, err := os.Stat(w.path(".morvant/change/journal")); err == nil {
			return
		}
	}
	w.t.Fatal("no kill left a journal behind")
}

func TestADamagedOrLostJournalIsReadFromItsCopyOrTheState(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	pin := []string{"pin", "1", "--clean", "--yes"}
	journal := w.path(".morvant/change/journal")
	w.cutOff(pin)
	w.flip(journal, 100)
	require.Contains(t, w.run("status").err, "Morvant has finished it")
	require.Equal(t, w.after, w.picture())

	w.cutOff(pin)
	w.flip(journal, 100)
	w.flip(journal+".2", 100)
	require.Contains(t, w.run("status").err, "Morvant has finished it", "the state and the store know the steps as well")
	require.Equal(t, w.after, w.picture())

	for _, name := range []string{"journal", "journal.2"} {
		w.cutOff(pin)
		require.NoError(t, os.Remove(w.path(".morvant/change/"+name)))
		require.Contains(t, w.run("status").err, "Morvant has finished it", name)
		require.Equal(t, w.after, w.picture(), name)
	}
}

func TestAnInterruptedSnapshotGoesOnWhereItStopped(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	// Large enough for the signal to arrive while there is work left.
	require.NoError(t, standin.Quay{Bytes: 96 << 20}.Write(w.live, "1.0.0"))
	w.ok("add", "quay", w.live)
	cmd := w.command("snapshot", "1")
	var errOut bytes.Buffer
	cmd.Stderr = &errOut
	require.NoError(t, cmd.Start())
	begun := func() bool {
		list, err := filepath.Glob(filepath.Join(w.home, "store", "packs", "open-*"))
		return err == nil && len(list) > 0
	}
	require.Eventually(t, begun, 20*time.Second, time.Millisecond)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()
	require.Equal(t, 130, cmd.ProcessState.ExitCode(), errOut.String())
	require.Contains(t, errOut.String(), "interrupted; nothing is left half done")
	require.Empty(t, w.json(0, "builds")["builds"])
	w.ok("snapshot", "1")
	w.ok("verify", "1")
	w.ok("store", "check")
}

func TestInterruptedAPinIsTakenBackOrFinished(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	pin := []string{"pin", "1", "--clean", "--yes"}
	back := 0
	for n := 1; n < 60; n += 3 * min(stride(1), 3) {
		w.restore()
		r := w.traced(pin, "-e", "trace=openat,renameat,fsync,syncfs", "-e", "inject=openat,renameat,fsync,syncfs:signal=INT:when="+fmt.Sprint(n))
		switch r.code {
		case 130:
			back++
			require.NoDirExists(t, w.path(".morvant/change"), "at %d", n)
			require.Contains(t, r.err, "nothing is left half done")
			require.Equal(t, w.before, w.picture(), "at %d", n)
		case 0:
			require.NoDirExists(t, w.path(".morvant/change"), "at %d", n)
			require.Equal(t, w.after, w.picture(), "at %d", n)
		case -1: // a second signal from another thread, or one before the program was listening
			w.settled(fmt.Sprintf("pin interrupted at %d", n), w.before, w.after, pin)
		default:
			t.Fatalf("at %d: exit code %d: %s", n, r.code, r.err)
		}
	}
	require.Positive(t, back)
}

func TestKilledAtAnyPointATrimLosesNothingThatIsNeeded(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	w.write("of-the-second.txt", strings.Repeat("second ", 3000))
	w.ok("snapshot", "2")
	w.ok("pin", "1", "--clean", "--yes")
	// One pack that is dead in part and has to be rewritten, and one that is dead.
	noise := make([]byte, 200_000)
	rand.NewChaCha8([32]byte{1}).Read(noise)
	w.write("of-the-third.bin", string(noise[:120_000]))
	w.write("of-both.bin", string(noise[120_000:]))
	w.ok("snapshot", "3")
	require.NoError(t, os.Remove(w.path("of-the-third.bin")))
	w.ok("snapshot", "4")
	w.write("of-the-fifth.txt", "fifth")
	w.ok("snapshot", "5")
	require.NoError(t, os.Remove(w.path("of-the-fifth.txt")))
	for _, label := range []string{"3", "5"} {
		w.ok("builds", "forget", label, "--yes")
	}
	w.save()
	for _, calls := range some([]string{"renameat,renameat2,rename", "fsync,fdatasync", "unlinkat,unlink,rmdir", "pwrite64"}) {
		kills := 0
		for n := 1; ; n += stride(n) {
			w.restore()
			if !w.killed(calls, n, "store", "trim", "--yes") {
				break
			}
			kills++
			where := fmt.Sprintf("trim killed at %s %d", calls, n)
			w.ok("store", "check")
			w.ok("verify", "4")
			w.ok("undo", "--yes")
			w.ok("pin", "2", "--exact", "--yes")
			require.Contains(t, w.read("of-the-second.txt"), "second", where)
			w.ok("pin", "4", "--exact", "--yes")
			require.Equal(t, string(noise[120_000:]), w.read("of-both.bin"), where)
			w.ok("store", "trim", "--yes")
			w.ok("store", "check")
		}
		require.Positive(t, kills, calls)
	}
}

func TestKilledAtAnyPointASnapshotCanBeTakenAgain(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	for _, calls := range some([]string{"renameat,renameat2,rename", "pwrite64", "fsync,fdatasync"}) {
		kills := 0
		for n := 1; ; n += stride(n) {
			w.restore()
			if !w.killed(calls, n, "snapshot", "2") {
				break
			}
			kills++
			if len(w.json(0, "builds")["builds"].([]any)) == 1 {
				w.ok("snapshot", "2")
			}
			w.ok("store", "check")
			w.ok("verify", "2")
			require.Equal(t, w.before, w.picture())
		}
		require.Positive(t, kills, calls)
	}
}
