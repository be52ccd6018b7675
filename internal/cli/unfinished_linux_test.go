package cli_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"morvant/internal/standin"
)

func TestATrimKeepsWhatAnUnfinishedChangeNeeds(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	w.write("data/changed.txt", "the player's edit, which no snapshot has")
	w.before = w.picture()
	w.save()
	w.cutOffAfterDisplacing([]string{"pin", "1", "--clean", "--yes"})
	// It cannot be ended while the game runs; trim keeps what it needs.
	stop := w.play()
	w.ok("store", "trim", "--yes")
	stop()
	require.NoError(t, os.RemoveAll(w.path("logs")))
	w.run("status")
	w.ok("store", "check")
	w.ok("undo", "--yes")
	require.Equal(t, "the player's edit, which no snapshot has", w.read("data/changed.txt"))

	// And ends it itself where it can.
	w.cutOffAfterDisplacing([]string{"pin", "1", "--clean", "--yes"})
	require.Contains(t, w.ok("store", "trim", "--yes").err, "Morvant has finished it")
	require.Equal(t, w.after, w.picture())
	w.ok("undo", "--yes")
	require.Equal(t, w.before, w.picture())
}

func TestATrimKeepsWhatAnUnfinishedFetchHasBrought(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "0.9.0")
	m.ok("feed", "add", m.address)
	args := []string{"fetch", "1.2.0", "--component", "base"}
	total := int64(m.json(0, append(args, "--dry-run")...)["fetch_bytes"].(float64))
	m.service.Misbehave(standin.Faults{Slow: 400 << 10})
	cmd := m.command(args...)
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return m.service.Stats().Bytes > total/2 }, 30*time.Second, 10*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	m.service.Misbehave(standin.Faults{})
	m.ok("store", "trim", "--yes")
	m.ok(args...)
	require.Less(t, m.service.Stats().Bytes, total+total/20+2*inFlight, "what had come was kept")
	m.ok("store", "trim", "--yes")
	m.ok("store", "check")
	m.ok("pin", "1.2.0", "--component", "base", "--yes")
}

func TestEditsThroughAMappingAreNotMissed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	var st unix.Statfs_t
	require.NoError(t, unix.Statfs(w.live, &st))
	if st.Type == unix.TMPFS_MAGIC {
		t.Skip("a file system in memory never brings anything to disk")
	}
	w.write("save.dat", strings.Repeat("x", 8192))
	w.ok("add", "quay", w.live)
	f, err := os.OpenFile(w.path("save.dat"), os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	page, err := syscall.Mmap(int(f.Fd()), 0, 8192, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_SHARED)
	require.NoError(t, err)
	defer syscall.Munmap(page)
	write := func(text string) { copy(unsafe.Slice(&page[100], len(text)), text) }
	write("first")                      // the page is dirty from here on
	time.Sleep(2100 * time.Millisecond) // so that the look is not too near to the change to be trusted
	w.ok("snapshot", "1")
	w.ok("pin", "1")
	write("later")
	w.ok("snapshot", "2")
	require.Contains(t, w.ok("diff", "1", "2").out, "save.dat")
	w.ok("pin", "1", "--yes")
	require.Equal(t, "first", w.read("save.dat")[100:105])
	w.ok("undo", "--yes")
	require.Equal(t, "later", w.read("save.dat")[100:105])
}

func TestDatesFromTheEdgesOfTime(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for name, when := range map[string]time.Time{
		"epoch.txt": time.Unix(0, 0), "before.txt": time.Unix(-1, 500_000_000), "old.txt": time.Date(1901, 12, 14, 0, 0, 0, 0, time.UTC),
	} {
		w.write(name, name)
		require.NoError(t, os.Chtimes(w.path(name), when, when))
	}
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	intact := w.picture()
	for _, name := range []string{"epoch.txt", "before.txt", "old.txt"} {
		w.write(name, "changed")
	}
	w.ok("pin", "1", "--yes")
	require.Equal(t, intact, w.picture())
	w.ok("undo", "--yes")
	w.ok("undo", "2", "--yes")
	require.Equal(t, intact, w.picture())
	far := time.Date(2400, 1, 1, 0, 0, 0, 0, time.UTC)
	if err := os.Chtimes(w.path("old.txt"), far, far); err == nil {
		if info, err := os.Stat(w.path("old.txt")); err == nil && info.ModTime().Equal(far) {
			require.Contains(t, w.ok("snapshot", "2").err, "old.txt has a date outside of 1677 to 2262")
		}
	}
}

