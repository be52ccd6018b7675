package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestAnExtraFileMakesRoomForFoldersThatAreEmptyInTheBuild(t *testing.T) {
	t.Parallel()
	for _, deep := range []string{"d", "d/e", "d/e/f"} {
		w := newWorld(t)
		w.write("a.txt", "one")
		require.NoError(t, os.MkdirAll(w.path(deep), 0o755))
		w.ok("add", "quay", w.live)
		w.ok("snapshot", "1")
		require.NoError(t, os.RemoveAll(w.path("d")))
		w.write("d", "an extra file")
		w.write("a.txt", "two")
		w.ok("pin", "1", "--yes")
		require.DirExists(t, w.path(deep))
		w.ok("undo", "--yes")
		require.Equal(t, "an extra file", w.read("d"))
		require.Equal(t, "two", w.read("a.txt"))
		w.ok("status")
	}
}

// TestAFileOfSomebodyElseDoesNotStopAChange has two files that belong to root, and a
// player who is not: of the one only the time differs, the other is to be moved.
func TestAFileOfSomebodyElseDoesNotStopAChange(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ordinary := w.ordinary()
	w.write("roots.txt", "root's")
	w.write("mine.txt", "one")
	w.write("moved.txt", "moves")
	w.age()
	require.NoError(t, exec.Command("chown", "-R", "65534:65534", w.dir).Run())
	require.Equal(t, 0, ordinary("add", "quay", w.live).code)
	require.Equal(t, 0, ordinary("snapshot", "1").code)
	w.write("mine.txt", "two")
	require.NoError(t, os.Rename(w.path("moved.txt"), w.path("elsewhere.txt")))
	for _, name := range []string{"roots.txt", "elsewhere.txt"} {
		require.NoError(t, os.Chtimes(w.path(name), time.Now(), time.Now()))
		require.NoError(t, os.Chown(w.path(name), 0, 0))
	}
	require.NoError(t, os.Chown(w.path("mine.txt"), 65534, 65534))
	dry := ordinary("pin", "1", "--dry-run")
	require.Equal(t, 0, dry.code)
	require.Contains(t, dry.err, "the date or mode of roots.txt stays as it is: the file belongs to another user")
	r := ordinary("pin", "1", "--yes")
	require.Equal(t, 0, r.code, r.err)
	require.Contains(t, r.err, "the date or mode of moved.txt could not be set")
	require.Equal(t, "one", w.read("mine.txt"))
	require.Equal(t, "moves", w.read("moved.txt"))
	r = ordinary("undo", "--yes")
	require.Equal(t, 0, r.code, r.err)
	require.Equal(t, "two", w.read("mine.txt"))
	require.Equal(t, 0, ordinary("status").code)
}

