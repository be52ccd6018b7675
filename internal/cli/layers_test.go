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

func TestWhySaysWhoseAFileIs(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("0.9")
	w.ok("add", "quay", w.live, "--keep", "Mods/**", "--scratch", "logs/**")
	w.ok("snapshot", "0.9")
	w.becomes("1.0")
	w.ok("snapshot", "1.0")
	w.write("Mods/mine.txt", "mine")
	w.write("logs/last.txt", "log")
	w.write("odd.txt", "odd")
	for name, text := range map[string]string{"trees": "of trees", "boats": "of boats"} {
		w.ok("mods", "record", name, "--from", w.source(name, map[string]string{"data/a.pak": text, "Mods/" + name + ".txt": text}))
	}
	w.ok("pin", "1.0", "--mods", "trees", "--mods", "boats", "--yes")
	require.NoError(t, os.WriteFile(w.path("data/b.pak"), []byte("data/b.pak of 0.9"), 0o644))
	r := w.run("why", "data/a.pak", "Mods/mine.txt", "logs/last.txt", "odd.txt", "data/b.pak", "none.txt", "Mods/trees.txt")
	require.Equal(t, 0, r.code, r.err)
	for _, words := range []string{
		"data/a.pak, 8 B: the game's: as the mods boats has it", "without that    8 B, by the mods trees", "and beneath     17 B, by snapshot/1.0", "by change 1 (the pin to 1.0)",
		"Mods/mine.txt, 4 B: yours: a keep rule says", "logs/last.txt, 3 B: nobody's: a scratch rule", "odd.txt, 3 B: nobody can say", "data/b.pak, 17 B: left over", "exactly so in   snapshot/0.9",
		"none.txt, not there", "Mods/trees.txt, 8 B: the game's: as the mods trees has it",
	} {
		require.Contains(t, r.out, words)
	}
	j := w.json(0, "why", "data/a.pak")["files"].([]any)[0].(map[string]any)
	require.Equal(t, "layer", j["owner"])
	require.Len(t, j["layers"], 3)
	r = w.ok("mods", "conflicts")
	require.Regexp(t, `data/a\.pak +the mods boats +the mods trees`, r.out)
	require.NotContains(t, r.out, "Mods/trees.txt")
	require.Len(t, w.json(0, "mods", "conflicts")["conflicts"], 1)
	w.ok("mods", "lift", "boats", "--yes")
	require.Contains(t, w.ok("mods", "conflicts").out, "No two")
	require.Equal(t, "of trees", w.read("data/a.pak"))
	w.fails(2, "not a path", "why", "../x")
}

// TestASnapshotOfAModdedGameIsTheBuildAndItsMods: not one lump, unless that is asked for.
func TestASnapshotOfAModdedGameIsTheBuildAndItsMods(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.ok("add", "quay", w.live, "--keep", "Mods/**")
	w.write("Mods/mine.txt", "mine")
	w.ok("snapshot", "1.0")
	w.ok("mods", "record", "trees", "--from", w.source("trees", map[string]string{"data/a.pak": "trees", "Mods/mine.txt": "mine of trees", "Mods/trees.txt": "trees"}))
	w.ok("pin", "1.0", "--mods", "trees", "--yes")
	w.becomes("1.1", "data/b.pak")
	r := w.ok("snapshot", "modded")
	require.Contains(t, r.out, "It is the build beneath the mods trees")
	w.ok("snapshot", "lump", "--flat")
	w.ok("pin", "modded", "--plain", "--yes")
	require.Equal(t, "data/a.pak of 1.0", w.read("data/a.pak"))
	require.Equal(t, "data/b.pak of 1.1", w.read("data/b.pak"))
	require.Equal(t, "mine", w.read("Mods/mine.txt"))
	require.NoFileExists(t, w.path("Mods/trees.txt"))
	w.ok("pin", "modded", "--mods", "trees", "--yes")
	require.Equal(t, "trees", w.read("data/a.pak"))

	w.ok("pin", "lump", "--yes")
	r = w.ok("mods", "lift", "trees", "--yes")
	require.Contains(t, r.err, "lump has 1 file of the mods trees itself")
	require.Equal(t, "trees", w.read("data/a.pak"))
}