func TestSavesThatCannotBeRecordedAreNamedAndNotLeftBehind(t *testing.T) {
	t.Parallel()
	w := newSaved(t)
	w.ok("game", "set", "--saves-per-lane")
	odd := filepath.Join(w.dir, "100", "slot:3.sav")
	require.NoError(t, os.WriteFile(odd, []byte("a name with a colon"), 0o644))
	require.NoError(t, syscall.Mkfifo(filepath.Join(w.dir, "100", "pipe"), 0o644))
	r := w.ok("saves", "backup")
	require.Contains(t, r.err, "the backup leaves out")
	require.Contains(t, r.err, "slot:3.sav")
	before := picture(t, filepath.Join(w.dir, "200"))
	for _, c := range [][]string{{"saves", "stash", "--yes"}, {"-g", "quay", "lane", "switch", "old"}} {
		w.fails(1, "Morvant cannot record some of the saves", c...)
		require.Equal(t, before, picture(t, filepath.Join(w.dir, "200")))
		require.FileExists(t, odd)
	}
	w.ok("snapshot", "x") // what is not about the saves goes on
	require.NoError(t, os.Remove(odd))
	require.NoError(t, os.Remove(filepath.Join(w.dir, "100", "pipe")))
	w.ok("saves", "stash", "--yes")
}

func TestSavesThatMayNotBeReadAreNamed(t *testing.T) {
	t.Parallel()
	w := newSaved(t)
	ordinary := w.ordinary()
	require.NoError(t, exec.Command("chown", "-R", "65534:65534", w.launched.dir).Run())
	locked := filepath.Join(w.dir, "100", "slot2.sav")
	require.NoError(t, os.Chown(locked, 0, 0))
	require.NoError(t, os.Chmod(locked, 0o600))
	r := ordinary("saves", "backup")
	require.Equal(t, 0, r.code, r.err)
	require.Contains(t, r.err, "slot2.sav is not readable for you")
	r = ordinary("saves", "stash", "--yes")
	require.Equal(t, 1, r.code)
	require.FileExists(t, locked)
}

func TestPlacesOfSavesAreCheckedWhenTheyAreSet(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "one")
	user := filepath.Join(w.dir, "user")
	require.NoError(t, os.MkdirAll(user, 0o755))
	w.ok("add", "quay", w.live)
	for pattern, words := range map[string]string{
		"/": "is the root of a file system", user: "is your home folder or holds it", filepath.Dir(user): "is your home folder or holds it",
		"~": "is your home folder or holds it", w.live: "is the game's folder or holds it", w.home: "lies in or around",
		"%SAVED_GAMEZ%/Quay": "SAVED_GAMEZ is not set", "$NOWHERE/Quay": "NOWHERE is not set",
	} {
		w.fails(2, words, "game", "set", "--saves", pattern)
	}
	other := filepath.Join(w.dir, "other")
	require.NoError(t, os.Mkdir(other, 0o755))
	w.fails(2, "NOWHERE is not set", "add", "other", other, "--saves", "$NOWHERE/Quay")
	w.ok("game", "set", "--saves", "~/Saved Games/Quay") // not there yet, which is no mistake
	w.ok("snapshot", "1")
	w.write("a.txt", "two")
	w.ok("pin", "1", "--yes")
}

func TestASnapshotThatCannotFitIsRefusedBeforeItBegins(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	mounted(t, w.home, "-t", "tmpfs", "-o", "size=24m", "tmpfs")
	noise := make([]byte, 64<<20)
	state := uint64(7)
	for i := range noise {
		state = state*6364136223846793005 + 1442695040888963407
		noise[i] = byte(state >> 56)
	}
	require.NoError(t, os.WriteFile(w.path("noise.bin"), noise, 0o644))
	w.ok("add", "quay", w.live)
	w.fails(1, "not enough free space", "snapshot", "1")
	list, err := filepath.Glob(filepath.Join(w.home, "store", "packs", "*"))
	require.NoError(t, err)
	require.Empty(t, list, "nothing has been written")
	// What compresses fits.
	require.NoError(t, os.WriteFile(w.path("noise.bin"), bytes.Repeat([]byte("the same line again\n"), 64<<20/20), 0o644))
	w.ok("snapshot", "1")
	// A dry run of a pin that cannot fit says so.
	small := filepath.Join(w.dir, "small")
	mounted(t, small, "-t", "tmpfs", "-o", "size=8m", "tmpfs")
	w.ok("game", "set", "--live", small)
	w.live = small
	r := w.ok("pin", "1", "--dry-run")
	require.Contains(t, r.err, "not enough free space")
}

func TestLinksThatLeadOutAreSaid(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "0")
	require.NoError(t, os.Symlink("/usr/share", w.path("shared")))
	require.Contains(t, w.ok("snapshot", "1").out, "1 link out of the folder is recorded")
	w.ok("pin", "1")
	require.Contains(t, w.ok("status").out, "shared to /usr/share")
	require.Contains(t, w.ok("lane", "new", "old", "--from", "0", "--yes").err, "has 1 link out of the folder that the new lane will not have, such as shared")
}

