package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// launched is a player's computer with the stand-in launcher.
type launched struct {
	*world
	state string
	feed  string // that the launcher updates from
}

// newLaunched has the launcher install a build, which is then recorded and held.
func newLaunched(t *testing.T) *launched {
	t.Helper()
	published, err := smallFeed()
	require.NoError(t, err)
	w := &launched{world: newWorld(t), feed: published}
	w.state = filepath.Join(w.dir, "launcher", "state.cfg")
	require.NoError(t, os.MkdirAll(filepath.Dir(w.state), 0o755))
	w.launcher(0, "install", w.live, "1.1.1", "--from", w.feed)
	w.ok("add", "quay", w.live, "--scratch", "logs/**")
	w.ok("snapshot", "1.1.1")
	return w
}

func (w *launched) launcher(code int, action string, args ...string) result {
	w.t.Helper()
	r := w.run(append([]string{"demo", "launcher", action, w.state}, append(args, "--size", "2MB")...)...)
	require.Equal(w.t, code, r.code, "launcher %s: %s%s", action, r.out, r.err)
	return r
}

func (w *launched) setting() []string {
	return []string{"block", "add", "key-value-setting", "file=" + w.state, "key=updates", "value=by-hand"}
}

func (w *launched) stateText() string {
	w.t.Helper()
	b, err := os.ReadFile(w.state)
	require.NoError(w.t, err)
	return string(b)
}

func TestALauncherUpdatesAGameThatIsNotBlocked(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	w.launcher(0, "offer", "1.3.0")
	w.launcher(1, "idle", "--stop-after", "5")
	half := w.run("status")
	require.Equal(t, 3, half.code)
	require.NotContains(t, half.out, "looks like an update", "1.3.0 is not known yet")
	w.ok("feed", "add", w.feed)
	require.Regexp(t, `looks like an update to 1\.3\.0 \(public\), half done \(\d+ of \d+ files\)`, w.run("status").out)
	r := w.run("demo", "game", ".", "--size", "2MB")
	require.Contains(t, r.err, "its files are of different builds")
	w.launcher(0, "idle")
	require.Contains(t, w.launcher(0, "start").out, "Cinder Quay 1.3.0")
	require.Contains(t, w.run("verify").out, "looks like an update to 1.3.0 (public), all of it")
	require.NoError(t, os.Remove(w.path("data/cargo.pak")))
	update := w.json(3, "status")["drift"].(map[string]any)["update"].(map[string]any)
	require.Equal(t, "1.3.0", update["build"])
	require.Less(t, update["done"], update["of"])
	w.ok("verify", "--repair", "--yes")
	require.Contains(t, w.run("demo", "game", ".", "--size", "2MB").err, "bin/standalone.txt is missing")
	w.write("version.txt", "Cinder Quay 1.1.1, mine\n")
	require.NotContains(t, w.run("status").out, "looks like an update", "a player's own change is none")
	w.ok("verify", "--repair", "--yes")
	w.write("bin/standalone.txt", "240117\n")
	require.Contains(t, w.ok("demo", "game", ".", "--size", "2MB").out, "1.1.1")
}

// TestEachRuleKeepsAnUpdateAway lets the launcher try against each rule alone.
func TestEachRuleKeepsAnUpdateAway(t *testing.T) {
	t.Parallel()
	for name, rule := range map[string]func(w *launched) []string{
		"setting": (*launched).setting,
		"occupy": func(w *launched) []string {
			return []string{"block", "add", "staging-folder", "path=" + w.state + ".staging"}
		},
		"read-only": func(*launched) []string { return []string{"block", "add", "read-only-files"} },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newLaunched(t)
			w.ok(rule(w)...)
			before, state := w.picture(), w.stateText()
			w.ok("pin", "1.1.1", "--yes")
			require.Contains(t, w.ok("status").out, "blocked (1 rule)")
			w.launcher(0, "offer", "1.3.0")
			if name == "setting" {
				w.launcher(0, "idle")
				require.Contains(t, w.launcher(0, "start").out, "1.1.1")
			} else {
				w.launcher(1, "idle")
				w.launcher(1, "start")
			}
			require.Contains(t, w.ok("status").out, "Every file is as it should be")
			w.ok("verify")
			require.Empty(t, w.json(0, "status")["drift"].(map[string]any)["unread"], "taking rights away is no reason to read again")

			w.ok("unpin", "--stay")
			require.NoError(t, os.RemoveAll(w.path("logs"))) // the game's own
			require.Equal(t, before, w.picture(), "modes and all")
			require.NoFileExists(t, w.state+".staging")
			require.Equal(t, strings.Replace(strings.Replace(state, "pending = \n", "pending = 1.3.0\n", 1), "half-done = no", halfDone(w.stateText()), 1), w.stateText())
			w.launcher(0, "idle")
			require.Contains(t, w.run("demo", "game", ".", "--size", "2MB").err, "standalone.txt", "it is whole, and new")
			require.Equal(t, "Cinder Quay 1.3.0\n", w.read("version.txt"))
		})
	}
}

