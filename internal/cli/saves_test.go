package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
)

// saved is a game with lanes and two accounts' saves outside of its folder.
type saved struct {
	*launched
	dir string // of the saves
}

func newSaved(t *testing.T) *saved {
	t.Helper()
	w := &saved{launched: newLanes(t)}
	w.dir = filepath.Join(w.launched.dir, "Saved Games", "Quay")
	w.save("100/slot1.sav", "first day")
	w.save("100/slot2.sav", "second day")
	w.save("200/slot1.sav", "somebody else's")
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "readme.txt"), []byte("no folder"), 0o644))
	w.ok("game", "set", "--saves", filepath.Join(w.dir, "*"))
	return w
}

func (w *saved) save(p, text string) {
	w.t.Helper()
	name := filepath.Join(w.dir, filepath.FromSlash(p))
	require.NoError(w.t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(w.t, os.WriteFile(name, []byte(text), 0o644))
}

// saves is a picture of the saves; the time of the accounts' own folders changes with
// what is in them.
func (w *saved) saves() map[string]string {
	all := picture(w.t, w.dir)
	delete(all, "100")
	delete(all, "200")
	return all
}

func (w *saved) backups() []any {
	w.t.Helper()
	return w.json(0, "-g", "quay", "saves", "list")["backups"].([]any)
}

func TestSavesAreBackedUpBeforeEverything(t *testing.T) {
	t.Parallel()
	w := newSaved(t)
	require.Contains(t, w.ok("saves", "list").out, filepath.Join(w.dir, "100"))
	w.ok("pin", "1.1.1", "--yes")
	list := w.backups()
	require.Len(t, list, 1)
	newest := list[0].(map[string]any)
	require.Equal(t, "before the pin to 1.1.1", newest["why"])
	require.EqualValues(t, 3, newest["files"])
	w.ok("undo", "--yes")
	require.Len(t, w.backups(), 1, "nothing has changed, so nothing is kept twice")
	w.save("100/slot1.sav", "third day")
	w.ok("pin", "1.1.1", "--yes")
	require.Len(t, w.backups(), 2)
	require.Contains(t, w.ok("saves", "backup").out, "Nothing has changed since backup 2")
	w.save("100/slot3.sav", "fourth day")
	require.Contains(t, w.ok("saves", "backup", "before the race").out, "Backup 3: 4 files")
	w.ok("lane", "switch", "old")
	require.Len(t, w.backups(), 3)

	before := w.saves()
	require.Contains(t, w.ok("-g", "quay", "saves", "restore", "1", "--dry-run").out, "slot3.sav")
	require.Equal(t, before, w.saves())
	w.fails(4, "needs a yes", "-g", "quay", "saves", "restore", "1")
	r := w.ok("-g", "quay", "saves", "restore", "1", "--yes")
	require.Contains(t, r.out, "morvant saves restore 3")
	require.NoFileExists(t, filepath.Join(w.dir, "100", "slot3.sav"))
	w.ok("-g", "quay", "saves", "restore", "3", "--yes")
	require.Equal(t, before, w.saves(), "names, times, modes and all")

	w.ok("-g", "quay", "saves", "stash", "--yes")
	require.NoFileExists(t, filepath.Join(w.dir, "200", "slot1.sav"))
	w.ok("-g", "quay", "saves", "restore", "--yes")
	require.Equal(t, before, w.saves())
	require.NoDirExists(t, filepath.Join(w.dir, "100", ".morvant"))

	w.ok("-g", "quay", "saves", "forget", "1", "--yes")
	w.fails(1, `backup of saves "1"`, "-g", "quay", "saves", "restore", "1", "--yes")
	w.ok("store", "trim", "--yes")
	require.Equal(t, 0, w.run("store", "check").code)
	w.ok("-g", "quay", "saves", "restore", "2", "--yes")
	require.Equal(t, "third day", readFile(t, filepath.Join(w.dir, "100", "slot1.sav")))
}

func readFile(t *testing.T, name string) string {
	t.Helper()
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	return string(b)
}

func TestEachLaneHasItsSaves(t *testing.T) {
	t.Parallel()
	w := newSaved(t)
	w.ok("game", "set", "--saves-per-lane", "--saves", "data/profiles")
	w.write("data/profiles/p1.txt", "main's profile")
	w.ok("lane", "switch", "old") // begins with the saves there are
	w.save("100/slot1.sav", "old build")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "100", "slot2.sav")))
	require.NoFileExists(t, w.path("data/profiles/p1.txt"), "what lies in the lane's folder moves with it")
	old := w.saves()
	w.ok("-g", "quay", "lane", "switch", "main")
	require.Equal(t, "first day", readFile(t, filepath.Join(w.dir, "100", "slot1.sav")))
	require.FileExists(t, filepath.Join(w.dir, "100", "slot2.sav"))
	w.save("100/slot1.sav", "new build")
	w.ok("-g", "quay", "lane", "switch", "old")
	require.Equal(t, old, w.saves(), "saves of two lanes never mix")
	w.ok("-g", "quay", "lane", "switch", "main")
	require.Equal(t, "new build", readFile(t, filepath.Join(w.dir, "100", "slot1.sav")))

	w.ok("-g", "quay", "game", "set", "--saves-per-lane=false")
	w.ok("-g", "quay", "lane", "switch", "old")
	require.Equal(t, "new build", readFile(t, filepath.Join(w.dir, "100", "slot1.sav")))
	require.Equal(t, "main's profile", w.read("data/profiles/p1.txt"), "shared saves come along, also those in the folder")
}

