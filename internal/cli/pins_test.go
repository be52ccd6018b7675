package cli_test

import (
	"archive/zip"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// newHeld is a game with two builds, of which the older is an import, and files of the player's.
func newHeld(t *testing.T) *world {
	t.Helper()
	w := newPlayed(t)
	w.write("intro/film-1.ogv", strings.Repeat("film ", 5000))
	w.write("intro/film-2.ogv", strings.Repeat("film ", 6000))
	w.ok("snapshot", "films")
	w.ok("import", w.source("old", older("base", "voices")), "1.1.0")
	return w
}

// TestWhatIsLeftOutStaysOut: it is no drift, comes in no other pin, and goes again if it is brought back.
func TestWhatIsLeftOutStaysOut(t *testing.T) {
	t.Parallel()
	w := newHeld(t)
	before := w.picture()
	dry := w.ok("pin", "films", "--leave-out", "intro/**", "--dry-run")
	require.Contains(t, dry.out, "leaves out: intro/** (2 files of the build)")
	require.Equal(t, before, w.picture())
	w.ok("pin", "films", "--leave-out", "intro/**", "--yes")
	require.NoDirExists(t, w.path("intro"))
	require.Contains(t, w.ok("status").out, "2 files of the build (55 kB) are left out by the pin")
	require.Contains(t, w.ok("verify").out, "1 pattern left out")
	require.Contains(t, w.ok("diff", "films").out, "2 files of films are left out by the pin")
	j := w.json(0, "status")
	require.Equal(t, []any{"intro/**"}, j["leave_out"])
	require.EqualValues(t, 2, j["drift"].(map[string]any)["omitted"])

	// Whoever brings it back, it goes again; what the player has put there stays.
	w.write("intro/film-1.ogv", "another film")
	w.write("intro/mine.ogv", "mine")
	require.Contains(t, w.run("status").out, "back ")
	require.Equal(t, 3, w.run("verify").code)
	w.ok("verify", "--repair", "--yes")
	require.NoFileExists(t, w.path("intro/film-1.ogv"))
	require.Equal(t, "mine", w.read("intro/mine.ogv"))

	// A pin file has it, and another pin keeps it.
	file := filepath.Join(w.dir, "race.pin.toml")
	w.ok("pinfile", "write", file)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(b), "leave_out = ['intro/**']")
	w.ok("pin", "1.1.0", "--yes")
	w.ok("pin", "films", "--yes")
	require.NoFileExists(t, w.path("intro/film-1.ogv"))
	w.ok("pin", "films", "--without", "intro/**", "--yes")
	require.FileExists(t, w.path("intro/film-1.ogv"))
	require.Contains(t, w.ok("pinfile", "show", file).out, "leaves out")
	w.ok("pinfile", "apply", file, "--yes")
	require.NoFileExists(t, w.path("intro/film-1.ogv"))
	require.FileExists(t, w.path("intro/mine.ogv"))
	w.ok("undo", "--yes")
	require.FileExists(t, w.path("intro/film-1.ogv"))
	w.fails(1, "nothing to leave out", "pin", "films", "--leave-out", "outro/**", "--yes")
	w.fails(2, "cannot be read", "pin", "films", "--leave-out", "[", "--yes")
	require.NoError(t, os.Remove(w.path("intro/mine.ogv")))
	w.ok("unpin", "--yes")
	require.Equal(t, before, w.picture())
}

