package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
	"morvant/internal/volume"
)

// unrun are the examples that cannot be run here, by how they begin, and why.
var unrun = map[string]string{
	"morvant watch":          "it stays until it is interrupted; watch --once and --install are run",
	"morvant demo":           "tests of its own run it",
	"morvant let-update":     "it waits for a launcher",
	"morvant feed sign-in":   "it asks at a terminal",
	"morvant feed unlock":    "it asks at a terminal",
	"morvant feed distrust":  "it is for feeds by adapter, TestHowFilesWereEstablishedIsSeen runs it",
	"morvant feed add https": "there is no network",
	"morvant feed add ADDR":  "ADDRESS stands for one",
	"morvant feed add --ad":  "adapters are programs of their own; scripts run them",
	"morvant adapter try":    "a script of its own runs it",
	"morvant pin id:":        "there is no distributor here; scripts run it",
	"morvant launch":         "the made-up program is of another system; launch --check-only is run",
	"morvant help magic":     "",
}

// examples lists the command lines in a text: lines that are indented and begin with morvant.
func examples(text string) []string {
	var list []string
	comment := regexp.MustCompile(`\s{2,}#.*|\s{3,}[a-z(].*$`)
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if !strings.HasPrefix(line, "  ") || !strings.HasPrefix(strings.TrimSpace(line), "morvant ") {
			continue
		}
		for part := range strings.SplitSeq(comment.ReplaceAllString(strings.TrimSpace(line), ""), "; ") {
			if strings.HasPrefix(part, "morvant ") {
				list = append(list, part)
			}
		}
	}
	return list
}

// words splits a command line as the shells of all systems do where only double quotes are used.
func words(line string) []string {
	var list []string
	word, quoted, any := "", false, false
	for _, r := range line {
		switch {
		case r == '"':
			quoted, any = !quoted, true
		case r == ' ' && !quoted:
			if any {
				list = append(list, word)
			}
			word, any = "", false
		default:
			word, any = word+string(r), true
		}
	}
	if any {
		list = append(list, word)
	}
	return list
}

