package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/volume"
)

// TestKilledAtAnyPointASwitchIsFinishedOrTakenBack kills a switch at calls that change
// something, with and without the call that exchanges two folders at once.
func TestKilledAtAnyPointASwitchIsFinishedOrTakenBack(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newLanes(t)
	far := filepath.Join(w.dir, "far")
	w.ok("lane", "new", "far", "--from", "1.1.1", "--to", far, "--linked", "--yes")
	places := []string{w.live, w.parked("old"), far, w.home, filepath.Dir(w.state)}
	template := filepath.Join(w.dir, "template")
	require.NoError(t, os.Mkdir(template, 0o755))
	require.NoError(t, exec.Command("cp", append(append([]string{"-a"}, places...), template)...).Run())
	main, old := w.picture(), picture(t, w.parked("old"))
	want := map[string]map[string]string{"old": old, "far": picture(t, far)}
	c := &crashWorld{world: w.world}
	kills := 0
	for _, to := range []string{"old", "far"} {
		for _, calls := range some([]string{"renameat2", "fsync,fdatasync", "renameat,rename,symlinkat", "pwrite64", "openat"}) {
			step := 1
			if calls == "openat" || calls == "pwrite64" {
				step = 7
			}
			for n := 1; n < 400; n += step * coarse(3*n) {
				for _, dir := range append(places, w.parked("main")) {
					require.NoError(t, os.RemoveAll(dir))
				}
				for _, dir := range places {
					require.NoError(t, exec.Command("cp", "-a", filepath.Join(template, filepath.Base(dir)), dir).Run())
				}
				if !c.killed(calls, n, "-g", "quay", "lane", "switch", to) {
					break
				}
				kills++
				where := fmt.Sprintf("switch to %s killed at %s %d", to, calls, n)
				r := w.run("-g", "quay", "--json", "status")
				require.Contains(t, []int{0, 3}, r.code, "%s: %s", where, r.err)
				lanes := w.lanes()
				if lanes["main"]["live"] == true {
					require.Equal(t, main, w.picture(), where)
					require.Equal(t, old, picture(t, w.parked("old")), where)
					require.Contains(t, w.stateText(), "at-once", where)
				} else {
					require.Equal(t, true, lanes[to]["live"], where)
					require.Equal(t, main, picture(t, w.parked("main")), where)
					dir, err := filepath.EvalSymlinks(w.live)
					require.NoError(t, err)
					require.Equal(t, want[to], picture(t, dir), where)
					require.Contains(t, w.stateText(), "by-hand", where)
					w.ok("-g", "quay", "lane", "switch", "main")
					require.Equal(t, main, w.picture(), where)
				}
			}
		}
	}
	require.Greater(t, kills, least(6))
}

// TestALaneOnAnotherDiskIsLinkedOrRefused needs a second file system that anybody may
// write to.
func TestALaneOnAnotherDiskIsLinkedOrRefused(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	far := otherDisk(t, w.dir)
	w.fails(1, "it is on another disk", "lane", "new", "far", "--from", "1.1.1", "--to", filepath.Join(far, "quay"), "--yes")
	require.NotContains(t, w.lanes(), "far")
	w.ok("lane", "new", "far", "--from", "1.1.1", "--to", filepath.Join(far, "quay"), "--linked", "--yes")
	main := w.picture()
	w.ok("lane", "switch", "far")
	require.Equal(t, "1.1.1", w.installed(w.live))
	w.ok("-g", "quay", "lane", "switch", "main")
	require.Equal(t, main, w.picture())
}

