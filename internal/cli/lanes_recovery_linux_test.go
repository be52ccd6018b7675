package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// twoRenames makes a switch go without the call that exchanges two folders at once.
var twoRenames = []string{"-e", "inject=renameat2:error=EINVAL"}

func TestASwitchThatCannotBeMadeLeavesTheLiveFolder(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newLanes(t)
	main, old := w.picture(), picture(t, w.parked("old"))
	for n := 1; n <= 2; n++ { // the first rename, then the second
		var r result
		for range 20 { // calls are counted for each thread
			r = w.traced([]string{"-g", "quay", "lane", "switch", "old"}, append(twoRenames, "-P", w.live, "-e", "trace=renameat,renameat2",
				"-e", fmt.Sprintf("inject=renameat:error=EBUSY:when=%d", n))...)
			if r.code != 0 {
				break
			}
			w.ok("-g", "quay", "lane", "switch", "main")
		}
		require.Equal(t, 1, r.code, r.err)
		require.Equal(t, main, w.picture(), n)
		require.Equal(t, old, picture(t, w.parked("old")), n)
		require.Equal(t, true, w.lanes()["main"]["live"])
	}
	w.ok("-g", "quay", "lane", "switch", "old")
}

func TestAMissingLiveFolderIsRecoveredAndNotPassedOver(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newLanes(t)
	main := w.picture()
	// Killed at the second rename, and then the parked lane cannot be moved: better the old
	// lane than none.
	// Calls are counted for each thread: where the two came from two of them, nothing is killed.
	var r result
	for range 20 {
		r = w.traced([]string{"-g", "quay", "lane", "switch", "old"}, append(twoRenames, "-P", w.live, "-e", "trace=renameat,renameat2", "-e", "inject=renameat:signal=KILL:when=2")...)
		if r.code == -1 {
			break
		}
		w.ok("-g", "quay", "lane", "switch", "main")
	}
	require.Equal(t, -1, r.code, r.err)
	if _, err := os.Stat(w.live); err != nil {
		cmd := w.command("-g", "quay", "status")
		cmd.Dir = w.dir
		cmd.Args = append([]string{"strace", "-f", "-qq", "-o", "/dev/null", "-P", w.parked("old"), "-e", "trace=renameat", "-e", "inject=renameat:error=EBUSY", program}, cmd.Args[1:]...)
		cmd.Path, _ = exec.LookPath("strace")
		r = w.finish(cmd)
		require.Contains(t, r.err, "Morvant has undone it")
		require.Equal(t, main, w.picture())
	}
	cmd := w.command("-g", "quay", "lane", "switch", "old")
	cmd.Dir = w.dir
	r = w.finish(cmd)
	require.Equal(t, 0, r.code, r.err)
}

func TestWhereNoLinkCanBeMadeNothingIsMoved(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newLanes(t)
	w.write("Mods/Scenery/a.txt", "hills")
	far := filepath.Join(w.dir, "far")
	w.ok("lane", "new", "far", "--from", "1.1.1", "--to", far, "--linked", "--yes")
	before := w.picture()
	for _, c := range [][]string{
		{"lane", "share", "Mods/Scenery", "--to", filepath.Join(w.dir, "scenery")},
		{"lane", "switch", "far"},
		{"lane", "new", "further", "--from", "1.1.1", "--to", filepath.Join(w.dir, "further"), "--linked", "--yes"},
	} {
		r := w.traced(append([]string{"-g", "quay"}, c...), "-e", "trace=symlinkat", "-e", "inject=symlinkat:error=EPERM")
		require.Equal(t, 1, r.code, "%v: %s", c, r.err)
		require.Contains(t, r.err, "this disk cannot hold a link to a folder", c)
		require.Equal(t, before, w.picture(), c)
		require.Contains(t, []int{0, 3}, w.run("status").code)
	}
	require.NotContains(t, w.lanes(), "further")
	require.NoDirExists(t, filepath.Join(w.dir, "further"))
	// One that fails later is moved back.
	r := w.traced([]string{"-g", "quay", "lane", "share", "Mods/Scenery", "--to", filepath.Join(w.dir, "scenery"), "--with", "main"},
		"-P", w.path("Mods/Scenery"), "-e", "trace=symlinkat", "-e", "inject=symlinkat:error=EPERM")
	require.Equal(t, 1, r.code, r.err)
	require.Equal(t, before["Mods/Scenery/a.txt"], w.picture()["Mods/Scenery/a.txt"])
	w.ok("lane", "share", "Mods/Scenery", "--to", filepath.Join(w.dir, "scenery"))
}