func TestAnImmutableFileIsSeenBeforeAnythingIsChanged(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "one")
	w.write("b.txt", "same")
	w.age()
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.write("a.txt", "two")
	require.NoError(t, os.Chtimes(w.path("b.txt"), time.Now(), time.Now()))
	if out, err := exec.Command("chattr", "+i", w.path("a.txt"), w.path("b.txt")).CombinedOutput(); err != nil {
		t.Skipf("no file can be made immutable here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("chattr", "-i", w.path("a.txt"), w.path("b.txt")).Run() })
	before := w.picture()
	w.fails(1, "a.txt: it is immutable", "pin", "1", "--yes")
	require.Equal(t, before, w.picture())
	require.NoError(t, exec.Command("chattr", "-i", w.path("a.txt")).Run())
	require.Contains(t, w.ok("pin", "1", "--yes").err, "the date or mode of b.txt stays as it is: the file is immutable")
	require.Equal(t, "one", w.read("a.txt"))
	w.ok("undo", "--yes")
	require.Equal(t, before, w.picture())
	require.NoError(t, exec.Command("chattr", "+i", w.live).Run())
	t.Cleanup(func() { _ = exec.Command("chattr", "-i", w.live).Run() })
	w.fails(1, "the folder "+w.live+": it is immutable", "pin", "1", "--yes")
	require.Equal(t, before, w.picture())
}

// cutOffAfterDisplacing leaves a pin of the crash world cut off with its files set aside.
func (w *crashWorld) cutOffAfterDisplacing(args []string) {
	w.t.Helper()
	w.restore()
	r := w.traced(args, "-P", w.path(".morvant/change/displaced"), "-e", "trace=fsync", "-e", "inject=fsync:signal=KILL:when=1")
	require.Equal(w.t, -1, r.code, r.err)
	require.FileExists(w.t, w.path(".morvant/change/displaced"))
}

func TestFilesThatCameBackInBetweenGoIntoTheStoreAndAside(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	w.cutOffAfterDisplacing([]string{"pin", "1", "--clean", "--yes"})
	w.write("data/changed.txt", "the launcher wrote this")
	w.write("was-folder", "and this")
	w.write("big.bin", "and a short one")
	r := w.run("status")
	require.Contains(t, r.err, "Morvant has finished it")
	require.Contains(t, r.err, "files meanwhile")
	require.Equal(t, w.after, w.picture())
	require.Len(t, strings.Split(strings.TrimSpace(r.err), "\n"), 1, "one sentence")
	list, err := filepath.Glob(w.path(".morvant/aside/*/data/changed.txt"))
	require.NoError(t, err)
	require.Len(t, list, 1)
	b, err := os.ReadFile(list[0])
	require.NoError(t, err)
	require.Equal(t, "the launcher wrote this", string(b))
	history := w.json(0, "history")["changes"].([]any)[0].(map[string]any)
	require.Contains(t, history["notes"], "something else wrote")
	require.Contains(t, w.ok("builds").out, "set-aside-")
	w.ok("store", "trim", "--yes")
	w.ok("store", "check")
	w.ok("undo", "--yes")
	require.Equal(t, w.before, w.picture())
}

// TestKilledAtAnyPointWhatFollowsAChangeIsDone kills a pin and an unpin with a block, and
// expects the block to go with the hold once the next command has run.
func TestKilledAtAnyPointWhatFollowsAChangeIsDone(t *testing.T) {
	t.Parallel()
	onlyLong(t)
	canTrace(t)
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("block", "add", "read-only-files")
	w.ok("block", "add", "staging-folder", "path="+w.state+".staging")
	w.write("readme.txt", "changed by hand")
	places := []string{w.live, w.home, filepath.Dir(w.state)}
	template := filepath.Join(w.dir, "template")
	save := func() {
		require.NoError(t, os.RemoveAll(template))
		require.NoError(t, os.Mkdir(template, 0o755))
		require.NoError(t, exec.Command("cp", append(append([]string{"-a"}, places...), template)...).Run())
	}
	restore := func() {
		for _, dir := range places {
			require.NoError(t, os.RemoveAll(dir))
			require.NoError(t, exec.Command("cp", "-a", filepath.Join(template, filepath.Base(dir)), dir).Run())
		}
	}
	free, found := w.picture(), w.stateText()
	c := &crashWorld{world: w.world}
	check := func(where string) {
		w.run("status")
		s := w.json(3*boolToInt(w.run("status").code == 3), "status")
		if s["held"] == true {
			for _, b := range s["block"].([]any) {
				require.Equal(t, true, b.(map[string]any)["holds"], "%s: %v", where, b)
			}
			require.NotEqual(t, found, w.stateText(), where)
			return
		}
		require.Equal(t, found, w.stateText(), where)
		require.NoFileExists(t, w.state+".staging", where)
		for p, is := range w.picture() {
			require.Equal(t, strings.Fields(free[p])[0], strings.Fields(is)[0], "%s: the mode of %s", where, p)
		}
	}
	sweep := func(args ...string) {
		for _, calls := range []string{"renameat,renameat2,rename", "fchmodat,fchmod", "unlinkat", "fsync,fdatasync", "pwrite64"} {
			kills := 0
			for n := 1; n < 300; n += 7 * stride(n) {
				restore()
				if !c.killed(calls, n, args...) {
					break
				}
				kills++
				check(fmt.Sprintf("%v killed at %s %d", args, calls, n))
			}
			t.Logf("%v: %d kills at %s", args, kills, calls)
		}
	}
	save()
	sweep("pin", "1.1.1", "--yes")
	restore()
	w.ok("pin", "1.1.1", "--yes")
	save()
	sweep("unpin", "--yes")
	sweep("unpin", "--stay")
}

// play starts a program from the live folder, as a running game, and returns what ends it.
func (w *world) play() (stop func()) {
	w.t.Helper()
	sleep, err := exec.LookPath("sleep")
	require.NoError(w.t, err)
	b, err := os.ReadFile(sleep)
	require.NoError(w.t, err)
	game := w.path("logs/running-game")
	require.NoError(w.t, os.MkdirAll(filepath.Dir(game), 0o755))
	require.NoError(w.t, os.WriteFile(game, b, 0o755))
	cmd := exec.Command(game, "600")
	require.NoError(w.t, cmd.Start())
	return func() {
		require.NoError(w.t, cmd.Process.Kill())
		_ = cmd.Wait()
	}
}

func boolToInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

func TestAnErrorWhileAFinishedChangeIsDeletedStopsNothing(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.write("readme.txt", "changed by hand")
	found := w.stateText()
	r := w.traced([]string{"pin", "1.1.1", "--yes"}, "-e", "trace=unlinkat", "-e", "inject=unlinkat:error=EIO")
	require.Equal(t, 0, r.code, r.err)
	require.NotEqual(t, found, w.stateText(), "the block is set all the same")
	left, err := filepath.Glob(w.path(".morvant/ended*"))
	require.NoError(t, err)
	require.NotEmpty(t, left)
	w.ok("status")
	left, err = filepath.Glob(w.path(".morvant/ended*"))
	require.NoError(t, err)
	require.Empty(t, left, "the next command deletes it")
}

func TestALetUpdateThatIsKilledLeavesTheBlockOn(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("pin", "1.1.1", "--yes")
	blocked := w.stateText()
	wait := func() *exec.Cmd {
		cmd := w.command("let-update", "--calm", "1h")
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool { return w.stateText() != blocked }, 20*time.Second, 10*time.Millisecond)
		return cmd
	}
	cmd := wait()
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	require.Contains(t, w.ok("status").err, "the block is set again")
	require.Equal(t, blocked, w.stateText())

	cmd = wait()
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	w.write("readme.txt", "the update has begun")
	r := w.run("status")
	require.Equal(t, 3, r.code)
	require.Contains(t, r.err, "the folder has changed")
	require.NotEqual(t, blocked, w.stateText())
	w.ok("verify", "--repair", "--yes")
	require.Equal(t, blocked, w.stateText())
}

