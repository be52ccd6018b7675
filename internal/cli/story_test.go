package cli_test

import (
	"fmt"
	"hash/maphash"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
)

var seed = maphash.MakeSeed()

func digestOf(b []byte) uint64 { return maphash.Bytes(seed, b) }

var quay = standin.Quay{Bytes: 1 << 20}

// install puts a build of Cinder Quay and the player's files into the live folder
// and registers it.
func (w *world) install(label string) {
	w.t.Helper()
	require.NoError(w.t, quay.Write(w.live, label))
	require.NoError(w.t, quay.AddPlayerFiles(w.live))
	w.ok("add", "cinder-quay", w.live, "--title", "Cinder Quay", "--program", "bin/quay.exe",
		"--keep", "Mods/**", "--keep", "Harbours/**", "--keep", "settings.ini", "--scratch", "logs/**")
}

// update makes the live folder hold another build, as the game's updater would.
func (w *world) update(label string) {
	w.t.Helper()
	require.NoError(w.t, quay.Write(w.live, label))
}

func TestAnUpdateIsSeenPinnedBackAndTakenBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1", "--note", "everything works")
	recorded := w.picture()
	require.Contains(t, w.ok("pin", "1.1.1", "--yes").out, "changes no file")
	require.Contains(t, w.ok("status").out, "Every file is as it should be")

	w.update("1.3.0")
	updated := w.picture()
	status := w.json(3, "status")
	require.Equal(t, "morvant-status/1", status["schema"])
	require.Equal(t, true, status["drifted"])
	require.NotEmpty(t, status["drift"].(map[string]any)["altered"])
	diff := w.json(0, "diff", "1.1.1")["build"].(map[string]any)
	require.Len(t, diff["moved"], 4, "the music moves with its content")
	require.Contains(t, w.ok("diff", "1.1.1", "--text", "readme.txt").out, "-CINDER QUAY 1.1.1\n+CINDER QUAY 1.3.0")

	w.write("Mods/quiet-gulls/mod.txt", "my own change\n")
	mine := w.picture()["Mods/quiet-gulls/mod.txt"]
	updated["Mods/quiet-gulls/mod.txt"] = mine
	pinned := w.json(0, "pin", "1.1.1", "--clean", "--yes")
	require.Equal(t, float64(4), pinned["totals"].(map[string]any)["moved"])
	now := w.picture()
	require.Equal(t, mine, now["Mods/quiet-gulls/mod.txt"], "a kept file is left as the player made it")
	now["Mods/quiet-gulls/mod.txt"] = recorded["Mods/quiet-gulls/mod.txt"]
	require.Equal(t, recorded, withoutTimeOf(now, recorded, "Mods/quiet-gulls"))
	require.Contains(t, w.ok("verify").out, "every byte of it")

	w.ok("undo", "--yes")
	require.Equal(t, updated, withoutTimeOf(w.picture(), updated, "Mods/quiet-gulls"))
	require.Equal(t, 3, w.run("status").code, "the lane is held again as before the change")

	w.ok("undo", "3", "--yes")
	require.Equal(t, 0, w.run("verify").code)
	history := w.json(0, "history")["changes"].([]any)
	require.Len(t, history, 4)
}

// withoutTimeOf copies the entry of a folder that the player touched from want.
func withoutTimeOf(have, want map[string]string, dir string) map[string]string {
	out := maps.Clone(have)
	out[dir] = want[dir]
	return out
}

func TestExactBringsBackThePlayersFilesToo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.age()
	w.ok("snapshot", "works")
	recorded := w.picture()
	w.update("1.2.0")
	w.write("settings.ini", "[display]\nwidth = 640\n")
	w.write("Mods/new/mod.txt", "new")
	require.NoError(t, os.Remove(w.path("Harbours/saint-elmo.map")))
	broken := w.picture()

	w.ok("pin", "works", "--exact", "--yes")
	require.Equal(t, recorded, w.picture())
	w.ok("undo", "--yes")
	require.Equal(t, broken, w.picture())

	// Once: what the player does to their own files afterwards is theirs.
	w.ok("pin", "works", "--exact", "--yes")
	w.write("Mods/new/mod.txt", "new")
	w.write("settings.ini", "[display]\nwidth = 800\n")
	require.Contains(t, w.ok("status").out, "Every file is as it should be")
	w.ok("watch", "--once", "--repair")
	w.write("data/harbour.pak", "spoilt")
	w.ok("watch", "--once", "--repair")
	w.ok("verify", "--repair", "--yes")
	require.Equal(t, "new", w.read("Mods/new/mod.txt"))
	require.Equal(t, "[display]\nwidth = 800\n", w.read("settings.ini"))
}

