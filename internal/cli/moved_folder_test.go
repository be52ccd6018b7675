package cli_test

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestALiveFolderThatALauncherHasMovedIsFound: beside, in another game's library, below a folder
// that is named.
func TestALiveFolderThatALauncherHasMovedIsFound(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	library := filepath.Join(w.dir, "library two")
	w.write("a.txt", "1")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("pin", "1")
	other := filepath.Join(library, "Other Game")
	require.NoError(t, os.MkdirAll(other, 0o755))
	w.outside("add", "other", other)
	at := func(args ...string) result {
		cmd := w.command(args...)
		cmd.Dir = w.dir
		return w.finish(cmd)
	}

	for _, to := range []string{w.live + " (updated)", filepath.Join(library, "Quay")} {
		was := w.live
		require.NoError(t, os.Rename(was, to))
		r := at("status", "-g", "quay")
		require.Equal(t, 4, r.code, r.out)
		require.Contains(t, r.err, "by its marker it is now at "+to)
		require.Contains(t, r.err, "Take it over with --yes, or: morvant game set -g quay --live")
		require.Contains(t, at("status", "-g", "quay", "--yes").out, "is held at 1. Every file is as it should be")
		require.Equal(t, 0, at("status", "-g", "quay").code)
		w.live = to
	}
	deep := filepath.Join(w.dir, "disk", "Games", "New", "Quay")
	require.NoError(t, os.MkdirAll(filepath.Dir(deep), 0o755))
	require.NoError(t, os.Rename(w.live, deep))
	require.Equal(t, 1, at("status", "-g", "quay").code, "nobody knows where to look")
	require.Equal(t, 1, at("game", "set", "-g", "quay", "--search", library, "--yes").code)
	require.Equal(t, 0, at("game", "set", "-g", "quay", "--search", filepath.Join(w.dir, "disk"), "--yes").code)
	require.Equal(t, 0, at("status", "-g", "quay").code)
	require.Contains(t, at("game", "set", "-g", "quay", "--search", filepath.Join(w.dir, "disk")).err, "is where it was")
	w.live = deep

	// By a command that runs inside it.
	in := filepath.Join(w.dir, "elsewhere")
	require.NoError(t, os.Rename(deep, in))
	w.live = in
	require.Contains(t, w.ok("status", "--yes").out, "is held at 1")
}

func TestAWatchWaitsForAFolderThatWasMovedAndGoesOnThere(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("a process cannot be interrupted from here")
	}
	w := newWorld(t)
	w.write("a.txt", "1")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("pin", "1")
	cmd := w.command("--json", "watch", "--calm", "200ms", "--repair", "-g", "quay")
	cmd.Dir = w.dir
	events, end := w.watchingBy(cmd)
	w.next(events)
	to := w.live + " 2"
	require.NoError(t, os.Rename(w.live, to))
	w.live = to
	w.outside("game", "set", "-g", "quay", "--live", to)
	w.write("a.txt", "spoilt")
	w.mended(events)
	require.Equal(t, "1", w.read("a.txt"))
	w.write("a.txt", "spoilt once more")
	w.mended(events)
	end()
}

// TestASwitchCutOffBeforeAReinstallRecovers: the launcher has found nothing at the live path, and
// has installed the game anew.
func TestASwitchCutOffBeforeAReinstallRecovers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "the live one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.write("a.txt", "another")
	w.ok("lane", "new", "old", "--from", "1", "--yes")
	parked := w.live + " [old]"
	require.DirExists(t, parked)
	// As a switch leaves it that has been killed in the middle.
	w.inDatabase("state.db", `INSERT INTO operation (game, lane, kind, uid, body) VALUES ('quay', '', 'switch', '', ?)`,
		`{"from":"main","to":"old","park":"`+filepath.ToSlash(w.live)+` [main]","place":"`+filepath.ToSlash(parked)+`"}`)
	require.NoError(t, os.Rename(w.live, w.live+" [main]"))
	require.NoError(t, os.Mkdir(w.live, 0o755))
	w.write("fresh.txt", "installed anew")
	r := w.outside("status", "-g", "quay")
	require.Contains(t, r.err, "Somebody put another folder at "+w.live+" meanwhile; it is now "+w.live+" [found 1].")
	require.Contains(t, r.err, "was interrupted; Morvant has finished it")
	require.Equal(t, "the live one", w.read("a.txt"))
	b, err := os.ReadFile(filepath.Join(w.live+" [found 1]", "fresh.txt"))
	require.NoError(t, err)
	require.Equal(t, "installed anew", string(b))
	require.True(t, strings.Contains(w.outside("lane", "list", "-g", "quay").out, "main"))
	w.outside("lane", "switch", "main", "-g", "quay")
	require.Equal(t, "another", w.read("a.txt"))
}