func TestAnEmptyMarkerIsWrittenAnewWhereTheStateKnowsThePlace(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	require.NoError(t, os.Truncate(filepath.Join(w.parked("old"), ".morvant", "lane.toml"), 0))
	w.ok("-g", "quay", "lane", "switch", "old")
	require.NoError(t, os.Truncate(w.path(".morvant/lane.toml"), 0))
	require.NoError(t, os.Truncate(filepath.Join(w.parked("main"), ".morvant", "lane.toml"), 0))
	w.ok("-g", "quay", "lane", "switch", "main")
	require.Equal(t, true, w.lanes()["main"]["live"])
}

// TestKilledAtAnyPointALaneIsMadeRenamedOrRemoved kills what makes, renames and removes
// lanes, and expects every lane to be of use after the next command.
func TestKilledAtAnyPointALaneIsMadeRenamedOrRemoved(t *testing.T) {
	t.Parallel()
	onlyLong(t)
	canTrace(t)
	w := newLanes(t)
	adopted := filepath.Join(w.dir, "copy")
	require.NoError(t, exec.Command("cp", "-a", w.live, adopted).Run())
	require.NoError(t, os.RemoveAll(filepath.Join(adopted, ".morvant")))
	places := []string{w.live, w.parked("old"), w.home, adopted}
	template := filepath.Join(w.dir, "template")
	require.NoError(t, os.Mkdir(template, 0o755))
	require.NoError(t, exec.Command("cp", append(append([]string{"-a"}, places...), template)...).Run())
	main, old, copied := w.picture(), picture(t, w.parked("old")), picture(t, adopted)
	c := &crashWorld{world: w.world}
	for _, command := range [][]string{
		{"lane", "new", "third", "--from", "1.1.1", "--yes"},
		{"lane", "new", "third", "--adopt", adopted},
		{"lane", "rename", "old", "older"},
		{"lane", "remove", "old", "--delete", "--yes"},
	} {
		kills := 0
		for _, calls := range []string{"renameat,renameat2,rename", "unlinkat", "fsync,fdatasync,syncfs", "mkdirat", "pwrite64"} {
			for n := 1; n < 400; n += 7 * coarse(n) {
				for _, dir := range append(places, w.parked("older"), w.parked("third")) {
					require.NoError(t, os.RemoveAll(dir))
				}
				for _, dir := range places {
					require.NoError(t, exec.Command("cp", "-a", filepath.Join(template, filepath.Base(dir)), dir).Run())
				}
				if !c.killed(calls, n, append([]string{"-g", "quay"}, command...)...) {
					break
				}
				kills++
				where := fmt.Sprintf("%v killed at %s %d", command, calls, n)
				w.run("status")
				lanes := w.lanes()
				for name, l := range lanes {
					require.Empty(t, l["error"], "%s: lane %s", where, name)
				}
				require.Equal(t, main, w.picture(), where)
				require.Equal(t, copied, picture(t, adopted), where)
				switch {
				case command[1] == "rename":
					name := "old"
					if lanes["older"] != nil {
						name = "older"
					}
					require.Len(t, lanes, 2, where)
					require.Equal(t, old, picture(t, lanes[name]["folder"].(string)), where)
					w.ok("-g", "quay", "lane", "switch", name)
					w.ok("-g", "quay", "lane", "switch", "main")
				case command[1] == "remove" && lanes["old"] == nil:
					require.NoDirExists(t, w.parked("old"), where)
				case lanes["third"] == nil:
					require.NoDirExists(t, w.parked("third"), where)
					require.Equal(t, old, picture(t, w.parked("old")), where)
				default:
					require.Equal(t, true, lanes["third"]["held"], where)
					require.Equal(t, false, lanes["third"]["drifted"], where)
				}
			}
		}
		require.Positive(t, kills, command)
	}
}