// TestAPinThatIsChangedKeepsWhatItHad: until it is told otherwise, and an edit that ends gives back its value.
func TestAPinThatIsChangedKeepsWhatItHad(t *testing.T) {
	t.Parallel()
	w := newHeld(t)
	w.write("settings.ini", "width = 800\nfog = low\n")
	w.write("tide.txt", "high")
	w.ok("snapshot", "tides")
	require.NoError(t, os.Remove(w.path("tide.txt")))
	w.ok("pin", "1.2.0", "--edit", `settings.ini:^width = (\d+)=1280`, "--edit", `settings.ini:^fog = (\w+)=none`, "--overlay", "tides:tide.txt", "--companion", "note.txt=x", "--keep", "Own/**", "--yes")
	require.Equal(t, "width = 1280\nfog = none\n", w.read("settings.ini"))
	plan := w.ok("pin", "1.1.0", "--dry-run").out
	for _, words := range []string{"overlays: tide.txt of snapshot/tides", "companions: note.txt", `sets: "1280" in settings.ini, "none" in settings.ini`, "also keeps: Own/**"} {
		require.Contains(t, plan, words)
	}
	w.ok("pin", "1.1.0", "--yes")
	require.Equal(t, "width = 1280\nfog = none\n", w.read("settings.ini"))
	require.Equal(t, "high", w.read("tide.txt"))
	require.Equal(t, "x", w.read("note.txt"))
	require.Contains(t, w.ok("status").out, "also keeps")

	// Another value for the same setting: the first one is what comes back in the end.
	w.ok("pin", "1.1.0", "--edit", `settings.ini:^width = (\d+)=1920`, "--yes")
	require.Equal(t, "width = 1920\nfog = none\n", w.read("settings.ini"))
	r := w.ok("pin", "1.1.0", "--without", "tide.txt", "--without", "Own/**", "--yes")
	require.Contains(t, r.err, "the overlay tide.txt of snapshot/tides is not part of the new pin")
	require.NoFileExists(t, w.path("tide.txt"))
	require.FileExists(t, w.path("note.txt"))

	// What the player has set since stays.
	w.write("settings.ini", "width = 1920\nfog = thick\n")
	w.ok("pin", "1.1.0", "--without", "edits", "--yes")
	require.Equal(t, "width = 800\nfog = thick\n", w.read("settings.ini"))
	require.NotContains(t, w.ok("status").out, "differ")
	w.ok("pin", "1.2.0", "--plain", "--yes")
	require.NoFileExists(t, w.path("note.txt"))
	require.Equal(t, "width = 800\nfog = thick\n", w.read("settings.ini"), "the player's own file stays")
	w.fails(1, "nothing of that name", "pin", "1.2.0", "--without", "tide.txt", "--yes")
	w.ok("undo", "--yes")
	require.Equal(t, "x", w.read("note.txt"))
}

// TestLeftOversAreTold: files that are not this build's, but just as in other known ones.
func TestLeftOversAreTold(t *testing.T) {
	t.Parallel()
	w := newHeld(t)
	w.ok("pin", "1.2.0", "--yes")
	require.Contains(t, w.ok("status").out, "2 files are left over from films (55 kB)", "a snapshot may have files of the player's: it is told, and nothing taken")
	w.write("readme.txt", "CINDER QUAY 1.2.1")
	w.ok("snapshot", "1.2.1")
	w.write("readme.txt", "CINDER QUAY 1.2.0")
	r := w.ok("status")
	require.Contains(t, r.out, "2 files are left over from 1.2.1 (55 kB)")
	require.NotContains(t, r.out, "Every file is as it should be")
	require.Contains(t, w.ok("verify").out, "2 files are left over from 1.2.1 (55 kB)")
	require.Contains(t, w.ok("pin", "1.1.0", "--dry-run").out, "2 files left over from 1.2.1 (55 kB); --left-overs removes them: intro/film-2.ogv, intro/film-1.ogv")
	w.ok("pin", "1.1.0", "--yes")
	require.FileExists(t, w.path("intro/film-1.ogv"), "no snapshot takes anything away unasked")
	j := w.json(0, "status")
	require.Len(t, j["left_over"], 1)
	w.ok("pin", "1.1.0", "--left-overs", "--yes")
	require.NoDirExists(t, w.path("intro"))
	require.Contains(t, w.ok("status").out, "Every file is as it should be")
	w.ok("undo", "--yes")
	require.FileExists(t, w.path("intro/film-1.ogv"))

	// A component vouches: it goes by default.
	w.ok("import", "1.0.0", "--component", "films="+w.source("films", map[string]string{"intro/film-1.ogv": strings.Repeat("film ", 5000)}), "--component", "base="+w.source("old", older("base", "voices")))
	require.Contains(t, w.ok("pin", "1.2.0", "--yes").out, "removed as left over from 1.0.0: 1 file")
	require.NoFileExists(t, w.path("intro/film-1.ogv"))
	require.FileExists(t, w.path("intro/film-2.ogv"))
}

