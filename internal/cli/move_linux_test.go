package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAGameMovesToAnotherDisk: with its installs, and everything Morvant knew of it goes on.
func TestAGameMovesToAnotherDisk(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	big := otherDisk(t, w.dir)
	w.write("Mods/mine.txt", "mine")
	linkOut(t, w)
	config := filepath.Join(w.dir, "launcher.cfg")
	require.NoError(t, os.WriteFile(config, []byte("folder = "+w.live+"\nupdate = always\n"), 0o644))
	w.ok("block", "add", "key-value-setting", "file="+config, "key=update", "value=never")
	w.ok("pin", "1.2.0", "--yes")
	w.ok("lane", "new", "old", "--from", "1.2.0", "--yes")
	require.NoError(t, os.MkdirAll(w.path(".morvant/aside/2031"), 0o755))
	w.write(".morvant/aside/2031/note.txt", "put aside")
	before := w.picture()
	was := w.live

	require.Contains(t, w.ok("game", "move", filepath.Join(big, "Quay"), "--dry-run").err, "by copying it to the other disk")
	require.NoDirExists(t, filepath.Join(big, "Quay"))
	w.fails(4, "needs a yes", "game", "move", filepath.Join(big, "Quay"))
	w.fails(1, "lie within each other", "game", "move", w.path("inside"), "--yes")
	w.fails(2, "lane old is parked", "-l", "old", "game", "move", big, "--all", "--yes")
	r := w.ok("game", "move", filepath.Join(big, "Quay"), "--all", "--yes")
	require.Contains(t, r.err, config+" still names "+was)
	require.Contains(t, r.err, "data/near.pak is a link that leads elsewhere from here")
	require.NotContains(t, r.err, "Mods/Scenery")
	w.live = filepath.Join(big, "Quay")
	require.NoDirExists(t, was)
	require.NoDirExists(t, was+" [old]")
	require.Equal(t, before, w.picture())
	require.Equal(t, "put aside", w.read(".morvant/aside/2031/note.txt"))
	require.Contains(t, w.ok("status").out, "Every file is as it should be")
	require.Contains(t, w.ok("lane", "list").out, filepath.Join(big, "Quay [old]"))
	w.ok("lane", "switch", "old")
	w.ok("lane", "switch", "main")
	w.ok("verify")
	w.ok("unpin", "--yes")
	b, err := os.ReadFile(config)
	require.NoError(t, err)
	require.Contains(t, string(b), "update = always")

	// On the same disk by renaming, into a folder that holds something beside it; and one lane alone.
	w.fails(1, "it lies there already", "game", "move", big, "--yes")
	other := filepath.Join(big, "elsewhere", "deep", "Quay")
	require.Contains(t, w.ok("game", "move", other, "--yes").err, "by renaming")
	w.live = other
	require.Equal(t, before, w.picture())
	w.ok("-l", "old", "game", "move", filepath.Join(w.dir, "old one"), "--yes")
	w.ok("-l", "old", "verify")
}

// linkOut puts links into the game that lead out of it.
func linkOut(t *testing.T, w *world) {
	t.Helper()
	scenery := w.source("scenery", map[string]string{"trees.pak": "trees"})
	require.NoError(t, os.MkdirAll(w.path("Mods"), 0o755))
	require.NoError(t, os.Symlink(scenery, w.path("Mods/Scenery")))
	require.NoError(t, os.Symlink("../../scenery/trees.pak", w.path("data/near.pak")))
}

// TestKilledAtAnyPointAMoveGoesOn: the game is whole at one of the two places, and the same command ends the move.
func TestKilledAtAnyPointAMoveGoesOn(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newPlayed(t)
	big := otherDisk(t, w.dir)
	linkOut(t, w)
	w.ok("pin", "1.2.0", "--yes")
	before := w.picture()
	live, home := w.live, filepath.Join(w.dir, "home-before")
	require.NoError(t, exec.Command("cp", "-a", w.home, home).Run())
	template := filepath.Join(w.dir, "live-before")
	require.NoError(t, exec.Command("cp", "-a", live, template).Run())
	to := filepath.Join(big, "Quay")
	for _, calls := range some([]string{"renameat", "unlinkat", "fsync", "pwrite64", "mkdirat", "symlinkat"}) {
		for n := 1; ; n += 1 + n/2 {
			for _, dir := range []string{live, to, w.home} {
				require.NoError(t, os.RemoveAll(dir))
			}
			require.NoError(t, exec.Command("cp", "-a", home, w.home).Run())
			require.NoError(t, exec.Command("cp", "-a", template, live).Run())
			w.live = live
			r := w.traced([]string{"game", "move", to, "--yes"}, "-e", "trace="+calls, "-e", "inject="+calls+":signal=KILL:when="+strconv.Itoa(n))
			where := calls + " " + strconv.Itoa(n)
			if r.code != 0 {
				cmd := w.command("-g", "quay", "verify") // the game is whole, wherever it is
				cmd.Dir = w.dir
				r := w.finish(cmd)
				require.Zero(t, r.code, "%s: %s%s", where, r.out, r.err)
				if _, err := os.Stat(live); err == nil {
					cmd := w.command("-g", "quay", "game", "move", to, "--yes")
					cmd.Dir = w.dir
					again := w.finish(cmd)
					require.Zero(t, again.code, "%s: %s%s", where, again.out, again.err)
				}
			}
			w.live = to
			require.Equal(t, before, w.picture(), where)
			require.NoDirExists(t, live, where)
			w.ok("verify")
			if r.code == 0 {
				break
			}
		}
	}
}