func TestADryRunOfAdoptingLeavesNoTrace(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	folder := filepath.Join(w.dir, "copy")
	require.NoError(t, exec.Command("cp", "-a", w.live, folder).Run())
	require.NoError(t, os.RemoveAll(filepath.Join(folder, ".morvant")))
	before, builds := picture(t, folder), w.ok("builds").out
	require.Contains(t, w.ok("lane", "new", "third", "--adopt", folder, "--dry-run").out, "would become lane third")
	require.NotContains(t, w.lanes(), "third")
	require.NoDirExists(t, filepath.Join(folder, ".morvant"))
	require.Equal(t, before, picture(t, folder))
	require.Equal(t, builds, w.ok("builds").out)
}

func TestALaneIsRemovedOnlyAsItWasRecorded(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	parked := w.parked("old")
	w.ok("lane", "rename", "old", "older")
	require.NoDirExists(t, parked)
	parked = w.parked("older")
	require.Contains(t, w.ok("lane", "remove", "older", "--delete", "--yes").out, "has all that was in it")
	require.NoDirExists(t, parked)
}

// outsideRun is run from the folder around the live one, which may be gone.
func (w *world) outsideRun(args ...string) result {
	w.t.Helper()
	cmd := w.command(args...)
	cmd.Dir = w.dir
	return w.finish(cmd)
}

func TestALiveFolderThatIsGoneAsAWholeIsMadeAgain(t *testing.T) {
	t.Parallel()
	for _, command := range [][]string{{"pin", "1.1.1", "--yes"}, {"verify", "--repair", "--yes"}, {"undo", "--yes"}} {
		w := newLaunched(t)
		w.ok("game", "set", "--keep", "Mods/**")
		w.write("Mods/gulls.txt", "quiet")
		w.ok("snapshot", "with-mods")
		w.write("readme.txt", "changed by hand")
		w.ok("pin", "1.1.1", "--yes")
		held := w.picture()
		require.NoError(t, os.RemoveAll(w.live))
		r := w.outsideRun("status")
		require.Equal(t, 1, r.code)
		require.Contains(t, r.err, "the live folder is gone")
		require.Contains(t, r.err, "morvant pin BUILD and morvant verify --repair make it again")
		r = w.outsideRun(command[0], "1.1.1")
		if command[0] == "pin" {
			require.Equal(t, 4, r.code, "it needs a yes")
			require.NoDirExists(t, w.live)
		}
		r = w.outsideRun(command...)
		require.Equal(t, 0, r.code, "%v: %s", command, r.err)
		require.Contains(t, r.err, "is gone. The store still has everything that Morvant recorded")
		require.Contains(t, r.err, "morvant carry snapshot/with-mods")
		now := w.picture()
		if command[0] == "undo" {
			require.Equal(t, "changed by hand", w.read("readme.txt"))
			require.Len(t, now, len(held)-2, "all but the mods and their folder")
			continue
		}
		require.Equal(t, held["readme.txt"], now["readme.txt"])
		w.ok("carry", "snapshot/with-mods", "--yes")
		require.Equal(t, "quiet", w.read("Mods/gulls.txt"))
		w.ok("status")
	}
}