// TestKilledAtAnyPointSavesAreOldOrNew kills a restore of saves, and a switch that
// brings a lane's own, and finishes it with the next command.
func TestKilledAtAnyPointSavesAreOldOrNew(t *testing.T) {
	t.Parallel()
	onlyLong(t)
	canTrace(t)
	w := newSaved(t)
	w.ok("game", "set", "--saves-per-lane")
	w.ok("lane", "switch", "old")
	w.save("100/slot1.sav", "old build")
	w.save("100/slot9.sav", "only there")
	old := w.saves()
	w.ok("-g", "quay", "lane", "switch", "main")
	main := w.saves()
	places := []string{w.live, w.parked("old"), w.home, filepath.Dir(w.dir), filepath.Dir(w.state)}
	template := filepath.Join(w.launched.dir, "template")
	require.NoError(t, os.Mkdir(template, 0o755))
	require.NoError(t, exec.Command("cp", append(append([]string{"-a"}, places...), template)...).Run())
	c := &crashWorld{world: w.world}
	kills := 0
	for _, command := range [][]string{{"-g", "quay", "lane", "switch", "old"}, {"-g", "quay", "saves", "restore", "2", "--yes"}} {
		for _, calls := range []string{"renameat,renameat2,rename", "fsync,fdatasync,syncfs", "unlinkat", "mkdirat"} {
			for n := 1; n < 200; n += coarse(6 * n) {
				for _, dir := range append(places, w.parked("main")) {
					require.NoError(t, os.RemoveAll(dir))
				}
				for _, dir := range places {
					require.NoError(t, exec.Command("cp", "-a", filepath.Join(template, filepath.Base(dir)), dir).Run())
				}
				if !c.killed(calls, n, command...) {
					break
				}
				kills++
				where := fmt.Sprintf("%v killed at %s %d", command, calls, n)
				r := w.run("-g", "quay", "status")
				require.Contains(t, []int{0, 3}, r.code, "%s: %s", where, r.err)
				require.NoDirExists(t, filepath.Join(w.dir, "100", ".morvant"), where)
				live := w.lanes()["main"]["live"] == true
				switch now := w.saves(); {
				case command[2] == "lane" && live:
					require.Equal(t, main, now, where)
				case command[2] == "lane":
					require.Equal(t, old, now, where)
				case now["100/slot9.sav"] == "":
					require.Equal(t, main, now, where)
				default:
					require.Equal(t, old, now, where)
				}
			}
		}
	}
	require.Greater(t, kills, least(4))
}

// TestKilledAtAnyPointASharedFolderIsThere kills the sharing of a folder and the taking
// back; after the next command the lane has the folder, as a link or as its own.
func TestKilledAtAnyPointASharedFolderIsThere(t *testing.T) {
	t.Parallel()
	onlyLong(t)
	canTrace(t)
	w := newLanes(t)
	w.write("Mods/Scenery/a.txt", "hills")
	w.write("Mods/Scenery/deep/b.txt", "sea")
	to := filepath.Join(w.dir, "scenery")
	share, unshare := []string{"lane", "share", "Mods/Scenery", "--to", to}, []string{"-l", "main", "lane", "unshare", "Mods/Scenery"}
	want := contentOf(t, w.path("Mods/Scenery"), nil)
	places := []string{w.live, w.parked("old"), w.home}
	c := &crashWorld{world: w.world}
	kills := 0
	for _, command := range [][]string{share, unshare} {
		if command[0] == "-l" {
			require.NoError(t, os.RemoveAll(to))
			for _, dir := range places {
				require.NoError(t, os.RemoveAll(dir))
				require.NoError(t, exec.Command("cp", "-a", filepath.Join(w.dir, "template-lane", filepath.Base(dir)), dir).Run())
			}
			w.ok(share...)
			places = append(places, to)
		}
		template := filepath.Join(w.dir, "template-"+command[0])
		require.NoError(t, os.Mkdir(template, 0o755))
		require.NoError(t, exec.Command("cp", append(append([]string{"-a"}, places...), template)...).Run())
		for _, calls := range []string{"renameat,renameat2,rename,symlinkat", "unlinkat", "fsync,fdatasync", "mkdirat"} {
			for n := 1; n < 200; n += coarse(3 * n) {
				require.NoError(t, os.RemoveAll(to))
				for _, dir := range places {
					require.NoError(t, os.RemoveAll(dir))
					require.NoError(t, exec.Command("cp", "-a", filepath.Join(template, filepath.Base(dir)), dir).Run())
				}
				if !c.killed(calls, n, command...) {
					break
				}
				kills++
				where := fmt.Sprintf("%v killed at %s %d", command, calls, n)
				w.ok("lane", "list")
				dir, err := filepath.EvalSymlinks(w.path("Mods/Scenery"))
				require.NoError(t, err, where)
				require.Equal(t, want, contentOf(t, dir, nil), where)
				if dir != to { // the other lane's link must not lead to nothing once the next command is through
					w.run(share...)
				}
				dir, err = filepath.EvalSymlinks(w.path("Mods/Scenery"))
				require.NoError(t, err, where)
				require.Equal(t, want, contentOf(t, dir, nil), where)
			}
		}
	}
	require.Greater(t, kills, least(3))
}