// TestWhatHasOtherNamesIsNotTouchedUnderThem: a file of the game that is a hard link belongs
// to whoever has its other name as well.
func TestWhatHasOtherNamesIsNotTouchedUnderThem(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	shelf := filepath.Join(w.dir, "shelf") // of a mod tool
	require.NoError(t, os.Mkdir(shelf, 0o755))
	when := time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)
	for _, p := range []string{"readme.txt", "data/harbour.pak"} {
		// The same content with another time, deployed over the file.
		other := filepath.Join(shelf, filepath.Base(p))
		require.NoError(t, os.WriteFile(other, []byte(w.read(p)), 0o600))
		require.NoError(t, os.Chtimes(other, when, when))
		require.NoError(t, os.Remove(w.path(p)))
		if err := os.Link(other, w.path(p)); err != nil {
			t.Skip("files cannot have two names here")
		}
	}
	theirs := picture(t, shelf)
	linked := func(p string) bool {
		a, err := os.Stat(w.path(p))
		require.NoError(t, err)
		b, err := os.Stat(filepath.Join(shelf, filepath.Base(p)))
		require.NoError(t, err)
		return os.SameFile(a, b)
	}

	w.ok("block", "add", "read-only-files")
	shown := w.ok("block").out
	require.Contains(t, strings.Join(strings.Fields(shown), " "), "2 files have other names elsewhere (hard links) and are left alone")
	require.EqualValues(t, 2, w.json(0, "block", "--show")["rules"].([]any)[0].(map[string]any)["left_alone"])
	require.Equal(t, theirs, picture(t, shelf))
	require.Contains(t, w.ok("status").out, "blocked (1 rule)")
	w.ok("unblock")
	require.Equal(t, theirs, picture(t, shelf))
	require.True(t, linked("readme.txt"))

	// Linked since: what is set again leaves it alone.
	w.ok("block")
	extra := filepath.Join(shelf, "version.txt")
	require.NoError(t, os.WriteFile(extra, []byte(w.read("version.txt")), 0o600))
	require.NoError(t, os.Remove(w.path("version.txt")))
	require.NoError(t, os.Link(extra, w.path("version.txt")))
	theirs = picture(t, shelf)
	w.ok("block")
	require.Equal(t, theirs, picture(t, shelf))
	w.ok("unblock")
	require.Equal(t, theirs, picture(t, shelf))

	// A pin sets their times and modes on copies.
	before := w.picture()
	w.ok("pin", "1.1.1", "--yes", "--no-block")
	require.Equal(t, theirs, picture(t, shelf))
	require.NotEqual(t, before, w.picture())
	require.False(t, linked("data/harbour.pak"))
	w.ok("verify")
	w.ok("undo", "--yes")
	w.ok("unblock")
	require.Equal(t, theirs, picture(t, shelf))
	require.Equal(t, before, w.picture())
}

// halfDone returns the line that the launcher itself has written meanwhile.
func halfDone(state string) string {
	for line := range strings.Lines(state) {
		if strings.HasPrefix(line, "half-done") {
			return strings.TrimSuffix(line, "\n")
		}
	}
	return ""
}

func TestABlockFollowsThePin(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("block", "add", "read-only-files")
	w.ok("block", "add", "read-only-files") // once is enough
	w.ok("pin", "1.1.1", "--yes", "--no-block")
	require.NotContains(t, w.ok("status").out, "blocked")
	w.ok("block")
	require.Contains(t, w.ok("status").out, "blocked (2 rules)")
	require.NotContains(t, w.ok("block", "--show").out, "does not hold")

	// Another build: its files are read-only now, and a dry run plans no changes of modes.
	w.ok("demo", "write", filepath.Join(w.dir, "other"), "1.2.0", "--size", "2MB")
	w.write("extra.txt", "so that the snapshot differs")
	w.ok("snapshot", "other")
	w.ok("pin", "1.1.1", "--yes")
	dry := w.json(0, "pin", "1.1.1", "--dry-run")
	require.Empty(t, dry["steps"])
	require.NoError(t, os.Chmod(w.path("readme.txt"), 0o644))
	w.write("readme.txt", "spoilt")
	require.Equal(t, 3, w.run("status").code)
	require.Contains(t, w.run("status").out, "1 of 2 block rules broken")
	w.ok("verify", "--repair", "--yes")
	require.Contains(t, w.ok("status").out, "blocked (2 rules)", "a repair puts the block back")
	info, err := os.Stat(w.path("readme.txt"))
	require.NoError(t, err)
	require.Zero(t, info.Mode().Perm()&0o222)
	w.ok("undo", "--yes")
	require.Contains(t, w.run("block", "--show").out, "holds")
	require.Equal(t, "spoilt", w.read("readme.txt"))
}

