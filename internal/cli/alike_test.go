package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestHelpIsAlikeEverywhere: placeholders in capitals, and no options of the command around.
func TestHelpIsAlikeEverywhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	untold := regexp.MustCompile(`(?m)^ +--[a-z-]+ (string|int|duration|value|float)\b`)
	for _, command := range w.leaves("") {
		help := w.ok(append(strings.Fields(command), "--help")...).out
		require.Empty(t, untold.FindString(help), command)
		_, global, _ := strings.Cut(help, "GLOBAL OPTIONS:")
		for _, own := range []string{"--on DATE", "--explain", "--plot", "--show"} {
			require.NotContains(t, global, own, command)
		}
	}
	require.Contains(t, w.ok("builds", "--help").out, "--on DATE")
	w.fails(2, `there is no command "statsu"; the nearest: status`, "statsu")
	w.fails(2, `there is no command "lst"; the nearest: list`, "lane", "lst")
}

// TestWhateverAsksCanBeTriedDry: nothing is changed, and nobody has to answer.
func TestWhateverAsksCanBeTriedDry(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok(w.setting()...)
	w.ok("game", "set", "--saves", filepath.Join(w.dir, "Saves"))
	require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "Saves"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "Saves", "1.sav"), []byte("x"), 0o644))
	w.ok("saves", "backup")
	w.ok("snapshot", "spare")
	w.ok("pin", "snapshot/1.1.1", "--yes")
	w.ok("lane", "new", "old", "--from", "snapshot/1.1.1", "--yes")
	w.ok("export", "spare", filepath.Join(w.dir, "spare.zip"))
	require.NoError(t, os.WriteFile(filepath.Join(w.live+" [old]", "mine.txt"), []byte("x"), 0o644))
	w.write("readme.txt", "changed")
	before, builds := w.picture(), len(w.json(0, "builds")["builds"].([]any))
	for _, args := range [][]string{
		{"builds", "forget", "spare"}, {"history", "forget", "2999-01-01"}, {"feed", "remove", "quay-archive"}, {"lane", "remove", "old", "--delete"},
		{"saves", "forget", "1"}, {"saves", "restore", "1"}, {"saves", "stash"}, {"store", "trim"}, {"unblock"}, {"let-update"}, {"pin", "public/1.3.0"}, {"unpin", "--whole"}, {"undo", "--whole"},
		{"verify", "--repair"}, {"carry", "lane/old"}, {"lane", "new", "x", "--from", "spare"}, {"import", filepath.Join(w.dir, "spare.zip"), "again"},
	} {
		r := w.run(append(args, "--dry-run")...)
		require.Contains(t, []int{0, 3}, r.code, "%v\n%s", args, r.err)
		require.Contains(t, strings.ToLower(r.out), "dry run", "%v", args)
		r = w.run(append([]string{"--json"}, append(args, "--dry-run")...)...)
		require.True(t, json.Valid([]byte(r.out)), "%v\n%s", args, r.out)
	}
	require.Equal(t, 3, w.run("launch", "--dry-run").code)
	require.Equal(t, before, w.picture())
	require.Len(t, w.json(0, "builds")["builds"], builds)
	require.FileExists(t, filepath.Join(w.dir, "Saves", "1.sav"))
	require.Contains(t, w.run("status").out, "blocked")
	require.Len(t, w.json(0, "lane", "list")["lanes"], 2)
	w.ok("unblock")
	require.Contains(t, w.ok("game", "forget", "--dry-run").out, "It would ask: Forget quay?")
	w.run("status")
}

// TestWhateverPrintsPrintsJSON: one document, whatever the command.
func TestWhateverPrintsPrintsJSON(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok(w.setting()...)
	w.ok("pin", "snapshot/1.1.1", "--yes")
	for _, args := range [][]string{
		{"block", "--explain"}, {"block", "--show"}, {"launch", "--check-only"}, {"watch", "--install"}, {"game", "show"}, {"games"}, {"builds"}, {"history"}, {"identify"},
		{"status"}, {"verify"}, {"diff", "snapshot/1.1.1"}, {"lane", "list"}, {"saves", "list"}, {"feed", "list"}, {"store", "show"}, {"block", "presets"},
	} {
		r := w.run(append([]string{"--json"}, args...)...)
		require.Zero(t, r.code, "%v\n%s", args, r.err)
		require.True(t, json.Valid([]byte(r.out)), "%v\n%s", args, r.out)
	}
}

// TestGameShowSaysAllThatIsSet: in words and as a document.
func TestGameShowSaysAllThatIsSet(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("game", "set", "--title", "Cinder Quay", "--program", "bin/quay.exe", "--after-pin", "echo a, b", "--convert-saves", "convert it", "--launcher", "launcher.exe",
		"--saves-per-lane", "--version-rule", `logs/last.txt=Quay (\S+)`, "--waiting-rule", `w.txt=(\S+)`, "--updating-rule", `u.txt=(\S+)`, "--scratch", "logs/**", "--keep", "Mods/**")
	w.ok("pin", "1.1.1", "--yes")
	text, doc := w.ok("game", "show").out, w.json(0, "game", "show")
	for _, want := range []string{"echo a, b", "convert it", "launcher.exe", "each lane has its own", `find=Quay (\S+)`, "w.txt", "u.txt", "kind=setting", "held at 1.1.1"} {
		require.Contains(t, text, want)
	}
	for _, key := range []string{"title", "program", "after_pin", "convert_saves", "launcher", "saves_per_lane", "version", "waiting", "updating", "block", "scratch", "keep", "held", "build"} {
		require.NotEmpty(t, doc[key], key)
	}
	require.Equal(t, "1.1.1", doc["build"].(map[string]any)["label"])
}

// TestExitCodesMeanWhatTheGuideSays: what was typed wrong is wrong usage.
func TestExitCodesMeanWhatTheGuideSays(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	for _, args := range [][]string{
		{"add", "No Good", w.live}, {"snapshot", "a  b"}, {"pin", "@yesterday"}, {"pin", "=12"}, {"builds", "--on", "soon"}, {"game", "set", "--keep", "Mods/["},
		{"game", "set", "--scratch", "/logs"}, {"lane", "new", "Old  Build", "--from", "1.1.1"}, {"pin", "1.1.1", "--overlay", "1.1.1:Mods/["}, {"history", "forget", "soon"},
		{"undo", "first"}, {"diff", "@x"}, {"verify", "@x"}, {"pin", "1.1.1", "--keep", "Mods/["}, {"carry", "lane/x", "a/["}, {"fetch", "1.1.1", "--limit", "fast"},
		{"lane", "rename", "main", "No/Good"}, {"publish", w.dir, "1.1.1", "--feed", "No Good"},
	} {
		r := w.run(args...)
		require.Equal(t, 2, r.code, "%v\n%s", args, r.err)
		require.NotRegexp(t, `(this name cannot be used|this pattern cannot be used).*(this name cannot be used|this pattern cannot be used)`, r.err, "said once")
		require.NotContains(t, r.err, "..", "%v", args)
	}
	w.write("readme.txt", "changed")
	w.ok("pin", "snapshot/1.1.1", "--yes")
	for _, args := range [][]string{{"game", "forget"}, {"builds", "forget", "snapshot/1.1.1", "--yes"}, {"unpin"}, {"undo"}} {
		require.Equal(t, 4, w.run(args...).code, "%v", args)
	}
}