// TestKilledAtAnyPointAPinFileIsAppliedOrNot kills the applying of a pin file, with an
// overlay, a companion and an edit.
func TestKilledAtAnyPointAPinFileIsAppliedOrNot(t *testing.T) {
	t.Parallel()
	onlyLong(t)
	canTrace(t)
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("fetch", "public/1.3.0")
	w.ok("pin", "public/1.1.1", "--yes", "--overlay", "public/1.3.0:readme.txt", "--companion", "bin/standalone.txt=1", "--edit", `version.txt:^Cinder Quay (\S+)=race`)
	file := filepath.Join(w.dir, "race.pin.toml")
	w.ok("pinfile", "write", file)
	to := w.picture()
	w.ok("pin", "public/1.3.0", "--plain", "--yes")
	from := w.picture()
	template := filepath.Join(w.dir, "template")
	require.NoError(t, os.Mkdir(template, 0o755))
	require.NoError(t, exec.Command("cp", "-a", w.live, w.home, template).Run())
	c := &crashWorld{world: w.world}
	kills := 0
	for _, calls := range []string{"renameat,renameat2,rename", "fsync,fdatasync,syncfs", "openat"} {
		step := 3
		if calls == "openat" {
			step = 40
		}
		for n := 1; n < 400; n += step * coarse(2*n) {
			for _, dir := range []string{w.live, w.home} {
				require.NoError(t, os.RemoveAll(dir))
				require.NoError(t, exec.Command("cp", "-a", filepath.Join(template, filepath.Base(dir)), dir).Run())
			}
			if !c.killed(calls, n, "pinfile", "apply", file, "--yes") {
				break
			}
			kills++
			where := fmt.Sprintf("killed at %s %d", calls, n)
			w.json(0, "status") // held at the one or the other, and as it should be
			if now := w.picture(); now["bin/standalone.txt"] == "" {
				require.Equal(t, from, now, where)
			} else {
				require.Equal(t, len(to), len(now), where)
				require.Equal(t, "Cinder Quay race\n", w.read("version.txt"), where)
			}
			w.ok("pinfile", "apply", file, "--yes")
			require.Equal(t, "Cinder Quay race\n", w.read("version.txt"), where)
		}
	}
	require.Greater(t, kills, least(3))
}

// TestANewLaneSharesTheSpaceOfAnother needs a file system with reflinks that has no
// room for a second copy.
func TestANewLaneSharesTheSpaceOfAnother(t *testing.T) {
	w := newWorld(t)
	disk := sharingDisk(t, w)
	w.live = filepath.Join(disk, "Quay")
	w.outside("demo", "write", w.live, "1.1.1", "--size", "140MB")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.1.1")
	w.ok("pin", "1.1.1", "--yes")
	before := freeOf(t, disk)
	require.Contains(t, w.ok("lane", "new", "second", "--yes").out, "shared with another lane and takes no space")
	require.Less(t, before-freeOf(t, disk), int64(20<<20), "the large files take no space")
	require.Equal(t, contentOf(t, w.live, nil), contentOf(t, w.live+" [second]", nil))
	for _, l := range w.json(0, "lane", "list")["lanes"].([]any) {
		lane := l.(map[string]any)
		require.Greater(t, lane["shared_bytes"].(float64), 0.8*lane["bytes"].(float64))
	}
	// What is changed in the one is not changed in the other.
	require.NoError(t, os.WriteFile(w.path("data/harbour.pak"), []byte("spoilt"), 0o644))
	w.ok("-l", "second", "verify")
	require.NoError(t, os.RemoveAll(w.live+" [second]"))
	w.ok("verify", "--repair", "--yes")
}