func TestAFolderThatWasMovedOrLostItsMarkerGoesOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "1")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	require.NoError(t, os.RemoveAll(w.path(".morvant")))
	w.write("a.txt", "2")
	w.ok("pin", "1", "--yes")
	require.Equal(t, "1", w.read("a.txt"))
	require.Contains(t, w.read(".morvant/lane.toml"), `build = '1'`)

	moved := filepath.Join(w.dir, "Elsewhere")
	require.NoError(t, os.Mkdir(moved, 0o755))
	w.ok("game", "set", "--live", moved)
	w.live = moved
	w.ok("pin", "1", "--yes")
	require.Equal(t, "1", w.read("a.txt"))
}

func TestExtraFilesStayUnlessCleanIsAsked(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "a")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.write("extra.txt", "not of the build")
	w.write("deep/er/extra.txt", "neither")
	r := w.ok("pin", "1", "--yes")
	require.Contains(t, r.out, "2 files not of this build")
	require.Equal(t, "not of the build", w.read("extra.txt"))
	require.Equal(t, 0, w.run("status").code, "extra files are no drift of a pin that leaves them")

	w.ok("pin", "1", "--clean", "--yes")
	require.NoFileExists(t, w.path("extra.txt"))
	require.NoDirExists(t, w.path("deep"))
	w.ok("undo", "--yes")
	require.Equal(t, "neither", w.read("deep/er/extra.txt"))
}

func TestFilesOfTheBuildHeldBeforeLeaveWithIt(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "a")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.write("only-in-2.txt", "two")
	w.ok("snapshot", "2")
	w.ok("pin", "2", "--yes")
	w.write("mine.txt", "mine")
	w.ok("pin", "1", "--yes")
	require.NoFileExists(t, w.path("only-in-2.txt"))
	require.FileExists(t, w.path("mine.txt"))
}

func TestUnpinBringsBackTheFolderFromBeforeTheHold(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.0")
	w.ok("snapshot", "1.1.0")
	w.update("1.1.1")
	w.ok("snapshot", "1.1.1")
	w.update("1.3.0")
	before := w.picture()
	w.ok("pin", "1.1.1", "--yes")
	w.ok("pin", "1.1.0", "--clean", "--yes")
	w.write("data/harbour.pak", "damaged by hand")
	w.ok("verify", "--repair", "--yes")
	w.ok("unpin", "--yes")
	require.Equal(t, before, w.picture())
	w.fails(1, "not held", "unpin", "--yes")

	w.ok("pin", "1.1.1", "--yes")
	held := w.picture()
	w.ok("unpin", "--stay", "--yes")
	require.Equal(t, held, w.picture())
	w.ok("undo", "--yes")
	require.Contains(t, w.ok("status").out, "held at 1.1.1")
	w.ok("unpin", "--to", "1.1.0", "--yes")
	require.Equal(t, false, w.json(0, "status")["held"])
	require.Equal(t, "1.1.0", strings.TrimSpace(strings.TrimPrefix(w.read("version.txt"), "Cinder Quay")))
}

func TestVerifyReadsWhatTheClockHides(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.age()
	w.ok("snapshot", "1.1.1")
	w.ok("pin", "1.1.1", "--yes")
	info, err := os.Stat(w.path("data/cargo.pak"))
	require.NoError(t, err)
	f, err := os.OpenFile(w.path("data/cargo.pak"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("rotten"), 1000)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, os.Chtimes(w.path("data/cargo.pak"), info.ModTime(), info.ModTime()))

	r := w.run("verify")
	require.Equal(t, 3, r.code)
	require.Contains(t, r.out, "data/cargo.pak")
	r = w.ok("verify", "--repair", "--yes")
	require.Contains(t, r.out, "is 1.1.1 again")
	w.ok("verify")
}

func TestNothingChangesWithoutAnAnswer(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	w.update("1.3.0")
	before := w.picture()
	w.fails(4, "needs a yes", "pin", "1.1.1")
	require.Contains(t, w.ok("pin", "1.1.1", "--dry-run").out, "dry run")
	require.Equal(t, false, w.json(0, "pin", "1.1.1", "--dry-run")["done"])
	require.Equal(t, before, w.picture())
	require.Equal(t, "Morvant has not changed anything in the folder of Cinder Quay yet.\n", w.ok("history").out)
}

