package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// newLanes makes a game with two lanes: main at 1.3.0, which follows updates, and old, held
// at 1.1.1.
func newLanes(t *testing.T) *launched {
	t.Helper()
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("game", "set", "--waiting-rule", w.state+`=^pending = (\S+)`, "--keep", "Mods/**")
	w.write("Mods/gulls.txt", "quiet")
	w.ok("demo", "write", w.live, "1.3.0", "--size", "2MB")
	w.ok("lane", "new", "old", "--from", "1.1.1", "--yes")
	return w
}

func (w *launched) parked(lane string) string { return w.live + " [" + lane + "]" }

// installed returns the build whose files are in a folder.
func (w *launched) installed(dir string) string {
	w.t.Helper()
	b, err := os.ReadFile(filepath.Join(dir, "version.txt"))
	require.NoError(w.t, err)
	return strings.TrimSpace(strings.TrimPrefix(string(b), "Cinder Quay "))
}

func (w *launched) lanes() map[string]map[string]any {
	w.t.Helper()
	out := make(map[string]map[string]any)
	for _, l := range w.json(0, "-g", "quay", "lane", "list")["lanes"].([]any) {
		out[l.(map[string]any)["lane"].(string)] = l.(map[string]any)
	}
	return out
}

func TestLanesChangePlaces(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	main := w.picture()
	old := picture(t, w.parked("old"))
	require.Equal(t, "1.1.1", w.installed(w.parked("old")))
	w.launcher(0, "offer", "1.2.0")

	require.Contains(t, w.ok("lane", "switch", "old").err, "the launcher has 1.2.0 waiting")
	require.Equal(t, old, w.picture(), "names, times, modes and all")
	require.Equal(t, main, picture(t, w.parked("main")))
	require.NoDirExists(t, w.parked("old"))
	require.Contains(t, w.stateText(), "updates = by-hand", "the block comes with the lane that wants it")
	require.Contains(t, w.ok("status").out, "the launcher has 1.2.0 ready; morvant let-update installs it, in lane main")
	w.launcher(0, "idle")
	require.Equal(t, "1.1.1", w.installed(w.live))

	lanes := w.lanes()
	require.Equal(t, true, lanes["old"]["live"])
	require.Equal(t, true, lanes["old"]["held"])
	require.Equal(t, true, lanes["main"]["follows"])
	require.Equal(t, w.parked("main"), lanes["main"]["folder"])

	w.ok("-g", "quay", "lane", "switch", "main")
	require.Contains(t, w.stateText(), "updates = at-once", "and goes with it")
	w.launcher(0, "idle")
	require.Equal(t, "1.2.0", w.installed(w.live), "the launcher updates the lane that follows")
	require.Equal(t, "1.1.1", w.installed(w.parked("old")))
	require.Equal(t, old, picture(t, w.parked("old")))
	require.Contains(t, w.ok("lane", "switch", "main").out, "is lane main already")
}

func TestAnUpdateIsTakenInTheLaneThatFollows(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	w.ok("lane", "switch", "old")
	w.launcher(0, "offer", "1.2.0")
	r := w.ok("-g", "quay", "let-update", "--calm", "300ms", "--after", program+" demo launcher idle "+w.state+" --size 2MB")
	require.Contains(t, r.err, "Lane main is live now")
	require.Contains(t, r.err, "Lane old is live again")
	require.Contains(t, r.out, "recorded as snapshot/1.2.0")
	require.Equal(t, "1.1.1", w.installed(w.live))
	require.Equal(t, "1.2.0", w.installed(w.parked("main")))
	require.Contains(t, w.stateText(), "updates = by-hand")
	w.ok("-g", "quay", "status")
}

func TestAParkedLaneIsWorkedOnWhereItIs(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	status := w.json(0, "-l", "old", "status")
	require.Equal(t, "old", status["lane"])
	require.Equal(t, w.parked("old"), status["folder"])
	require.NoError(t, os.Remove(filepath.Join(w.parked("old"), "readme.txt")))
	w.json(3, "-l", "old", "status")
	inside := w.command("--json", "verify", "--repair", "--yes")
	inside.Dir = w.parked("old")
	require.Equal(t, 0, w.finish(inside).code, "a command within its folder is about it")
	require.FileExists(t, filepath.Join(w.parked("old"), "readme.txt"))
	require.Contains(t, w.stateText(), "updates = at-once", "what is parked blocks nothing")
	w.ok("-l", "old", "undo", "--yes")
	w.json(3, "-l", "old", "status")
	w.ok("status")
	require.Len(t, w.json(0, "history")["changes"], 0)
	require.Len(t, w.json(0, "-l", "old", "history")["changes"], 3)
	w.fails(1, `lane "new"`, "-l", "new", "status")
	w.ok("-l", "old", "unpin", "--stay", "--yes")
	require.Equal(t, true, w.lanes()["old"]["follows"], "several may follow updates")
}