func TestWhatSomebodyChangedSinceIsNotPutBack(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("pin", "1.1.1", "--yes")
	require.NoError(t, os.WriteFile(w.state, []byte(strings.Replace(w.stateText(), "by-hand", "before-start", 1)), 0o644))
	require.Contains(t, w.ok("status").out, "1 of 1 block rule broken", "a launcher that rewrites its setting is noticed")
	require.Contains(t, w.ok("block", "--show").out, `says "before-start" again`)
	w.fails(4, "somebody has changed it since", "unblock")
	require.Contains(t, w.stateText(), "before-start", "it asks first")
	w.ok("unblock", "--force")
	require.Contains(t, w.stateText(), "at-once")
}

func TestBlockRulesInTheSettings(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.fails(1, "the game has no block rules", "block")
	w.fails(2, "needs file, key, value", "block", "add", "key-value-setting")
	w.fails(2, "there is no preset", "block", "add", "magic")
	require.Contains(t, w.ok("block", "presets").out, "json-setting")
	settings := filepath.Join(w.home, "games", "quay.toml")
	text, err := os.ReadFile(settings)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(settings, append([]byte("# mine\n"), text...), 0o644))
	w.ok(w.setting()...)
	text, err = os.ReadFile(settings)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(string(text), "# mine\n"))
	require.Contains(t, w.ok("block", "--explain").out, "An updater with administrator's rights can write anything")
	require.NoError(t, os.WriteFile(w.state, []byte("updates = a\nUpdates = b\n"), 0o644))
	w.fails(1, `the key is there twice: "a" in line 1, "b" in line 2`, "block")
	r := w.run("pin", "1.1.1", "--yes")
	require.Equal(t, 3, r.code, "updates may come")
	require.Contains(t, r.err, "the block is incomplete", "the pin stands all the same")
	check := w.run("launch", "--check-only")
	require.Equal(t, 3, check.code)
	require.Contains(t, check.err, "the key is there twice")
	require.NoError(t, os.WriteFile(settings, append(text, []byte("\n[[block]]\nkind = \"occupy\"\n")...), 0o644))
	w.fails(1, "it may have path, and nothing else", "status")

	own := filepath.Join(w.home, "presets")
	require.NoError(t, os.MkdirAll(own, 0o755))
	require.NoError(t, os.WriteFile(settings, text, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(own, "mine.toml"), []byte("about = \"my own\"\n[[block]]\nkind = \"read-only\"\n"), 0o644))
	require.Contains(t, w.ok("block", "presets").out, "my own")
	w.ok("block", "add", "mine")
}

func TestAnUpdateIsTakenOnPurpose(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("feed", "add", w.feed)
	w.ok("pin", "snapshot/1.1.1", "--yes", "--companion", "bin/standalone.txt=240117\\n")
	blocked := w.stateText()
	update := []string{"let-update", "--calm", "300ms", "--after", program + " demo launcher idle " + w.state + " --size 2MB"}

	w.fails(1, "no update has come", update...)
	require.Equal(t, blocked, w.stateText(), "the block is set again")
	w.launcher(0, "offer", "1.3.0")
	half := w.run(append(update, "--stop-after", "4")...)
	require.Equal(t, 2, half.code, "the option is the launcher's, not ours")
	half = w.run("let-update", "--calm", "300ms", "--after", update[4]+" --stop-after 12 || cd .")
	require.Equal(t, 1, half.code)
	require.Contains(t, half.err, "the update is incomplete")
	require.Contains(t, half.err, "morvant verify --repair goes back")
	w.write("mine.txt", "a mod")
	w.ok("verify", "--repair", "--yes")
	require.NoFileExists(t, w.path("data/audio/music/shanty-1.ogv"), "what the update has added goes with it")
	require.FileExists(t, w.path("mine.txt"))
	require.NoError(t, os.Remove(w.path("mine.txt")))
	require.Contains(t, w.stateText(), "updates = by-hand")

	r := w.ok(append(update, "--then", "back")...)
	require.Contains(t, r.out, "recorded as snapshot/1.3.0")
	require.Equal(t, "Cinder Quay 1.1.1\n", w.read("version.txt"))
	require.Equal(t, "240117\n", w.read("bin/standalone.txt"))
	require.Contains(t, w.ok("status").out, "blocked (1 rule)")

	w.launcher(0, "offer", "1.3.0")
	w.ok(append(update, "--then", "pin")...)
	require.Equal(t, "Cinder Quay 1.3.0\n", w.read("version.txt"))
	status := w.json(0, "status")
	require.Equal(t, "1.3.0", status["build"].(map[string]any)["label"], "a build that comes again is that build")
	require.Contains(t, w.stateText(), "updates = by-hand")
	w.launcher(0, "offer", "1.2.0")
	w.fails(4, "needs a yes", update...)
	require.Contains(t, w.ok("builds").out, "1.2.0", "it is recorded all the same")
}