func TestAnEmptyFolderIsFilledAfterAYesAndAStrangersNotOnTrust(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	held := w.picture()
	require.NoError(t, os.RemoveAll(w.live))
	require.NoError(t, os.Mkdir(w.live, 0o755))
	w.fails(4, "needs a yes", "pin", "1.1.1")
	require.Empty(t, w.picture())
	require.Contains(t, w.ok("pin", "1.1.1", "--yes").err, "is empty")
	require.Equal(t, len(held), len(w.picture()))
	w.ok("status")

	// Something else stands there: not even --yes takes it for the game.
	require.NoError(t, os.RemoveAll(w.live))
	require.NoError(t, os.Mkdir(w.live, 0o755))
	w.write("photos/harbour.jpg", "a picture")
	before := w.picture()
	for _, c := range [][]string{{"pin", "1.1.1", "--yes"}, {"verify", "--repair", "--yes"}, {"undo", "--yes"}} {
		w.fails(4, "this may not be the game's folder", c...)
		require.Equal(t, before, w.picture())
	}
	w.ok("game", "set", "--live", w.live)
	w.ok("pin", "1.1.1", "--yes")
	require.Equal(t, "a picture", w.read("photos/harbour.jpg"))

	// A folder that has only lost its marker is the game's.
	require.NoError(t, os.RemoveAll(w.path(".morvant")))
	require.Contains(t, w.ok("status").err, "Morvant has written the marker again")
	require.FileExists(t, w.path(".morvant/lane.toml"))
}