func TestBuildsAreFoundByEveryName(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "1")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0.0", "--note", "first mods")
	w.write("a.txt", "22")
	w.ok("snapshot", "1.1.0")
	list := w.json(0, "builds")["builds"].([]any)
	require.Len(t, list, 2)
	newest := list[0].(map[string]any)
	require.Equal(t, "1.1.0", newest["label"])
	for _, ref := range []string{"1.0.0", "before", "=" + list[1].(map[string]any)["digest"].(string)[:8]} {
		require.Contains(t, w.ok("diff", ref, "newest").out, "from 1.0.0 to 1.1.0", ref)
	}
	today := time.Now().Format(time.DateOnly)
	r := w.ok("diff", "@"+today, "1.0.0")
	require.Contains(t, r.err, "is 1.1.0 of")
	require.Contains(t, r.err, "Also of that day: 1.0.0")
	require.Len(t, w.json(0, "builds", "--find", "MODS")["builds"], 1)
	w.fails(1, "nearest: 1.1.0", "pin", "1.1.2", "--yes")
	w.fails(2, "at least 6 characters", "pin", "=12", "--yes")
	w.fails(2, "is not a date", "pin", "@yesterday", "--yes")
	w.fails(1, `no build is as old as @1999-01-01`, "pin", "@1999-01-01", "--yes")
	require.Equal(t, 3, w.run("--quiet", "diff", "1.0.0", "1.1.0").code)
	require.Equal(t, 0, w.run("--quiet", "diff", "1.1.0", "here").code)
}

func TestSettingsKeepTheirComments(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "1")
	w.ok("add", "quay", w.live, "--keep", "Mods/**")
	file := filepath.Join(w.home, "games", "quay.toml")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	text := strings.Replace(string(b), "keep =", "# my mods live here\nkeep =", 1) + "\n# the end\n"
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	r := w.ok("game", "set", "--keep", "Maps/**", "--scratch", "logs/**", "--title", "The Quay")
	require.Contains(t, r.out, "Mods/**  Maps/**")
	b, err = os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(b), "# my mods live here\nkeep = [")
	require.Contains(t, string(b), "# the end\n")
	w.ok("game", "set", "--no-keep", "Mods/**")
	require.Equal(t, []any{"Maps/**"}, w.json(0, "game", "show")["keep"])
	require.Contains(t, w.ok("games").out, "The Quay")
}

func TestForgettingAGameTouchesNoFileOfIt(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.0.0")
	w.ok("snapshot", "1.0.0")
	before := w.picture()
	w.fails(4, "needs a yes", "game", "forget")
	w.ok("game", "forget", "--yes")
	require.Equal(t, before, w.picture())
	require.Contains(t, w.ok("games").out, "No game is registered")
	freed := w.json(0, "store", "trim", "--yes")
	require.Positive(t, freed["freed_bytes"])
	require.Less(t, folderSize(t, filepath.Join(w.home, "store", "packs")), int64(10_000))
}

func folderSize(t *testing.T, dir string) (n int64) {
	t.Helper()
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range list {
		info, err := e.Info()
		require.NoError(t, err)
		n += info.Size()
	}
	return n
}

func TestTrimKeepsWhatBuildsAndUndoNeed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.0.0")
	w.ok("snapshot", "1.0.0")
	w.update("1.2.0")
	w.ok("snapshot", "1.2.0")
	w.update("1.3.0")
	updated := w.picture()
	w.ok("pin", "1.2.0", "--yes") // 1.3.0 is now in the store for undo's sake only
	w.ok("builds", "forget", "1.0.0", "--yes")
	w.fails(4, "held at", "builds", "forget", "1.2.0", "--yes")
	require.Contains(t, w.ok("store", "trim", "--dry-run").out, "dry run")
	w.ok("store", "trim", "--yes")
	w.ok("store", "check")
	w.ok("verify")
	w.ok("undo", "--yes")
	require.Equal(t, updated, w.picture())
	w.ok("history", "forget", "2999-01-01", "--yes")
	w.fails(1, "nothing to undo", "undo", "--yes")
}

func TestTheDemoTellsItsStory(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	dir := filepath.Join(w.dir, "demo")
	// There was a demo in this folder before, and it has been removed as it says.
	for _, home := range []string{filepath.Join(dir, "home"), filepath.Join(dir, "friend", "home")} {
		w.ok("--home", home, "add", "quay", w.live)
	}
	require.NoError(t, os.RemoveAll(dir))
	w.fails(4, "is missing. Is its disk attached?", "--home", filepath.Join(dir, "home"), "add", "quay", w.live)
	r := w.ok("demo", "--dir", dir, "--size", "2MB")
	for _, words := range []string{"$ morvant snapshot 1.1.1", "files differ.", "every byte of it", "is taken back", "Now you."} {
		require.Contains(t, r.out, words)
	}
	w.fails(2, "is not empty", "demo", "--dir", dir)
}