func TestAnUpdateOfAGameThatIsNotHeldIsTakenBack(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.write("mine.txt", "not recorded yet")
	w.launcher(0, "offer", "1.3.0")
	w.ok("let-update", "--calm", "300ms", "--then", "back", "--after", program+" demo launcher idle "+w.state+" --size 2MB")
	require.Equal(t, "Cinder Quay 1.1.1\n", w.read("version.txt"))
	require.Equal(t, "not recorded yet", w.read("mine.txt"))
}

func TestCompanionsAreOfThePin(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	game := []string{"demo", "game", ".", "--size", "2MB"}
	w.ok("pin", "1.1.1", "--yes")
	w.fails(1, "standalone.txt is missing", game...)
	w.ok("pin", "1.1.1", "--yes", "--companion", "bin/standalone.txt=240117\\n", "--companion", "notes.txt=held")
	w.ok(game...)
	require.Equal(t, "240117\n", w.read("bin/standalone.txt"))
	require.Contains(t, w.ok("status").out, "bin/standalone.txt, notes.txt")
	require.NoError(t, os.Remove(w.path("notes.txt")))
	require.Equal(t, 3, w.run("verify").code)
	w.ok("verify", "--repair", "--yes")
	require.Equal(t, "held", w.read("notes.txt"))
	w.ok("undo", "--yes")
	w.ok("undo", "--yes")
	require.NoFileExists(t, w.path("notes.txt"))
	require.NoFileExists(t, w.path("bin/standalone.txt"))
	w.ok("status")
	for _, bad := range []string{"../out=x", ".morvant/lane.toml=x", "CON=x", "nothing", "logs/a=x"} {
		r := w.run("pin", "1.1.1", "--yes", "--companion", bad)
		require.Contains(t, []int{1, 2}, r.code, "%s: %s", bad, r.err)
	}
	w.fails(1, "named twice", "pin", "1.1.1", "--yes", "--companion", "a=x", "--companion", "a=y")
	w.ok("status")
}

// TestBlockRulesAreRemovedAndTold: what cannot work is said when a rule is added, and a rule can be taken out again.
func TestBlockRulesAreRemovedAndTold(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0")
	state := filepath.Join(w.dir, "state.json")
	found := []byte(`{"auto": true, "other": "x"}`)
	require.NoError(t, os.WriteFile(state, found, 0o644))
	old := time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)
	require.NoError(t, os.Chtimes(state, old, old))
	w.fails(2, "auto", "block", "add", "json-setting", "file="+state, "key=auto", "value=by-hand")
	require.Contains(t, w.ok("block", "add", "json-setting", "file="+state, "key=missing", "value=x").err, "missing is not in "+state+" yet")
	w.ok("block", "remove", "1")
	w.ok("block", "add", "json-setting", "file="+state, "key=auto", "value=false")
	w.ok("block", "add", "json-setting", "file="+state, "key=other", "value=y")
	require.Contains(t, w.ok("pin", "1.0", "--dry-run").out, "keeps updates away: sets auto")
	w.ok("pin", "1.0", "--yes")
	w.fails(1, "block rule", "block", "remove", "9")
	require.Regexp(t, `2 +setting +holds`, w.ok("block", "--show").out)
	w.ok("unblock")
	b, err := os.ReadFile(state)
	require.NoError(t, err)
	require.Equal(t, string(found), string(b))
	info, err := os.Stat(state)
	require.NoError(t, err)
	require.True(t, info.ModTime().Equal(old), "two rules about one file give its time back")
	w.ok("block")
	w.ok("block", "remove", "1")
	b, err = os.ReadFile(state)
	require.NoError(t, err)
	require.Contains(t, string(b), "true")
	require.Contains(t, string(b), "y")
}
