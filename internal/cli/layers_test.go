package cli_test

import (
	"archive/zip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatIsNamedIsLaidAlsoUnderAKeepRule: what is said to be set is set, and lifted exactly.
func TestWhatIsNamedIsLaidAlsoUnderAKeepRule(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.write("user.ini", "name = me\nfov = 70\n")
	w.write("Mods/mine.txt", "mine")
	w.ok("add", "quay", w.live, "--keep", "user.ini", "--keep", "Mods/**")
	w.ok("snapshot", "1.0")
	w.write("user.ini", "name = me, later\nfov = 70\n")
	w.age()
	before := w.picture()

	r := w.ok("pin", "1.0", "--edit", `user.ini:^fov = (\d+)=90`, "--yes")
	require.Contains(t, r.out, `sets: "90" in user.ini`)
	require.Equal(t, "name = me, later\nfov = 90\n", w.read("user.ini"))
	require.Contains(t, w.ok("status").out, "Every file is as it should be")
	w.write("user.ini", "name = me, at last\nfov = 90\n")
	w.ok("verify")
	w.ok("pin", "1.0", "--without", "user.ini", "--yes")
	require.Equal(t, "name = me, at last\nfov = 70\n", w.read("user.ini"))
	w.write("user.ini", "name = me, later\nfov = 70\n")

	over := w.source("over", map[string]string{"Mods/mine.txt": "theirs", "Mods/new.txt": "new"})
	r = w.ok("pin", "1.0", "--overlay", over+":Mods/**", "--companion", "Mods/note.txt=x", "--yes")
	require.Equal(t, "theirs", w.read("Mods/mine.txt"))
	require.Equal(t, "new", w.read("Mods/new.txt"))
	require.Equal(t, "x", w.read("Mods/note.txt"))
	require.Contains(t, w.ok("status").out, "Every file is as it should be")
	require.NoError(t, os.Remove(w.path("Mods/new.txt")))
	require.Equal(t, 3, w.run("verify").code)
	w.ok("verify", "--repair", "--yes")
	require.Equal(t, "new", w.read("Mods/new.txt"))
	w.write("Mods/note.txt", "the player's by now")
	r = w.ok("pin", "1.0", "--plain", "--yes")
	require.Contains(t, r.err, "the companion Mods/note.txt has been changed by hand; it stays")
	require.Equal(t, "the player's by now", w.read("Mods/note.txt"))
	require.NoError(t, os.Remove(w.path("Mods/note.txt")))
	require.Equal(t, "mine", w.read("Mods/mine.txt"))
	require.NoFileExists(t, w.path("Mods/new.txt"))
	w.ok("unpin", "--yes")
	after := w.picture()
	for _, p := range []string{"Mods/mine.txt", "bin/quay.exe", "data/a.pak"} {
		require.Equal(t, before[p][len(before[p])-16:], after[p][len(after[p])-16:], p)
	}
	require.Len(t, after, len(before))
}

func TestAFileOfTheBuildThatThePlayerHasChangedStaysWhenItsEditIsLifted(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.write("set.ini", "fov = 70\nlight = 1\n")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0")
	w.ok("pin", "1.0", "--edit", `set.ini:^fov = (\d+)=90`, "--yes")
	w.write("set.ini", "fov = 90\nlight = 5\n")
	r := w.ok("pin", "1.0", "--without", "set.ini", "--yes")
	require.Contains(t, r.err, "set.ini has been changed since")
	require.Equal(t, "fov = 90\nlight = 5\n", w.read("set.ini"))
	require.NotContains(t, w.ok("status").out, "differs")
	w.ok("verify", "--repair", "--yes")
	require.Equal(t, "fov = 90\nlight = 5\n", w.read("set.ini"))
}

func TestAnOverlayMayBeAnArchive(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0")
	f, err := os.Create(filepath.Join(w.dir, "over.zip"))
	require.NoError(t, err)
	z := zip.NewWriter(f)
	for _, p := range []string{"data/a.pak", "readme.txt"} {
		e, err := z.Create(p)
		require.NoError(t, err)
		_, err = e.Write([]byte("zipped " + p))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.NoError(t, f.Close())
	w.ok("pin", "1.0", "--overlay", f.Name()+":data/**", "--yes")
	require.Equal(t, "zipped data/a.pak", w.read("data/a.pak"))
	require.NoFileExists(t, w.path("readme.txt"))
	w.fails(1, "has no files", "pin", "1.0", "--overlay", f.Name()+":none/**", "--yes")
	w.ok("pin", "1.0", "--plain", "--yes")
	require.Equal(t, "data/a.pak of 1.0", w.read("data/a.pak"))
	require.NotContains(t, w.ok("builds").out, "overlay")
}

func TestAHoldEndsAlsoWhereItsFolderIsAway(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0")
	w.ok("pin", "1.0", "--yes")
	require.NoError(t, os.Rename(w.live, w.live+" away"))
	require.NoError(t, os.RemoveAll(w.live+" away/.morvant"))
	w.ok("unpin", "--stay", "-g", "quay")
	require.NoError(t, os.Rename(w.live+" away", w.live))
	require.Contains(t, w.ok("status").out, "not held")
}