// TestEveryExampleWorks: those of the documents, of the long help, and of each command's help are
// run as they stand, each on a player's computer with a game, builds, a feed and lanes.
func TestEveryExampleWorks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.live = filepath.Join(w.dir, "Cinder Quay")
	require.NoError(t, os.Mkdir(w.live, 0o755))
	small := standin.Quay{Bytes: 1_000_000}
	require.NoError(t, small.Write(w.live, "1.1.1"))
	require.NoError(t, small.AddPlayerFiles(w.live))
	w.write("Mods/Scenery/hills.dat", "hills")
	w.write("logs/last.txt", "Cinder Quay 1.1.1 started\n")
	user := filepath.Join(w.dir, "user")
	saves := filepath.Join(user, "Saved Games", "Cinder Quay", "1001")
	require.NoError(t, os.MkdirAll(saves, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(saves, "slot.sav"), []byte("one"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(user, ".launcher"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(user, ".launcher", "state.cfg"), []byte("updates = at-once\n"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(user, "ModProgram", "mods"), 0o755))
	feed := filepath.Join(w.dir, "feed")
	require.NoError(t, publishFeed(feed, standin.Feed{Quay: small}))
	w.ok("add", "cinder-quay", w.live, "--keep", "Mods/**", "--keep", "Harbours/**", "--keep", "settings.ini", "--scratch", "logs/**", "--program", "bin/quay.exe")
	w.ok("game", "set", "--saves", "~/Saved Games/Cinder Quay/*", "--after-pin", "echo done")
	for _, label := range []string{"works", "1.4.0"} {
		w.ok("snapshot", label)
	}
	w.ok("feed", "add", feed)
	w.ok("fetch", "public/1.0.0")
	w.ok("fetch", "public/1.1.1")
	w.ok("fetch", "public/1.3.0")
	w.ok("snapshot", "1.1.1")
	w.ok("pin", "public/1.1.0", "--yes")
	w.ok("pin", "public/1.1.1", "--yes")
	w.ok("undo", "--yes")
	w.ok("pin", "public/1.1.1", "--yes")
	w.ok("lane", "new", "old", "--from", "public/1.1.0", "--yes")
	w.ok("lane", "new", "races", "--from", "public/1.1.1", "--yes")
	w.ok("saves", "backup")
	require.NoError(t, os.WriteFile(filepath.Join(saves, "slot.sav"), []byte("two"), 0o644))
	for i := range 3 {
		require.NoError(t, os.WriteFile(filepath.Join(saves, "slot.sav"), []byte(fmt.Sprint("later ", i)), 0o644))
		w.ok("saves", "backup", "again")
	}
	pristine := filepath.Join(w.dir, "pristine")
	parts := []string{"home", "Cinder Quay", "Cinder Quay [old]", "Cinder Quay [races]", "user", "feed"}
	for _, part := range parts {
		require.NoError(t, os.CopyFS(filepath.Join(pristine, part), os.DirFS(filepath.Join(w.dir, part))))
	}

	var list []string
	root := filepath.Join("..", "..")
	for _, file := range []string{"README.md", "docs/guide.md", "docs/first-steps.md", "docs/formats.md"} {
		b, err := os.ReadFile(filepath.Join(root, filepath.FromSlash(file)))
		require.NoError(t, err)
		list = append(list, examples(string(b))...)
	}
	for _, topic := range []string{"words", "builds", "pinfiles", "blocks", "feeds", "lanes"} {
		list = append(list, examples(w.ok("help", topic).out)...)
	}
	for _, command := range w.leaves("") {
		_, example, _ := strings.Cut(w.ok(append(strings.Fields(command), "--help")...).out, "Example: ")
		example, _, _ = strings.Cut(example, "\n\n")
		list = append(list, examples("    "+example)...)
	}
	slices.Sort(list)
	list = slices.Compact(list)
	require.Greater(t, len(list), 100)

	run := 0
	few := 1 // of so many one
	if onWindows {
		few = 5 // where starting a program takes as long as the rest
	}
	links := volume.CanLink(w.dir, w.live) == nil
	for i, line := range list {
		require.NotContains(t, line, "'", "single quotes mean nothing in every shell: %s", line)
		require.False(t, strings.HasSuffix(line, `\`), "not every shell goes on in the next line: %s", line)
		why := ""
		for begins, reason := range unrun {
			if strings.HasPrefix(line, begins) && !strings.Contains(line, "--once") && !strings.Contains(line, "--install") && !strings.Contains(line, "--check-only") {
				why = reason
			}
		}
		if why != "" || i%few != 0 || !links && strings.Contains(line, "share ") {
			continue
		}
		entries, err := os.ReadDir(w.dir)
		require.NoError(t, err)
		for _, e := range entries {
			if e.Name() != "pristine" {
				require.NoError(t, os.RemoveAll(filepath.Join(w.dir, e.Name())))
			}
		}
		for _, part := range parts {
			dir := filepath.Join(w.dir, part)
			require.NoError(t, os.CopyFS(dir, os.DirFS(filepath.Join(pristine, part))))
		}
		w.exampleWorks(line)
		run++
	}
	require.Greater(t, run, 80/few)
}

// exampleWorks runs one, with what it takes for granted.
func (w *world) exampleWorks(line string) {
	w.t.Helper()
	args := words(line)[1:]
	if at := slices.Index(args, "--dir"); at >= 0 {
		args[at+1] = filepath.Join(w.dir, "demo")
	}
	for i, a := range args { // redirections are the shell's
		if a == ">" || a == "|" {
			args = args[:i]
			break
		}
	}
	given := map[string][]string{
		"pinfile show": {"pinfile", "write", "race-night.pin.toml"}, "pinfile apply": {"pinfile", "write", "race-night.pin.toml"}, "compare-with race": {"pinfile", "write", "race-night.pin.toml"},
		"import quay-1.1.1.zip": {"export", "public/1.1.1", "quay-1.1.1.zip"}, "lane unshare": {"lane", "share", "Mods/Scenery", "--to", filepath.Join(w.dir, "scenery")},
		"lane share Mods/Scenery --with": {"lane", "share", "Mods/Scenery", "--to", filepath.Join(w.dir, "scenery"), "--with", "old"},
		"block --":                       {"block", "add", "staging-folder", "path=~/.launcher/staging"}, "lane switch current": {"lane", "rename", "old", "current"},
		"lane rename main current": nil, "launch current": {"lane", "rename", "old", "current"}, "verify --repair": {"demo", "write", w.live, "1.3.0", "--size", "1MB"},
		"carry own": {"watch", "--once"}, "builds note": nil, "builds rename": {"snapshot", "1.1.0"}, "pin --for": nil, "pin new": {"snapshot", "new"}, "pin modded": {"snapshot", "modded"}, "lane new current --from new ": {"snapshot", "new"},
		"compare-with friend.json": nil, "diff works": nil, "publish": {"fetch", "public/1.1.0"},
	}
	rest := strings.TrimPrefix(line, "morvant ")
	for begins, first := range given {
		if strings.HasPrefix(rest, begins) && first != nil {
			w.run(append(first, "--yes")...)
		}
	}
	for name, words := range map[string]string{"download": "./download", "voices.7z": "voices.7z", "race.replay": "race.replay", "quay-builds.toml": "quay-builds"} {
		if !strings.Contains(rest, words) {
			continue
		}
		switch name {
		case "download":
			require.NoError(w.t, standin.Quay{Bytes: 1_000_000}.Write(w.path(name), "1.0.0"))
		case "voices.7z":
			b, err := os.ReadFile(filepath.Join("..", "exchange", "testdata", "quay.7z"))
			require.NoError(w.t, err)
			require.NoError(w.t, os.WriteFile(w.path(name), b, 0o644))
		case "race.replay":
			w.write(name, "steps")
		default:
			w.write(name, "format = 'morvant-names/1'\n[[build]]\nlabel = '2.0'\ndate = 2031-08-05\n")
			w.ok("builds", "names", "add", name)
		}
		defer os.RemoveAll(w.path(name))
	}
	switch {
	case strings.HasPrefix(rest, "mods record sounds"):
		w.ok("export", "public/1.1.1", w.path("sounds.zip"))
		defer os.Remove(w.path("sounds.zip"))
	case strings.HasPrefix(rest, "mods take"):
		w.ok("mods", "record", "trees", "Mods/Scenery/**")
		w.ok("mods", "share", "trees", "trees.mods.toml")
		w.ok("mods", "remove", "trees", "--yes")
		require.NoError(w.t, os.MkdirAll(filepath.Join(w.dir, "user", "Downloads"), 0o755))
		defer os.Remove(w.path("trees.mods.toml"))
	case strings.HasPrefix(rest, "diff mods/"):
		w.ok("mods", "record", "trees", "Mods/Scenery/**")
		w.ok("mods", "share", "trees", "friends-trees.mods.toml")
		defer os.Remove(w.path("friends-trees.mods.toml"))
	case strings.HasPrefix(rest, "mods ") && !strings.HasPrefix(rest, "mods record"):
		w.ok("mods", "record", "trees", "Mods/Scenery/**")
		w.ok("mods", "record", "sounds", "Mods/Scenery/**")
		if strings.HasPrefix(rest, "mods lift") {
			w.ok("mods", "lay", "trees", "--yes")
		}
	case strings.HasPrefix(rest, "import ") && strings.Contains(rest, "1.1.0"):
		w.run("builds", "forget", "snapshot/1.1.0", "--yes")
		w.run("builds", "forget", "imported/1.1.0", "--yes")
	case strings.HasPrefix(rest, "import "):
		w.ok("builds", "forget", "snapshot/1.1.1", "--yes")
	case rest == "block":
		w.ok("block", "add", "staging-folder", "path=~/.launcher/staging")
	case strings.HasPrefix(rest, "carry lane/main"):
		args = append([]string{"-l", "old"}, args...)
	case strings.HasPrefix(rest, "lane new old"), strings.HasPrefix(rest, "lane new races"):
		w.ok("lane", "remove", strings.Fields(rest)[2], "--delete", "--yes")
	case strings.HasPrefix(rest, "snapshot "):
		w.run("builds", "forget", "snapshot/"+strings.Fields(rest)[1], "--yes")
	case strings.HasPrefix(rest, "block remove"):
		w.ok("block", "add", "read-only-files")
		w.ok("block", "add", "staging-folder", "path=~/.launcher/staging")
	case strings.HasPrefix(rest, "compare-with friend.json"):
		require.NoError(w.t, os.WriteFile(w.path("friend.json"), []byte(w.ok("--json", "status").out), 0o644))
	case strings.HasPrefix(rest, "compare-with sums.txt"):
		w.ok("export", "public/1.1.1", w.path("sums.txt"), "--format", "b3sums")
	case strings.Contains(rest, "builds.toml"):
		require.NoError(w.t, os.WriteFile(w.path("builds.toml"), []byte("feed = 'mine'\n[[component]]\nname = 'base'\n[[build]]\nfrom = 'works'\n"), 0o644))
	case strings.HasPrefix(rest, "add "), strings.HasPrefix(rest, "game forget"):
		w.run("unpin", "--stay", "--yes")
	}
	if strings.HasPrefix(rest, "add ") {
		w.ok("game", "forget", "--yes")
	}
	for i, a := range args { // folders of the story
		for from, to := range map[string]string{
			"/games/Cinder Quay": w.live, "~/Games/Cinder Quay": w.live, "/games/Quay scenery": filepath.Join(w.dir, "scenery-of-mine"),
			"/games/Quay for races": filepath.Join(w.dir, "for races"), "/mnt/big/Cinder Quay": filepath.Join(w.dir, "big", "Cinder Quay"), "/games/Quay (copy)": filepath.Join(w.dir, "pristine", "Cinder Quay"), "~/Downloads/Cinder Quay copy": filepath.Join(w.dir, "Cinder Quay [old]"),
		} {
			if a == from {
				args[i] = to
			}
		}
	}
	if slices.Contains(args, "--adopt") {
		require.NoError(w.t, os.RemoveAll(filepath.Join(w.dir, "for races")))
		require.NoError(w.t, standin.Quay{Bytes: 1_000_000}.Write(filepath.Join(w.dir, "for races"), "1.1.1"))
	}
	if at := slices.Index(args, "--"); at < 0 {
		args = append(args, "--yes")
	}
	r := w.run(args...)
	assert.Contains(w.t, []int{0, 3}, r.code, "%s\n%s%s", line, r.out, r.err)
}