func TestHelpNamesEveryCommandWithAnExample(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	r := w.ok("--help")
	for _, name := range []string{"add", "games", "game", "snapshot", "builds", "diff", "status", "verify", "pin", "unpin", "undo", "history", "store", "demo"} {
		require.Contains(t, r.out, "\n     "+name, name)
		if name != "game" && name != "store" {
			require.Contains(t, w.ok(name, "--help").out, "Example: morvant "+name, name)
		}
	}
	require.Regexp(t, `^morvant version \S+`, w.ok("--version").out)
	w.fails(2, `no command "pni"`, "pni")
	w.fails(2, "one argument too many", "status", "now")
	w.fails(2, "needs BUILD", "pin")
	w.fails(2, "see morvant pin --help", "pin", "--sideways")
}

func TestEveryCommandSpeaksJSON(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "1\n")
	for _, c := range []struct {
		schema string
		code   int
		args   []string
	}{
		{"morvant-game/1", 0, []string{"add", "quay", w.live}},
		{"morvant-games/1", 0, []string{"games"}},
		{"morvant-game/1", 0, []string{"game", "show"}},
		{"morvant-game/1", 0, []string{"game", "set", "--title", "Quay"}},
		{"morvant-snapshot/1", 0, []string{"snapshot", "1"}},
		{"morvant-snapshot/1", 0, []string{"snapshot", "2"}},
		{"morvant-builds/1", 0, []string{"builds"}},
		{"morvant-diff/1", 0, []string{"diff", "1"}},
		{"morvant-text-diff/1", 0, []string{"diff", "1", "--text", "a.txt"}},
		{"morvant-change/1", 0, []string{"pin", "1", "--yes"}},
		{"morvant-status/1", 0, []string{"status"}},
		{"morvant-verify/1", 0, []string{"verify"}},
		{"morvant-change/1", 0, []string{"unpin", "--stay", "--yes"}},
		{"morvant-change/1", 0, []string{"undo", "--yes"}},
		{"morvant-history/1", 0, []string{"history"}},
		{"morvant-store/1", 0, []string{"store", "show"}},
		{"morvant-check/1", 0, []string{"store", "check"}},
		{"morvant-forgotten/1", 0, []string{"builds", "forget", "2", "--yes"}},
		{"morvant-forgotten/1", 0, []string{"history", "forget", "1999-01-01", "--yes"}},
		{"morvant-trim/1", 0, []string{"store", "trim", "--yes"}},
		{"morvant-forgotten/1", 0, []string{"game", "forget", "--yes"}},
	} {
		r := w.run(append([]string{"--json"}, c.args...)...)
		require.Equal(t, c.code, r.code, "%v: %s", c.args, r.err)
		require.True(t, strings.HasPrefix(r.out, "{\n  \"schema\": \""+c.schema+"\""), "%v: %s", c.args, r.out)
	}
}

func TestColourIsUsedWhereItIsWanted(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "1")
	w.ok("add", "quay", w.live)
	require.NotContains(t, w.ok("status").out, "\x1b[", "not a terminal")
	require.Contains(t, w.ok("--color", "always", "status").out, "\x1b[")
	require.NotContains(t, w.ok("--color", "never", "status").out, "\x1b[")
	cmd := w.command("status", "--color=always")
	cmd.Env = append(cmd.Env, "NO_COLOR=")
	require.Contains(t, w.finish(cmd).out, "\x1b[", "global options may come last")
}

func TestOnlyOneWorksOnAGameAtATime(t *testing.T) {
	t.Parallel()
	flock, err := exec.LookPath("flock")
	if err != nil {
		t.Skip("flock(1) is not installed")
	}
	w := newWorld(t)
	w.write("a.txt", "1")
	w.ok("add", "quay", w.live)
	hold := w.command()
	hold.Path, hold.Args = flock, []string{"flock", filepath.Join(w.home, "locks", "quay"), "sh", "-c", "echo held; cat"}
	in, err := hold.StdinPipe()
	require.NoError(t, err)
	out, err := hold.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, hold.Start())
	_, err = fmt.Fscanln(out, new(string))
	require.NoError(t, err)
	w.fails(1, "another Morvant is working on this game", "snapshot", "1")
	require.NoError(t, in.Close())
	require.NoError(t, hold.Wait())
	w.ok("status")
}