func TestADiskThatIsNotThereIsToldFromAFolderThatIsGone(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	disk := filepath.Join(w.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "tmpfs", disk).CombinedOutput(); err != nil {
		t.Skipf("mounting is not possible here: %s", out)
	}
	mounted := true
	t.Cleanup(func() {
		if mounted {
			_ = exec.Command("umount", disk).Run()
		}
	})
	w.live = filepath.Join(disk, "Quay")
	require.NoError(t, os.Mkdir(w.live, 0o755))
	w.write("a.txt", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("pin", "1")
	require.NoError(t, exec.Command("umount", disk).Run())
	mounted = false
	for _, c := range [][]string{{"pin", "1", "--yes"}, {"status"}, {"verify", "--repair", "--yes"}} {
		r := w.outsideRun(c...)
		require.Equal(t, 1, r.code)
		require.Contains(t, r.err, "its disk is not there")
	}
	require.NoDirExists(t, w.live)
	// Looking at what is remembered works all the same.
	require.Equal(t, 0, w.outsideRun("lane", "list").code)
	require.Equal(t, 0, w.outsideRun("saves", "list").code)
	require.Equal(t, 0, w.outsideRun("export", "1", filepath.Join(w.dir, "out.zip")).code)
	require.Contains(t, w.outsideRun("games").out, "absent")
}

func TestAFolderThatHasMovedIsFoundByItsMarker(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	elsewhere := filepath.Join(w.dir, "elsewhere")
	require.NoError(t, os.Mkdir(elsewhere, 0o755))
	require.NoError(t, os.Rename(w.parked("old"), filepath.Join(elsewhere, "Quay [old]")))
	require.NoError(t, os.Rename(w.live, filepath.Join(elsewhere, "Quay")))
	w.live = filepath.Join(elsewhere, "Quay")
	w.fails(4, "says that it is there now", "status")
	require.Contains(t, []int{0, 3}, w.run("--yes", "status").code)
	lanes := w.lanes()
	require.Equal(t, w.live, lanes["main"]["folder"])
	require.Equal(t, w.parked("old"), lanes["old"]["folder"], "parked lanes come along")
	w.ok("-g", "quay", "lane", "switch", "old")
}

// watched starts a watch and returns what it has said so far.
func (w *world) watched(args ...string) (said func() string) {
	w.t.Helper()
	cmd := w.command(append([]string{"watch", "--calm", "300ms", "--every", "1s"}, args...)...)
	cmd.Dir = w.dir
	log, err := os.Create(filepath.Join(w.dir, "watch.log"))
	require.NoError(w.t, err)
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(w.t, cmd.Start())
	w.t.Cleanup(func() {
		require.NoError(w.t, cmd.Process.Signal(os.Interrupt))
		require.NoError(w.t, cmd.Wait(), "it has not ended by itself")
		log.Close()
	})
	return func() string {
		b, err := os.ReadFile(log.Name())
		require.NoError(w.t, err)
		return string(b)
	}
}

func (w *world) eventually(said func() string, words string) {
	w.t.Helper()
	require.Eventually(w.t, func() bool { return strings.Contains(said(), words) }, 30*time.Second, 20*time.Millisecond, "%q never came", words)
}

func TestAWatchOutlivesAFolderThatIsAwayOrWiped(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	said := w.watched("-g", "quay", "--repair")
	w.eventually(said, "as it should be")
	away := filepath.Join(w.dir, "away")
	require.NoError(t, os.Rename(w.live, away))
	w.eventually(said, "Morvant waits for it")
	require.NoError(t, os.Rename(away, w.live))
	w.eventually(said, "quay can be looked at again")
	w.write("readme.txt", "an update")
	w.eventually(said, "1 file of quay changed; restored to 1.1.1")

	// Replaced by another folder, in which something changes then.
	require.NoError(t, exec.Command("cp", "-a", w.live, away).Run())
	require.NoError(t, os.Rename(w.live, filepath.Join(w.dir, "before")))
	require.NoError(t, os.Rename(away, w.live))
	w.write("bin/quay.exe", "an update again")
	require.Eventually(t, func() bool { return strings.Count(said(), "restored to 1.1.1") == 2 }, 30*time.Second, 20*time.Millisecond)

	// Wiped.
	list, err := os.ReadDir(w.live)
	require.NoError(t, err)
	for _, e := range list {
		require.NoError(t, os.RemoveAll(w.path(e.Name())))
	}
	require.Eventually(t, func() bool { return strings.Count(said(), "restored to 1.1.1") == 3 }, 30*time.Second, 20*time.Millisecond, said)
	w.ok("status")
}

func TestAWatchTakesAllGamesWhereNoneIsNamed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, name := range []string{"quay", "other"} {
		dir := filepath.Join(w.dir, name)
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.txt"), []byte(name), 0o644))
		w.ok("add", name, dir)
		w.ok("-g", name, "snapshot", "1")
		w.ok("-g", name, "pin", "1")
	}
	said := w.watched()
	w.eventually(said, "quay is 1, as it should be")
	w.eventually(said, "other is 1, as it should be")
	for _, name := range []string{"quay", "other"} {
		require.NoError(t, os.WriteFile(filepath.Join(w.dir, name, "a.txt"), []byte("changed"), 0o644))
		w.eventually(said, "1 file of "+name+" changed")
	}
	r := w.outsideRun("watch", "--once", "--quiet")
	require.Equal(t, 3, r.code)
}

func TestInterruptedAtAQuestionItEndsCleanly(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("script"); err != nil {
		t.Skip("script is not installed")
	}
	w := newWorld(t)
	w.write("a.txt", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.write("a.txt", "two")
	cmd := w.command()
	cmd.Path, _ = exec.LookPath("script")
	cmd.Args = []string{"script", "-qec", program + " pin 1", "/dev/null"}
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	var out bytes.Buffer
	pressed := false
	cmd.Stdout = writerFunc(func(b []byte) (int, error) {
		n, err := out.Write(b)
		if bytes.Contains(out.Bytes(), []byte("Go ahead?")) && !pressed {
			pressed = true
			_, _ = in.Write([]byte{3}) // Ctrl-C, as the terminal gets it
		}
		return n, err
	})
	require.NoError(t, cmd.Start())
	_ = cmd.Wait()
	require.Equal(t, 130, cmd.ProcessState.ExitCode())
	require.Contains(t, out.String(), "interrupted; nothing is left half done")
	require.Equal(t, "two", w.read("a.txt"))
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(b []byte) (int, error) { return f(b) }