// TestAPinFileGoesByTheGamesContent: also for who has no mods, holds nothing, or calls the game otherwise.
func TestAPinFileGoesByTheGamesContent(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.write("Mods/mine.txt", "mine")
	w.ok("add", "quay", w.live, "--keep", "Mods/**")
	w.ok("snapshot", "1.0")
	w.ok("pin", "1.0", "--yes")
	file := filepath.Join(w.dir, "1.0.pin.toml")
	w.ok("pinfile", "write", file)
	status := filepath.Join(w.dir, "status.json")
	require.NoError(t, os.WriteFile(status, []byte(w.ok("--json", "status").out), 0o644))

	friend := newWorld(t)
	friend.becomes("1.0")
	friend.ok("add", "harbour", friend.live, "--keep", "Mods/**")
	require.Contains(t, friend.ok("compare-with", file).out, "The same")
	friend.fails(4, "that is the status of quay, not of harbour", "compare-with", status)
	friend.ok("snapshot", "1.0")
	friend.becomes("1.1", "data/a.pak")
	require.Equal(t, 3, friend.run("compare-with", file).code)
	friend.ok("pinfile", "apply", file, "--yes")
	require.Equal(t, "data/a.pak of 1.0", friend.read("data/a.pak"))
	require.Contains(t, friend.ok("status").out, "held at 1.0")
}

// TestACarryTakesNoBuildForThePlayers: files of a newer build that nobody knows are asked about.
func TestACarryTakesNoBuildForThePlayers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.ok("add", "quay", w.live, "--program", "bin/quay.exe", "--keep", "Mods/**")
	w.ok("snapshot", "1.0")
	w.ok("pin", "1.0", "--yes")
	newer := w.source("newer", map[string]string{"bin/quay.exe": "program of 2.0", "data/a.pak": "a of 2.0", "data/new.pak": "new in 2.0", "Mods/mine.txt": "mine"})
	r := w.ok("carry", newer, "--yes")
	require.Contains(t, r.err, "may be the game's rather than yours: data/new.pak")
	require.NoFileExists(t, w.path("data/new.pak"))
	require.Equal(t, "mine", w.read("Mods/mine.txt"))
	require.NotContains(t, w.ok("game", "show").out, "data/")
	w.ok("carry", newer, "data/new.pak", "--yes")
	require.FileExists(t, w.path("data/new.pak"))
}

// TestOnlyThePlayersFilesAreMissed: not what an editor or a launcher has there for a moment, nor what an overlay brought.
func TestOnlyThePlayersFilesAreMissed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.ok("add", "quay", w.live, "--keep", "Mods/**")
	w.ok("snapshot", "1.0")
	w.write("Mods/mine.txt", "mine")
	over := w.source("over", map[string]string{"Mods/over.txt": "over"})
	w.ok("pin", "1.0", "--overlay", over+":Mods/**", "--yes")
	w.write("Mods/mine.txt~", "an editor's")
	w.write("patch.delta", "the launcher's")
	w.ok("status")
	for _, p := range []string{"Mods/mine.txt~", "patch.delta", "Mods/over.txt"} {
		require.NoError(t, os.Remove(w.path(p)))
	}
	require.NotContains(t, w.run("status").out, "of yours")
	require.NoError(t, os.Remove(w.path("Mods/mine.txt")))
	require.Contains(t, w.run("status").out, "1 file of yours is gone (Mods/mine.txt)")
}

// TestAnEditFetchesItsFileFirst: what is planned depends on what is in it.
func TestAnEditFetchesItsFileFirst(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	r := w.ok("pin", "public/1.3.0", "--edit", `readme.txt:^CINDER QUAY (\S+)=edited`, "--yes")
	require.Contains(t, r.out, `sets: "edited" in readme.txt`)
	require.Contains(t, w.read("readme.txt"), "CINDER QUAY edited")
	require.Contains(t, w.ok("status").out, "Every file is as it should be")
	w.ok("pin", "public/1.3.0", "--plain", "--yes")
	require.Contains(t, w.read("readme.txt"), "CINDER QUAY 1.3.0")
}