func TestAReadOnlyFileWhoseFolderBecomesAFileIsLetGo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("d/x", "below")
	w.write("a.txt", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	require.NoError(t, os.RemoveAll(w.path("d")))
	w.write("d", "a file")
	w.ok("snapshot", "2")
	w.ok("pin", "1", "--yes")
	w.ok("block", "add", "read-only-files")
	w.ok("block")
	w.ok("pin", "2", "--yes")
	for _, p := range []string{"a.txt", "d"} {
		info, err := os.Stat(w.path(p))
		require.NoError(t, err)
		require.Zero(t, info.Mode().Perm()&0o222, p)
	}
	w.ok("unblock")
	w.ok("block")
	w.ok("unblock", "--force")
	for _, p := range []string{"a.txt", "d"} {
		info, err := os.Stat(w.path(p))
		require.NoError(t, err)
		require.NotZero(t, info.Mode().Perm()&0o200, p)
	}
}

func TestAnUnfinishedChangeOfTheSavesWaitsForTheGameToEnd(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newSaved(t)
	w.ok("saves", "backup")
	w.save("100/slot1.sav", "changed")
	r := w.traced([]string{"saves", "restore", "1", "--yes"}, "-P", filepath.Join(w.dir, "100", ".morvant", "change", "displaced"), "-e", "trace=fsync", "-e", "inject=fsync:signal=KILL:when=1")
	require.Equal(t, -1, r.code, r.err)
	stop := w.play()
	r = w.run("status")
	require.Contains(t, []int{0, 3}, r.code, r.err)
	require.Contains(t, r.err, "A change of the saves of quay was interrupted and is not finished: the game is running")
	w.fails(1, "the game is running", "saves", "stash", "--yes")
	stop()
	require.Contains(t, w.run("status").err, "A change of the saves of quay was interrupted; Morvant has finished it.")
	b, err := os.ReadFile(filepath.Join(w.dir, "100", "slot1.sav"))
	require.NoError(t, err)
	require.Equal(t, "first day", string(b))
}

func TestAnUnfinishedChangeOfAParkedLaneIsFinishedFromTheLiveOne(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newLanes(t)
	parked := w.parked("old")
	require.NoError(t, os.WriteFile(filepath.Join(parked, "readme.txt"), []byte("by hand"), 0o644))
	r := w.traced([]string{"-l", "old", "pin", "1.1.1", "--yes"}, "-P", filepath.Join(parked, ".morvant/change/displaced"), "-e", "trace=fsync", "-e", "inject=fsync:signal=KILL:when=1")
	require.Equal(t, -1, r.code, r.err)
	moved := filepath.Join(w.dir, "launcher", "away")
	require.NoError(t, os.Rename(parked, moved))
	for _, command := range [][]string{{"status"}, {"lane", "list"}} {
		require.Contains(t, w.run(command...).err, "A change of lane old is unfinished", command)
	}
	require.NoError(t, os.Rename(moved, parked))
	require.Contains(t, w.run("lane", "list").err, "(lane old) was interrupted; Morvant has finished it")
	require.NoDirExists(t, filepath.Join(parked, ".morvant", "change"))
}