func TestLookingAlwaysWorks(t *testing.T) {
	t.Parallel()
	looks := [][]string{{"games"}, {"status"}, {"builds"}, {"history"}, {"lane", "list"}, {"saves", "list"}, {"diff", "1"}, {"store", "show"}}
	w := newWorld(t)
	mounted(t, w.home, "-t", "tmpfs", "-o", "size=48m", "tmpfs")
	w.install("1.1.1")
	w.ok("snapshot", "1")
	w.ok("pin", "1")
	noise := make([]byte, 6<<20)
	state := uint64(7)
	for i := range noise {
		state = state*6364136223846793005 + 1442695040888963407
		noise[i] = byte(state >> 56)
	}
	w.write("big.bin", string(noise))
	w.ok("snapshot", "2")
	w.ok("builds", "forget", "2", "--yes")
	require.NoError(t, os.Remove(w.path("big.bin")))
	require.NoError(t, os.WriteFile(filepath.Join(w.home, "reserve"), make([]byte, 4<<20), 0o644)) // as on a larger disk
	// Full.
	require.Error(t, os.WriteFile(filepath.Join(w.home, "filler"), make([]byte, 48<<20), 0o644))
	for _, c := range looks {
		w.ok(c...)
	}
	w.fails(1, "", "snapshot", "3")
	require.Contains(t, w.ok("store", "trim", "--yes").out, "Done.")
	require.Greater(t, freeOf(t, w.home), int64(4<<20))
	// Read-only.
	require.NoError(t, exec.Command("mount", "-o", "remount,ro", w.home).Run())
	for _, c := range looks {
		w.ok(c...)
	}
	r := w.run("snapshot", "3")
	require.Equal(t, 1, r.code)
	require.NotContains(t, r.err, "(14)", "a sentence, no number")
	require.NoError(t, exec.Command("mount", "-o", "remount,rw", w.home).Run())
	w.ok("snapshot", "3")
}

func TestAGameOnAReadOnlyDiskIsLookedAt(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	mounted(t, w.live, "-t", "tmpfs", "-o", "size=48m", "tmpfs")
	w.install("1.1.1")
	w.ok("snapshot", "1")
	w.ok("pin", "1")
	require.NoError(t, exec.Command("mount", "-o", "remount,ro", w.live).Run())
	for _, c := range [][]string{{"status"}, {"verify"}, {"diff", "1"}, {"lane", "list"}, {"snapshot", "2"}} {
		require.NotContains(t, w.ok(c...).err, "unfinished", c)
	}
	require.NoError(t, exec.Command("mount", "-o", "remount,rw", w.live).Run())
}

func TestAHomeThatIsNotThereIsNotMadeAnewSilently(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "one")
	for _, c := range [][]string{{"games"}, {"status"}, {"snapshot", "1"}, {"store", "trim", "--yes"}} {
		w.fails(1, "there is no Morvant home at "+w.home, c...)
		require.NoDirExists(t, w.home)
	}
	require.Contains(t, w.ok("add", "quay", w.live).err, "A new home is made at "+w.home)
	// Its disk is not there: an empty folder, or none.
	away := filepath.Join(w.dir, "away")
	require.NoError(t, os.Rename(w.home, away))
	require.NoError(t, os.Mkdir(w.home, 0o755))
	w.fails(1, "there is no Morvant home at", "status")
	w.fails(4, "The home at", "add", "quay", w.live)
	list, err := os.ReadDir(w.home)
	require.NoError(t, err)
	require.Empty(t, list)
	require.NoError(t, os.Remove(w.home))
	require.NoError(t, os.Rename(away, w.home))
	w.ok("status")
}

func TestTheHomesDiskMayGoInTheMiddleOfAChange(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	w.cutOffAfterDisplacing([]string{"pin", "1", "--clean", "--yes"})
	away := filepath.Join(w.dir, "away")
	require.NoError(t, os.Rename(w.home, away))
	w.fails(1, "there is no Morvant home", "status")
	require.NoError(t, os.Rename(away, w.home))
	require.Contains(t, w.run("status").err, "Morvant has finished it")
	require.Equal(t, w.after, w.picture())
}

func TestAnExportHoldsNamesAsLongAsADiskDoes(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	long := strings.Repeat("n", 251) + ".txt"
	w.write(long, "long")
	w.write("d/"+strings.Repeat("ü", 127)+"x", "long too")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	for _, format := range []string{"bagit", "zip", "tar.zst"} {
		w.ok("export", "1", filepath.Join(w.dir, "out."+format), "--format", format)
	}
	b, err := os.ReadFile(filepath.Join(w.dir, "out.bagit", "data", long))
	require.NoError(t, err)
	require.Equal(t, "long", string(b))
}