func TestLanesAreMadeOfBuildsLanesAndFolders(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	w.write("Mods/mine.txt", "as I like it")
	w.ok("lane", "new", "copy", "--from", "lane/main", "--yes")
	want := w.picture()
	got := picture(t, w.parked("copy"))
	require.Equal(t, want, got, "all of the other lane")

	folder := filepath.Join(w.dir, "found")
	w.ok("demo", "write", folder, "1.0.0", "--size", "2MB")
	w.fails(2, "takes a folder as it is", "lane", "new", "found", "--adopt", folder, "--from", "1.1.1")
	w.ok("lane", "new", "found", "--adopt", folder)
	w.ok("lane", "switch", "found")
	require.Equal(t, "1.0.0", w.installed(w.live))
	require.NoDirExists(t, folder)
	require.Equal(t, true, w.lanes()["found"]["held"])

	w.ok("-g", "quay", "lane", "rename", "copy", "second")
	require.DirExists(t, w.parked("second"))
	w.fails(1, "already there", "-g", "quay", "lane", "rename", "second", "old")
	w.fails(2, "this name cannot be used", "-g", "quay", "lane", "rename", "second", "No  Good")
	w.fails(1, "it is the live lane", "-g", "quay", "lane", "remove", "found")
	w.fails(4, "needs a yes", "-g", "quay", "lane", "remove", "second")
	w.ok("-g", "quay", "lane", "remove", "second", "--delete", "--yes")
	require.NoDirExists(t, w.parked("second"))
	w.ok("-g", "quay", "lane", "new", "again", "--from", "lane-second", "--exact", "--yes")
	require.Equal(t, want, picture(t, w.parked("again")), "what was removed can be restored")
	w.ok("-g", "quay", "lane", "remove", "again", "--yes")
	require.DirExists(t, w.parked("again"))
	require.NotContains(t, w.lanes(), "again")
}

func TestALinkedLaneStaysWhereItIs(t *testing.T) {
	t.Parallel()
	needsLinks(t)
	w := newLanes(t)
	elsewhere := filepath.Join(w.dir, "other disk")
	w.ok("lane", "new", "far", "--from", "1.1.1", "--to", elsewhere, "--linked", "--yes")
	main, far := w.picture(), picture(t, elsewhere)
	w.ok("lane", "switch", "far")
	info, err := os.Lstat(w.live)
	require.NoError(t, err)
	require.NotZero(t, info.Mode()&(os.ModeSymlink|os.ModeIrregular))
	require.Equal(t, far, picture(t, elsewhere))
	require.Equal(t, main, picture(t, w.parked("main")))
	w.ok("status")
	require.Equal(t, "far", w.json(0, "-g", "quay", "status")["lane"])
	w.ok("-g", "quay", "lane", "switch", "old")
	require.Equal(t, far, picture(t, elsewhere))
	require.Equal(t, "1.1.1", w.installed(w.live))
	w.ok("-g", "quay", "lane", "switch", "far")
	w.ok("-g", "quay", "lane", "switch", "main")
	require.Equal(t, main, w.picture())
	info, err = os.Lstat(w.live)
	require.NoError(t, err)
	require.True(t, info.IsDir())
}

func TestLanesThatCannotBe(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	w.fails(2, "this name cannot be used", "lane", "new", "Old  Build", "--from", "1.1.1")
	w.fails(1, "already there", "lane", "new", "old", "--from", "1.1.1")
	w.fails(1, "lie within each other", "lane", "new", "inner", "--from", "1.1.1", "--to", w.path("inner"))
	w.fails(1, "is lane old of quay", "lane", "new", "twice", "--adopt", w.parked("old"))
	require.NoError(t, os.MkdirAll(filepath.Join(w.parked("third"), "x"), 0o755))
	w.fails(1, "something is in the way", "lane", "new", "third", "--from", "1.1.1")
	w.ok("lane", "new", "dry", "--from", "1.1.1", "--dry-run")
	require.NoDirExists(t, w.parked("dry"))
	require.NotContains(t, w.lanes(), "dry")

	require.NoError(t, os.MkdirAll(w.parked("main"), 0o755))
	w.fails(1, "where lane main is to be parked", "lane", "switch", "old")
	require.NoError(t, os.Remove(w.parked("main")))

	require.NoError(t, os.Rename(w.parked("old"), filepath.Join(w.dir, "renamed by hand")))
	require.Contains(t, w.ok("lane", "switch", "old").err, "lane old was renamed")
	w.ok("-g", "quay", "lane", "switch", "main")
	require.NoError(t, os.RemoveAll(filepath.Join(w.parked("old"), ".morvant")))
	w.fails(1, "its marker is gone", "lane", "switch", "old")
	require.NoError(t, os.RemoveAll(w.parked("old")))
	w.fails(1, "the live folder is gone", "lane", "switch", "old")
	require.Contains(t, w.ok("lane", "list").err, "Lane old")
	require.Contains(t, w.ok("status").out, "main, one of 2")
}

