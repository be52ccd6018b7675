package cli_test

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestFilesOfThePlayersThatVanishAreToldFirst: a launcher that verifies removes what it does not know.
func TestFilesOfThePlayersThatVanishAreToldFirst(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("game", "set", "--keep", "Mods/**", "--keep", "settings.ini")
	w.write("Mods/taller-cranes/mod.txt", "name = Taller Cranes")
	w.write("settings.ini", "fog = high")
	w.write("notes.txt", "of no rule, and of no build")
	w.age()
	w.ok("snapshot", "with-mods")
	w.ok("pin", "snapshot/with-mods", "--yes")
	w.ok("status")

	w.launcher(0, "offer", "1.3.0")
	w.launcher(0, "idle", "--habit", "verify")
	r := w.run("status")
	require.Equal(t, 3, r.code)
	require.Regexp(t, `^2 files of yours are gone \(Mods/taller-cranes/mod\.txt and 1 more\), noticed .*\. Bring them back: morvant carry "?snapshot/with-mods`, r.out,
		"notes.txt is the snapshot's, and so missing")
	r = w.run("watch", "--once")
	require.Contains(t, r.out, "2 files of yours are gone")
	require.Contains(t, w.run("launch", "--check-only").err, "2 files of yours are gone")
	gone := w.json(3, "status")["gone"].([]any)
	require.Equal(t, "Mods/taller-cranes/mod.txt", gone[0].(map[string]any)["path"])

	w.ok("verify", "--repair", "--yes")
	require.Contains(t, w.ok("status").out, "2 files of yours are gone", "no repair touches them")
	w.ok("carry", "snapshot/with-mods", "--yes")
	require.NotContains(t, w.ok("status").out, "gone")
	require.Equal(t, "fog = high", w.read("settings.ini"))

	// Gone on purpose.
	require.NoError(t, os.RemoveAll(w.path("Mods")))
	require.Contains(t, w.ok("status").out, "1 file of yours is gone")
	require.NotContains(t, w.ok("status", "--seen").out, "gone")
	require.NoError(t, os.Remove(w.path("settings.ini")))
	require.Contains(t, w.ok("status").out, "settings.ini")
	w.ok("snapshot", "as-I-like-it")
	require.NotContains(t, w.ok("status").out, "gone")

	// Another name is no loss, nor is what Morvant itself takes away.
	w.write("Mods/a.txt", "a mod of one name")
	w.age()
	w.ok("status")
	require.NoError(t, os.Rename(w.path("Mods/a.txt"), w.path("Mods/b.txt")))
	require.NotContains(t, w.ok("status").out, "gone")
	w.ok("pin", "snapshot/1.1.1", "--exact", "--yes")
	require.NoFileExists(t, w.path("Mods/b.txt"))
	require.NotContains(t, w.ok("status").out, "gone")
}

func TestAWatchRecordsThePlayersFilesAndSaves(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("a process cannot be interrupted from here")
	}
	w := newLaunched(t)
	saves := filepath.Join(w.dir, "user", "Saved")
	require.NoError(t, os.MkdirAll(saves, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(saves, "slot1.sav"), []byte("day 1"), 0o644))
	w.ok("game", "set", "--keep", "Mods/**", "--saves", saves)
	w.ok("pin", "1.1.1", "--yes")
	w.fails(1, "no watch has recorded your own files yet", "carry", "own")
	events, end := w.watchingBy(w.command("--json", "watch", "--calm", "200ms", "--every", "1s"))
	w.next(events)
	w.write("Mods/new.txt", "made while it is watched")
	require.NoError(t, os.WriteFile(filepath.Join(saves, "slot2.sav"), []byte("day 2"), 0o644))
	require.Eventually(t, func() bool {
		list := w.json(0, "saves", "list")["backups"].([]any)
		return len(list) > 0 && list[0].(map[string]any)["files"].(float64) == 2
	}, waitLong, waitStep)
	require.Eventually(t, func() bool { return w.run("carry", "own", "--dry-run").code == 0 }, waitLong, waitStep)
	require.NoError(t, os.RemoveAll(w.path("Mods")))
	for e := w.next(events); len(e.Gone) == 0; e = w.next(events) {
	}
	said := end()
	require.Contains(t, said, "1 of your own files are recorded")
	require.Contains(t, said, "the saves are backed up")
	r := w.ok("status")
	require.Contains(t, r.out, "Bring it back: morvant carry own")
	w.ok("carry", "own", "--yes")
	require.Equal(t, "made while it is watched", w.read("Mods/new.txt"))
	w.ok("store", "trim", "--yes")
	w.ok("store", "check")
	require.NoError(t, os.RemoveAll(w.path("Mods")))
	w.ok("carry", "own", "--yes")
	require.FileExists(t, w.path("Mods/new.txt"), "a trim keeps it")
}