func TestSavesThatCannotBe(t *testing.T) {
	t.Parallel()
	w := newSaved(t)
	w.fails(2, "at any depth", "game", "set", "--saves", "~/**/saves")
	w.fails(2, "leaves the live folder", "game", "set", "--saves", "../saves")
	for _, bad := range []string{filepath.Dir(w.live), w.home, filepath.Join(w.home, "games"), filepath.VolumeName(w.dir) + "/"} {
		w.fails(2, "saves cannot be there", "game", "set", "--saves", bad)
	}
	w.ok("game", "set", "--no-saves", filepath.Join(w.dir, "*"))
	// Settings that an earlier version took, or that come from another computer.
	file := filepath.Join(w.home, "games", "quay.toml")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	set := func(pattern string) {
		require.NoError(t, os.WriteFile(file, append([]byte(fmt.Sprintf("saves = [%q]\n", pattern)), b...), 0o644))
	}
	set(filepath.ToSlash(filepath.Dir(w.live)))
	r := w.run("saves", "list")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "saves cannot be there")
	require.Equal(t, 1, w.run("pin", "1.1.1", "--yes").code, "nothing is changed while it is not clear where they are")
	set("$QUAY_NOT_SET/nothing")
	require.Contains(t, w.ok("saves", "list").err, "nothing matches")
	w.fails(1, "no saves are known", "saves", "backup")
	w.ok("pin", "1.1.1", "--yes")
}

// TestALinkOfTheGamesIsNoWayToTheHomeFolder: stash would empty what the link leads to.
func TestALinkOfTheGamesIsNoWayToTheHomeFolder(t *testing.T) {
	t.Parallel()
	w := newSaved(t)
	user := filepath.Join(w.launched.dir, "user")
	require.NoError(t, os.MkdirAll(filepath.Join(user, "Documents"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(user, "Documents", "letter.txt"), []byte("dear"), 0o644))
	if runtime.GOOS == "windows" {
		t.Skip("symbolic links take rights here that players do not have")
	}
	w.ok("game", "set", "--no-saves", filepath.Join(w.dir, "*"), "--saves", "userdata")
	require.NoError(t, os.Symlink(user, w.path("userdata")))
	for _, args := range [][]string{{"saves", "stash", "--yes"}, {"saves", "list"}, {"saves", "backup"}, {"game", "set", "--saves", "userdata"}} {
		r := w.run(append([]string{"-g", "quay"}, args...)...)
		require.Equal(t, map[bool]int{true: 2, false: 1}[args[0] == "game"], r.code, "%v", args)
		require.Contains(t, r.err, "is your home folder", "%v", args)
	}
	require.FileExists(t, filepath.Join(user, "Documents", "letter.txt"))
	// A link to a folder that saves can be in is fine, and is found once by two ways.
	require.NoError(t, os.Remove(w.path("userdata")))
	require.NoError(t, os.Symlink(filepath.Join(w.dir, "100"), w.path("userdata")))
	w.ok("game", "set", "--saves", filepath.Join(w.dir, "100"))
	w.ok("saves", "backup")
	w.ok("saves", "stash", "--yes")
	require.NotContains(t, w.saves(), "100/slot1.sav")
	require.FileExists(t, filepath.Join(w.dir, "200", "slot1.sav"))
	w.ok("saves", "restore", "--yes")
	require.Contains(t, w.saves(), "100/slot1.sav")
	w.fails(2, "name only one of them", "game", "set", "--saves", w.dir)
}

func TestStepsAfterAPin(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("the steps of this test are for a Unix shell")
	}
	w := newSaved(t)
	w.ok("game", "set", "--after-pin", `echo "build $MORVANT_BUILD" > stamp.txt; echo said`, "--convert-saves", "for f in *.sav; do echo converted >> $f; done")
	plan := w.ok("pin", "1.1.1", "--yes").out
	require.Contains(t, plan, "then runs: echo")
	require.Contains(t, plan, "then converts a copy of the saves")
	require.Equal(t, "build 1.1.1\n", w.read("stamp.txt"))
	require.Equal(t, "first dayconverted\n", readFile(t, filepath.Join(w.dir, "100", "slot1.sav")))
	require.Contains(t, w.ok("history", "output", "2").out, "said")
	w.ok("saves", "restore", "1", "--yes")
	require.Equal(t, "first day", readFile(t, filepath.Join(w.dir, "100", "slot1.sav")))

	w.ok("game", "set", "--no-after-pin", `echo "build $MORVANT_BUILD" > stamp.txt; echo said`, "--after-pin", "echo oh no; exit 3", "--convert-saves", "echo spoilt > slot1.sav; exit 1")
	before := w.saves()
	r := w.ok("pin", "1.1.1", "--yes")
	require.Contains(t, r.err, "exit status 3; the pin stays")
	require.Contains(t, r.err, "the saves could not be converted")
	require.Equal(t, before, w.saves(), "a copy was spoilt, not the saves")
	require.Contains(t, w.ok("history", "output", "3").out, "oh no")
	require.Contains(t, w.ok("status").out, "held at")
	entries, err := filepath.Glob(filepath.Join(w.home, "convert-*"))
	require.NoError(t, err)
	require.Empty(t, entries)
}