func TestAFolderIsSharedBetweenLanes(t *testing.T) {
	t.Parallel()
	needsLinks(t)
	w := newLanes(t)
	w.write("Mods/Scenery/a.txt", "hills")
	w.write("Mods/Scenery/deep/b.txt", "sea")
	scenery := picture(t, w.path("Mods/Scenery"))
	to := filepath.Join(w.dir, "scenery")
	w.fails(1, "it holds files of the build", "-l", "old", "lane", "share", "data", "--to", to)
	w.fails(1, "it is not there", "lane", "share", "Mods/None", "--to", to)
	w.fails(1, "lies in lane old", "lane", "share", "Mods/Scenery", "--to", filepath.Join(w.parked("old"), "x"))
	w.ok("lane", "share", "Mods/Scenery", "--to", to)
	require.Equal(t, scenery, picture(t, to))
	for _, dir := range []string{w.live, w.parked("old")} {
		require.FileExists(t, filepath.Join(dir, "Mods", "Scenery", "deep", "b.txt"))
		info, err := os.Lstat(filepath.Join(dir, "Mods", "Scenery"))
		require.NoError(t, err)
		require.False(t, info.IsDir(), "it is a link")
	}
	w.fails(1, "it is shared already, in "+to, "lane", "share", "Mods/Scenery", "--to", filepath.Join(w.dir, "again"))

	// No command walks into it.
	require.Contains(t, w.ok("snapshot", "linked").err, "Mods/Scenery")
	w.ok("pin", "1.1.1", "--clean", "--yes")
	w.ok("lane", "switch", "old")
	w.ok("-g", "quay", "lane", "remove", "main", "--yes")
	require.Equal(t, scenery, picture(t, to))
	w.ok("lane", "new", "third", "--from", "1.1.1", "--yes")
	w.ok("-g", "quay", "-l", "old", "lane", "unshare", "Mods/Scenery")
	require.Equal(t, scenery, picture(t, w.path("Mods/Scenery")), "the last one gets the folder itself")
	require.NoDirExists(t, to)

	w.ok("lane", "share", "Mods/Scenery", "--to", to, "--with", "third")
	w.ok("-l", "third", "lane", "unshare", "Mods/Scenery")
	require.Equal(t, contentOf(t, to, nil), contentOf(t, filepath.Join(w.parked("third"), "Mods", "Scenery"), nil), "others get a copy")
	require.Equal(t, scenery, picture(t, to))
	w.fails(1, "it is no link", "-l", "third", "lane", "unshare", "Mods/Scenery")

	// A lane with a copy of its own keeps it, and says so; others are taken in later.
	w.fails(1, "has a Mods/Scenery of its own", "lane", "share", "Mods/Scenery", "--with", "third")
	require.Contains(t, w.ok("lane", "share", "Mods/Scenery").err, "Lane third has a Mods/Scenery of its own and keeps it.")
	require.NoError(t, os.Rename(filepath.Join(w.parked("third"), "Mods", "Scenery"), filepath.Join(w.dir, "aside")))
	require.Contains(t, w.ok("lane", "share", "Mods/Scenery").out, "is linked into lane third as well")
	isLinked := func(lane string) {
		info, err := os.Lstat(filepath.Join(w.parked(lane), "Mods", "Scenery"))
		require.NoError(t, err)
		require.False(t, info.IsDir(), "it is a link")
		require.FileExists(t, filepath.Join(w.parked(lane), "Mods", "Scenery", "deep", "b.txt"))
	}
	isLinked("third")
	for name, args := range map[string][]string{"fourth": {"--from", "1.1.1", "--like", "old"}, "fifth": {"--from", "lane/old"}} {
		r := w.ok(append([]string{"lane", "new", name, "--yes"}, args...)...)
		require.Contains(t, r.err, "Linked as in lane old: Mods/Scenery.")
		require.NotContains(t, r.err, "will not have it")
		isLinked(name)
	}
	require.Equal(t, scenery, picture(t, to))
}
