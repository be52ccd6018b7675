package cli_test

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// newSaving is a game of two builds, held at the first, with a folder of saves outside.
func newSaving(t *testing.T) (w *world, save func(name, content string) string) {
	t.Helper()
	w = newWorld(t)
	dir := filepath.Join(w.dir, "saved games")
	save = func(name, content string) string {
		at := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(content), 0o644))
		return at
	}
	save("slot1.sav", "written by 1")
	w.write("data/a.pak", "one")
	w.ok("add", "quay", w.live, "--saves", dir)
	w.ok("snapshot", "1")
	w.write("data/a.pak", "two")
	w.ok("snapshot", "2")
	w.ok("pin", "1", "--yes")
	return w, save
}

// TestAnotherBuildHasItsOwnSaves: going there names the newest that it wrote, and going back the originals.
func TestAnotherBuildHasItsOwnSaves(t *testing.T) {
	t.Parallel()
	w, save := newSaving(t)
	save("slot1.sav", "written by 1, while it was held")
	require.NotContains(t, w.ok("pin", "2", "--yes").err, "The newest saves", "it has written none yet")
	save("slot1.sav", "written by 2")
	r := w.ok("pin", "1", "--yes")
	require.Contains(t, r.err, "The newest saves that 1 wrote are in backup 2")
	w.ok("saves", "restore", "--of", "1", "--yes")
	require.Equal(t, "written by 1, while it was held", readFile(t, filepath.Join(w.dir, "saved games", "slot1.sav")))
	w.fails(1, "no whole backup of 1 differs from the saves of now", "saves", "restore", "--of", "1", "--yes")
	j := w.json(0, "pin", "2", "--yes")
	require.NotZero(t, j["saves_backup"])
	w.ok("saves", "restore", "--of", "2", "--yes")
	require.Equal(t, "written by 2", readFile(t, filepath.Join(w.dir, "saved games", "slot1.sav")))
}

// TestASuspectBackupIsMarkedAndPassedOver: saves that have become zeros or empty, as a sync program and a full disk leave them.
func TestASuspectBackupIsMarkedAndPassedOver(t *testing.T) {
	t.Parallel()
	w, save := newSaving(t)
	at := save("slot2.sav", strings.Repeat("a long game ", 50))
	w.ok("saves", "backup", "good")
	require.NoError(t, os.Truncate(at, 0))
	r := w.ok("saves", "backup")
	require.Contains(t, r.err, "marked suspect: slot2.sav is empty, and was not in backup")
	save("slot2.sav", strings.Repeat("\x00", 600))
	require.Contains(t, w.ok("saves", "backup").err, "slot2.sav holds nothing but zeros", "it is compared with the last good one")
	require.Contains(t, w.ok("saves", "list").out, "suspect, by hand")
	list := w.json(0, "saves", "list")["backups"].([]any)
	require.Contains(t, list[0].(map[string]any)["doubt"], "zeros")
	w.ok("saves", "restore", "--yes")
	require.Equal(t, strings.Repeat("a long game ", 50), readFile(t, at), "the newest whole one")
}

// TestALinkToASingleSaveIsFollowedIntoTheBackup, and comes back as a link, with what it leads to.
func TestALinkToASingleSaveIsFollowedIntoTheBackup(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("links to files need rights there")
	}
	w, save := newSaving(t)
	real := filepath.Join(w.dir, "cloud", "slot3.sav")
	require.NoError(t, os.MkdirAll(filepath.Dir(real), 0o755))
	require.NoError(t, os.WriteFile(real, []byte("in the cloud"), 0o644))
	link := filepath.Join(filepath.Dir(save("slot1.sav", "mine")), "slot3.sav")
	require.NoError(t, os.Symlink(real, link))
	r := w.ok("saves", "backup")
	require.NotContains(t, r.err, "leaves out")
	require.Contains(t, r.out, "2 files")
	require.NoError(t, os.Remove(link))
	require.NoError(t, os.WriteFile(real, []byte("overwritten"), 0o644))
	w.ok("saves", "restore", "--yes")
	require.Equal(t, "in the cloud", readFile(t, link))
	target, err := os.Readlink(link)
	require.NoError(t, err)
	require.Equal(t, real, target)
	entries, err := os.ReadDir(filepath.Dir(real))
	require.NoError(t, err)
	require.Len(t, entries, 1, "nothing of Morvant's stays there")

	// One to a folder that is no place of saves is said, and keeps the saves from being put away.
	require.NoError(t, os.Symlink(filepath.Dir(real), filepath.Join(filepath.Dir(link), "more")))
	require.Contains(t, w.ok("saves", "backup").err, "which is no place of saves")
	w.fails(1, "cannot record some of the saves", "saves", "stash", "--yes")
}

// TestAPlaceOfSavesThatMatchesNothingIsToldWhenItIsSet.
func TestAPlaceOfSavesThatMatchesNothingIsToldWhenItIsSet(t *testing.T) {
	t.Parallel()
	w, save := newSaving(t)
	save("slot1.sav", "x")
	require.Contains(t, w.ok("game", "set", "--saves", filepath.Join(w.dir, "savd games")).err, "Is it spelled right?")
	require.Contains(t, w.ok("game", "set", "--saves", "Saves").err, "which begins in the game's folder")
	w.fails(2, "NO_SUCH_VARIABLE is not set on this computer", "game", "set", "--saves", "$NO_SUCH_VARIABLE/quay")
}