// TestAnImportSharesTheSpaceOfItsFolder has no room for a second copy, of the folder or of the game.
func TestAnImportSharesTheSpaceOfItsFolder(t *testing.T) {
	w := newWorld(t)
	disk := sharingDisk(t, w)
	w.home = filepath.Join(disk, "home")
	w.live = filepath.Join(disk, "Quay")
	w.outside("demo", "write", w.live, "1.2.0", "--size", "1MB")
	download := filepath.Join(disk, "download")
	w.outside("demo", "write", download, "1.1.1", "--size", "170MB")
	w.ok("add", "quay", w.live)
	want := contentOf(t, download, nil)
	before := freeOf(t, disk)
	require.Contains(t, w.ok("import", download, "1.1.1", "--yes").err, "with the folder, which takes no space")
	require.Less(t, before-freeOf(t, disk), int64(30<<20))
	require.NoError(t, os.WriteFile(filepath.Join(download, "data", "harbour.pak"), []byte("changed later"), 0o644))
	w.ok("store", "check")
	require.NoError(t, os.RemoveAll(download))
	w.ok("export", "1.1.1", filepath.Join(w.dir, "out"), "--yes")
	require.Equal(t, want, contentOf(t, filepath.Join(w.dir, "out"), nil))

	// A snapshot of what would not fit a second time.
	require.NoError(t, os.RemoveAll(w.home))
	require.NoError(t, os.RemoveAll(w.live))
	w.outside("demo", "write", w.live, "1.1.1", "--size", "200MB")
	w.ok("add", "quay", w.live, "--yes")
	before = freeOf(t, disk)
	w.ok("snapshot", "all")
	require.Less(t, before-freeOf(t, disk), int64(30<<20))
	w.ok("pin", "all", "--yes")
	require.NoError(t, os.WriteFile(w.path("data/cargo.pak"), []byte("spoilt"), 0o644))
	w.ok("verify", "--repair", "--yes")
}

// sharingDisk is a small disk whose files can share their content.
func sharingDisk(t *testing.T, w *world) string {
	t.Helper()
	image := filepath.Join(w.dir, "xfs.img")
	require.NoError(t, os.WriteFile(image, nil, 0o644))
	require.NoError(t, os.Truncate(image, 400<<20))
	// In one group: XFS shares nothing where a group of its disk is nearly full.
	if out, err := exec.Command("mkfs.xfs", "-q", "-m", "reflink=1", "-d", "agcount=1", image).CombinedOutput(); err != nil {
		t.Skipf("no XFS with reflinks can be made here: %v %s", err, out)
	}
	disk := filepath.Join(w.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	mounted(t, disk, "-o", "loop", image)
	return disk
}

func freeOf(t *testing.T, dir string) int64 {
	t.Helper()
	n, err := volume.Free(dir)
	require.NoError(t, err)
	return n
}

// TestLinksThatThePlayerHasMadeThemselves: a shared folder of add-ons that was linked by hand works in
// another install as well, and can be shared as one that Morvant has linked.
func TestLinksThatThePlayerHasMadeThemselves(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	scenery := w.source("scenery", map[string]string{"trees.pak": "trees"})
	require.NoError(t, os.MkdirAll(w.path("Mods"), 0o755))
	require.NoError(t, os.Symlink(scenery, w.path("Mods/Scenery")))
	w.ok("pin", "1.2.0", "--yes")
	r := w.ok("lane", "new", "like", "--from", "1.2.0", "--like", "main", "--yes")
	require.Contains(t, r.err, "Linked as in lane main: Mods/Scenery")
	require.NotContains(t, r.err, "will not have it")
	require.Equal(t, "trees", readFile(t, w.live+" [like]/Mods/Scenery/trees.pak"))
	require.Contains(t, w.ok("lane", "new", "plain", "--from", "1.2.0", "--yes").err, "out of the folder that the new lane will not have")
	r = w.ok("lane", "share", "Mods/Scenery", "--with", "plain")
	require.Contains(t, r.err, "is a link already")
	require.Contains(t, r.out, "linked into lane plain as well")
	require.Equal(t, "trees", readFile(t, w.live+" [plain]/Mods/Scenery/trees.pak"))
	w.ok("lane", "unshare", "Mods/Scenery")
	require.NoError(t, os.WriteFile(filepath.Join(scenery, "trees.pak"), []byte("other trees"), 0o644))
	require.Equal(t, "trees", w.read("Mods/Scenery/trees.pak"))
	require.Equal(t, "other trees", readFile(t, w.live+" [plain]/Mods/Scenery/trees.pak"))
}
