package cli_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestAPinOfOnesOwn(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("game", "set", "--keep", "settings.ini")
	w.write("settings.ini", "[display]\r\nfog = high ; as I like it\r\n")
	other := filepath.Join(w.dir, "mod")
	require.NoError(t, os.MkdirAll(filepath.Join(other, "data"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(other, "data", "mod.txt"), []byte("mod"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(other, "data", "other.txt"), []byte("not this"), 0o644))
	before := w.picture()
	pin := []string{"pin", "snapshot/1.1.1", "--yes",
		"--overlay", "public/1.3.0:bin/*.exe", "--overlay", other + ":data/mod.txt", "--overlay", "public/1.2.0:readme.txt", "--overlay", "public/1.3.0:readme.txt",
		"--companion", `bin/standalone.txt=240117\n`, "--edit", `settings.ini:^fog = (\w+)=low`, "--edit", `version.txt:^Cinder Quay (\S+)=1.1.1-mine`, "--keep", "Mods/**"}
	r := w.ok(pin...)
	require.Contains(t, r.err, "two overlays have readme.txt")
	require.Contains(t, r.err, "recorded as snapshot/overlay")
	require.Equal(t, "[display]\r\nfog = low ; as I like it\r\n", w.read("settings.ini"), "only the value, though it is kept")
	require.Equal(t, "Cinder Quay 1.1.1-mine\n", w.read("version.txt"))
	require.Equal(t, "mod", w.read("data/mod.txt"))
	require.NoFileExists(t, w.path("data/other.txt"))
	require.Contains(t, w.read("readme.txt"), "1.3.0")
	require.Contains(t, w.ok("identify").out, "bin/quay.exe says 1.3.0")
	status := w.ok("status").out
	for _, words := range []string{"bin/*.exe of public/1.3.0", "data/mod.txt of snapshot/overlay", `"low" in settings.ini`, "bin/standalone.txt", "Mods/**"} {
		require.Contains(t, status, words)
	}
	w.ok("verify")
	w.write("Mods/new.txt", "mine")
	w.ok("verify")
	require.EqualValues(t, 1, w.json(0, "status")["drift"].(map[string]any)["kept"], "settings.ini counts as built, the mod as kept")

	program := w.read("bin/quay.exe")
	w.write("bin/quay.exe", "spoilt")
	w.write("settings.ini", "[display]\r\nfog = high\r\nmore = 1\r\n")
	require.NoError(t, os.Remove(w.path("data/mod.txt")))
	require.Equal(t, 3, w.run("verify").code)
	w.ok("verify", "--repair", "--yes")
	require.Equal(t, "[display]\r\nfog = low\r\nmore = 1\r\n", w.read("settings.ini"), "what else was changed stays")
	require.Equal(t, program, w.read("bin/quay.exe"))
	w.fails(4, "is held at", "builds", "forget", "overlay", "--yes")
	w.ok("undo", "--yes")
	w.ok("undo", "--yes")
	require.NoError(t, os.RemoveAll(w.path("Mods")))
	require.Equal(t, before, w.picture(), "names, times, modes and all")

	w.ok(pin...)
	w.ok("pin", "snapshot/1.1.1", "--plain", "--yes")
	require.NoFileExists(t, w.path("data/mod.txt"), "what an overlay brought leaves with it")
	require.Contains(t, w.read("settings.ini"), "high", "what is yours stays, and gets its value back")
}

func TestAPinThatCannotBe(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	for words, args := range map[string][]string{
		"has no files":                    {"--overlay", "public/1.3.0:nothing/**"},
		"no build \"9.9\"":                {"--overlay", "9.9:bin/**"},
		"is not BUILD:PATTERN":            {"--overlay", "1.1.1"},
		"must be relative":                {"--overlay", "1.1.1:../x"},
		"matches nowhere":                 {"--edit", `version.txt:^nothing (\S+)=x`},
		"must capture one value":          {"--edit", `version.txt:^Cinder=x`},
		"is not FILE:PATTERN=VALUE":       {"--edit", "version.txt"},
		"../out":                          {"--edit", `../out:^(a)=b`},
		"cannot be read":                  {"--keep", "[a"},
		"not there yet":                   {"--edit", `later.cfg:^a = (\w+)=b`, "--dry-run"},
		"is Morvant's own":                {"--companion", ".morvant/lane.toml=x"},
		"not a text file of a usual size": {"--edit", `data:^a = (\w+)=b`},
	} {
		r := w.run(append([]string{"pin", "snapshot/1.1.1", "--yes"}, args...)...)
		require.Contains(t, r.err, words, "%v", args)
	}
	require.Empty(t, w.json(0, "history")["changes"])
}

func TestOwnFilesAreCarried(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	write := func(p, text string) {
		name := filepath.Join(w.parked("old"), filepath.FromSlash(p))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	w.write("Mods/older.txt", "here, older")
	long := time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, os.Chtimes(w.path("Mods/older.txt"), long, long))
	write("Mods/gulls.txt", "quiet")   // the same
	write("Mods/cranes.txt", "taller") // new
	write("extra/map.txt", "own")      // under no keep rule, and of no build
	write("Mods/older.txt", "there, it is newer")
	before := w.picture()
	plan := w.ok("carry", "lane/old", "--dry-run").out
	require.Contains(t, plan, "2 files new here, 1 the same, 1 different")
	require.Contains(t, plan, "Mods/older.txt")
	require.Equal(t, before, w.picture())
	w.fails(4, "needs a yes", "carry", "lane/old")
	w.ok("carry", "lane/old", "--conflict", "mine", "--yes")
	require.Equal(t, "taller", w.read("Mods/cranes.txt"))
	require.Equal(t, "own", w.read("extra/map.txt"))
	require.Equal(t, "here, older", w.read("Mods/older.txt"))
	w.ok("carry", "lane/old", "--conflict", "newer", "--yes")
	require.Equal(t, "there, it is newer", w.read("Mods/older.txt"))
	w.ok("undo", "--yes")
	w.ok("undo", "--yes")
	require.Equal(t, before, w.picture())

	w.ok("carry", w.parked("old"), "Mods/cranes.txt", "--yes")
	require.Equal(t, "taller", w.read("Mods/cranes.txt"))
	require.NoFileExists(t, w.path("extra/map.txt"))
	w.ok("snapshot", "mine")
	require.NoError(t, os.Remove(w.path("Mods/cranes.txt")))
	w.ok("carry", "mine", "Mods/**", "--yes")
	require.Equal(t, "taller", w.read("Mods/cranes.txt"))
	w.fails(1, "nothing there is yours and matches", "carry", "mine", "Harbours/**")
	w.fails(1, `lane "nowhere"`, "carry", "lane/nowhere")
	w.ok("lane", "new", "like", "--from", "1.1.1", "--like", "main", "--yes")
	require.FileExists(t, filepath.Join(w.parked("like"), "Mods", "cranes.txt"))
}