// TestFilesOverTheFolderAsItIs: pin here lays an overlay over what is there.
func TestFilesOverTheFolderAsItIs(t *testing.T) {
	t.Parallel()
	w := newHeld(t)
	w.write("readme.txt", "something of its own")
	w.fails(2, "is not recorded yet", "pin", "here")
	builds := len(w.json(0, "builds")["builds"].([]any))
	w.ok("pin", "here", "--overlay", "1.1.0:bin/**", "--dry-run")
	require.Len(t, w.json(0, "builds")["builds"], builds, "a dry run leaves no record")
	w.ok("pin", "here", "--overlay", "1.1.0:bin/**", "--yes")
	require.Equal(t, "program of 1.1.0", w.read("bin/quay.exe"))
	require.Equal(t, "something of its own", w.read("readme.txt"))
	w.ok("unpin", "--yes")
	require.Equal(t, "program of 1.2.0", w.read("bin/quay.exe"))
}

// TestWhatIsCarriedStays: a repair does not undo what a carry has brought, also at the place of a file of the game.
func TestWhatIsCarriedStays(t *testing.T) {
	t.Parallel()
	w := newHeld(t)
	w.ok("pin", "1.2.0", "--clean", "--yes")
	march := w.source("march", map[string]string{"Harbours/mine.map": "my harbour", "readme.txt": "my notes", "bin/quay.exe": "program of 1.1.0"})
	require.Contains(t, w.ok("carry", march, "--dry-run").err, "Harbours/**")
	w.ok("carry", march, "--yes")
	require.Equal(t, "my harbour", w.read("Harbours/mine.map"))
	require.Equal(t, "program of 1.2.0", w.read("bin/quay.exe"), "not asked for, and the game's")
	require.Contains(t, w.ok("status").out, "1 kept")
	w.ok("carry", march, "readme.txt", "--conflict", "theirs", "--yes")
	require.Equal(t, "my notes", w.read("readme.txt"))
	require.Contains(t, w.ok("game", "show").out, "readme.txt")
	w.ok("verify", "--repair", "--yes")
	w.ok("pin", "1.1.0", "--clean", "--yes")
	require.Equal(t, "my notes", w.read("readme.txt"))
	require.Equal(t, "my harbour", w.read("Harbours/mine.map"))
	require.Contains(t, w.ok("game", "show").out, "Mods/**")
}

// TestTheBuildOfAReplay: by the time inside an archive, the file's own, or what the player says.
func TestTheBuildOfAReplay(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	w.ok("import", w.source("one", older("base", "voices")), "1.1.0", "--date", "2021-03-01")
	w.ok("import", w.source("two", older("base")), "1.1.1", "--date", "2021-08-05")
	replay := filepath.Join(w.dir, "race.replay")
	require.NoError(t, os.WriteFile(replay, []byte("steps"), 0o644))
	at := time.Date(2021, 5, 1, 12, 0, 0, 0, time.Local)
	require.NoError(t, os.Chtimes(replay, at, at))
	r := w.ok("builds", "--for", replay)
	require.Contains(t, r.err, "was made 2021-05-01 12:00 (the date of the file)")
	require.Regexp(t, `1\.1\.1 .*the next`, r.out)
	require.Regexp(t, `1\.1\.0 .*current then`, r.out)
	require.NotContains(t, r.err, "close to")
	require.Contains(t, w.ok("builds", "--for", replay, "--date", "2021-08-04").err, "close to 1.1.1 of 2021-08-05")
	w.fails(1, "no build is as old", "builds", "--for", replay, "--date", "2020-01-01")
	w.fails(2, "is no date", "builds", "--for", replay, "--date", "then")
	w.fails(1, "no such file", "builds", "--for", replay+".gone")

	zipped := filepath.Join(w.dir, "race.zip")
	f, err := os.Create(zipped)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	_, err = z.CreateHeader(&zip.FileHeader{Name: "race.replay", Modified: time.Date(2021, 9, 1, 12, 0, 0, 0, time.UTC)})
	require.NoError(t, errors.Join(err, z.Close(), f.Close()))
	require.Contains(t, w.ok("pin", "--for", zipped, "--dry-run").err, "the build of that time is 1.1.1")
	w.ok("pin", "--for", replay, "--yes")
	require.Contains(t, w.ok("status").out, "held at 1.1.0")
	w.fails(2, "one argument too many", "pin", "1.1.0", "--for", replay)

	// Names and dates are the player's to set.
	w.ok("builds", "note", "1.1.0", "the one for the race")
	w.fails(2, "a label has", "builds", "rename", "1.1.0", "Race night (no)")
}

// TestNamesOfAnyKind: dots, spaces and letters of any language, in labels and names of lanes.
// tellsLetters reports whether this system has file names of any letters, which Wine has not under every locale.
func tellsLetters(t *testing.T) bool {
	t.Helper()
	dir := t.TempDir()
	if os.WriteFile(filepath.Join(dir, "für"), nil, 0o644) != nil {
		return false
	}
	list, err := os.ReadDir(dir)
	return err == nil && len(list) == 1 && list[0].Name() == "für"
}

func TestNamesOfAnyKind(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	w.ok("snapshot", "Ölhafen im März", "--date", "2021-03-01")
	require.Contains(t, w.ok("builds", "--on", "2021-03-02").out, "Ölhafen im März")
	w.ok("builds", "note", "Ölhafen im März", "it was perfect")
	require.Contains(t, w.ok("builds", "rename", "Ölhafen im März", "harbour 2.0 βeta").out, "is called harbour 2.0 βeta now")
	r := w.ok("builds").out
	require.Contains(t, r, "harbour 2.0 βeta")
	require.Contains(t, r, "it was perfect")
	require.NotContains(t, r, "Ölhafen")
	w.ok("pin", "harbour 2.0 βeta", "--yes")
	w.write("readme.txt", "changed")
	require.Contains(t, w.run("status").out, `morvant diff "harbour 2.0 βeta"`)
	w.ok("verify", "--repair", "--yes")
	name := "Version 1.2 für Ada"
	if !tellsLetters(t) {
		name = "Version 1.2 for Ada"
	}
	w.ok("lane", "new", name, "--from", "1.2.0", "--yes")
	require.Contains(t, w.ok("lane", "list").out, name)
	require.DirExists(t, w.live+" ["+name+"]")
	w.fails(1, "already there", "lane", "new", strings.ToLower(name), "--from", "1.2.0", "--yes")
	w.ok("lane", "switch", name, "--yes")
	require.Contains(t, w.ok("-l", name, "status").out, "held at 1.2.0")
	require.Contains(t, w.ok("store", "check", "--recover-builds").out, "whole")
	for _, bad := range []string{" x", "x ", "a  b", "a/b", ".x", "-x", strings.Repeat("x", 33), "a\tb"} {
		w.fails(2, "", "lane", "new", "--from", "1.2.0", "--yes", "--", bad)
	}
	w.fails(1, "already there", "builds", "rename", "1.2.0", "harbour 2.0 βeta")
	w.fails(2, "say the new label", "builds", "rename", "1.2.0")
}

// TestComparingAFolderThatIsNotHeld: by content, with a pin file and with a status, on either side.
func TestComparingAFolderThatIsNotHeld(t *testing.T) {
	t.Parallel()
	w := newHeld(t)
	w.ok("pin", "1.2.0", "--leave-out", "readme.txt", "--left-overs", "--yes")
	file, held := filepath.Join(w.dir, "race.pin.toml"), filepath.Join(w.dir, "held.json")
	w.ok("pinfile", "write", file)
	require.NoError(t, os.WriteFile(held, []byte(w.ok("--json", "status").out), 0o644))
	w.ok("unpin", "--stay", "--yes")
	require.Contains(t, w.ok("compare-with", file).out, "The same")
	w.write("readme.txt", "CINDER QUAY 1.2.0")
	require.Contains(t, w.run("compare-with", file).out, "readme.txt", "it is to be left out")
	require.NoError(t, os.RemoveAll(w.path("intro")))
	loose := filepath.Join(w.dir, "loose.json")
	require.NoError(t, os.WriteFile(loose, []byte(w.ok("--json", "status").out), 0o644))
	require.Contains(t, w.ok("compare-with", loose).out, "The same")
	w.write("data/cargo.pak", "changed")
	require.Contains(t, w.run("compare-with", loose).out, "data/cargo.pak")
	require.Equal(t, 3, w.run("compare-with", held).code)
	require.NoError(t, os.WriteFile(loose, []byte(w.ok("--json", "status").out), 0o644))
	w.fails(1, "like none that is known there", "compare-with", loose)
}

// TestAnAdoptedLaneIsLikeAnother: it gets that one's own files.
func TestAnAdoptedLaneIsLikeAnother(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	w.write("Mods/mine.txt", "mine")
	w.ok("lane", "new", "old", "--adopt", w.source("old one", older("base", "voices")), "--like", "main", "--yes")
	require.Equal(t, "mine", readFile(t, filepath.Join(w.dir, "old one", "Mods", "mine.txt")))
	w.fails(1, `lane "nobody"`, "lane", "new", "two", "--adopt", w.source("another", older("base")), "--like", "nobody", "--yes")
}
