package main

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// layers lists the packages, the lowest first. A package may import only what
// stands before it.
var layers = []string{
	"problem", "digest", "strict", "progress", "process", "volume", "database", "reflink", "rules", "edit", "keyed", "userpath",
	"manifest", "chunk", "pack", "memo", "layout", "store", "estimate", "scan", "damage", "plan", "layers", "apply", "saves", "exchange",
	"alias", "index", "catalogue", "adapter", "adapter/speak", "ref", "feed/told", "feed/fence", "feed/secret", "feed/listing", "feed", "feed/fetch", "feed/trial", "block", "version", "state", "oplog", "names", "modlist", "game", "resolve", "pinfile", "identify", "report", "publish",
	"lane", "lane/compose", "lane/record", "lane/guard", "lane/backup", "lane/status", "lane/change", "lane/propose", "lane/why", "lanes", "lane/entry", "rescue", "transfer", "watch",
	"upkeep", "standin", "standin/clerk", "testdir",
	"cli/view", "cli/app", "cli/find", "cli/proposal",
	"cli/games", "cli/record", "cli/feeds", "cli/hold", "cli/installs", "cli/mods", "cli/saves", "cli/share", "cli/store", "cli/demo", "cli/help",
	"cli",
}

type listed struct {
	ImportPath                         string
	Imports, TestImports, XTestImports []string
}

func packages(t *testing.T) []listed {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,TestImports,XTestImports", "./...").Output()
	require.NoError(t, err)
	var list []listed
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p listed
		require.NoError(t, d.Decode(&p))
		list = append(list, p)
	}
	return list
}

func TestPackagesImportOnlyWhatLiesBelowThem(t *testing.T) {
	for _, p := range packages(t) {
		name, internal := strings.CutPrefix(p.ImportPath, "morvant/internal/")
		if !internal {
			continue // the program itself and the scripts stand above everything
		}
		at := slices.Index(layers, name)
		require.GreaterOrEqual(t, at, 0, "%s has no place in the layers", name)
		for _, i := range p.Imports {
			if lower, ok := strings.CutPrefix(i, "morvant/internal/"); ok {
				require.Less(t, slices.Index(layers, lower), at, "%s imports %s", name, lower)
			}
		}
	}
}

// TestGroupsOfCommandsDoNotUseEachOther: what two groups need stands below both.
func TestGroupsOfCommandsDoNotUseEachOther(t *testing.T) {
	shared := []string{"cli/view", "cli/app", "cli/find", "cli/proposal"}
	seen := 0
	for _, p := range packages(t) {
		for _, i := range p.Imports {
			lower, ok := strings.CutPrefix(i, "morvant/internal/")
			if ok && strings.HasPrefix(lower, "cli/") && !slices.Contains(shared, lower) {
				require.Equal(t, "morvant/internal/cli", p.ImportPath, "imports %s", i)
				seen++
			}
		}
	}
	require.Equal(t, 11, seen)
}

func TestOnlyTheCommandLineKnowsTerminals(t *testing.T) {
	terminal := []string{"github.com/urfave/", "github.com/vbauerster/", "charm.land/", "github.com/charmbracelet/", "golang.org/x/term", "github.com/dustin/go-humanize"}
	seen := false
	for _, p := range packages(t) {
		for _, i := range p.Imports {
			if slices.ContainsFunc(terminal, func(prefix string) bool { return strings.HasPrefix(i, prefix) }) {
				require.Regexp(t, `^morvant/internal/cli(/|$)`, p.ImportPath, "imports %s", i)
				seen = true
			}
		}
	}
	require.True(t, seen)
}

// TestWhatStandsInOnePlaceOnly: things that are done by one package for all.
func TestWhatStandsInOnePlaceOnly(t *testing.T) {
	for _, rule := range []struct {
		what   string
		found  *regexp.Regexp
		except []string
	}{
		// volume.ReadFile and ReadIn take regular files up to a size.
		{"files of others are read without waiting, and not without end", regexp.MustCompile(`os\.ReadFile\(|[rR]oot\.ReadFile\(`), []string{"volume", "standin"}},
		{"the command line is read by main", regexp.MustCompile(`os\.Args`), nil},
		// Others have remedies, see problem. Files that Morvant writes for others say what to do with them.
		{"commands are named by the command line", regexp.MustCompile(`"[^"\n]*[^"\w\n]morvant [a-z][^"\n]*"`), []string{"cli", "block", "pinfile", "modlist"}},
	} {
		require.NoError(t, filepath.WalkDir("internal", func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
				return err
			}
			room, _, _ := strings.Cut(strings.TrimPrefix(filepath.ToSlash(p), "internal/"), "/")
			if slices.Contains(rule.except, room) {
				return nil
			}
			b, err := os.ReadFile(p)
			require.NoError(t, err)
			require.Empty(t, rule.found.FindAllString(string(b), -1), "%s: %s", p, rule.what)
			return nil
		}))
	}
}

// changers are the files that may call what changes a disk, by what it is that they change.
// Everything else proposes, and lets them carry it out.
var changers = map[string][]string{
	"a lane, by plan and journal":   {"apply/apply.go", "apply/attributes.go", "apply/locked.go", "apply/others.go", "apply/recover.go", "apply/stage.go"},
	"where lanes stand":             {"names/names.go", "rescue/rescue.go", "transfer/move.go", "lane/change/beside.go", "lane/change/steps.go", "lanes/folders.go", "lanes/move.go", "lanes/new.go", "lanes/remove.go", "lanes/rename.go", "lanes/share.go", "lanes/switch.go"},
	"folders of saves":              {"saves/saves.go"},
	"what a block holds":            {"block/occupy.go", "block/setting.go"},
	"Morvant's home":                {"game/home.go", "game/lock.go", "game/restore.go", "game/settings.go", "game/use.go", "database/database.go"},
	"the store":                     {"store/check.go", "store/resume.go", "store/session.go", "store/trim.go"},
	"the copy of a feed":            {"feed/trial/trial.go", "feed/adapter.go", "feed/feed.go"},
	"a feed that is published":      {"publish/content.go", "publish/inventory.go", "publish/key.go", "publish/publish.go"},
	"a file that the player names":  {"exchange/exchange.go", "cli/feeds/adapter.go", "volume/read.go"},
	"a report of a crash, the demo": {"cli/cli.go", "cli/demo/demofeed.go", "cli/demo/demooffice.go"},
	"one name, for all of these": {
		"volume/link_unix.go", "volume/link_windows.go", "volume/fault.go", "volume/traits.go", "volume/volume.go", "volume/write.go", "volume/spool.go", "process/process.go", "process/contained.go",
		"reflink/reflink.go", "reflink/reflink_darwin.go",
	},
}

func TestOnlyTheseFilesChangeADisk(t *testing.T) {
	changes := regexp.MustCompile(`os\.(Rename|Remove|RemoveAll|Symlink|Link|Truncate|Chmod|Chtimes|WriteFile|Create|CreateTemp)\(|` +
		`[rR]oot\.(Rename|Remove|RemoveAll|Symlink|Link|Chmod|Chtimes|Create|WriteFile)\(|process\.Rename\(|os\.O_(WRONLY|RDWR)`)
	var allowed, found []string
	for _, list := range changers {
		allowed = append(allowed, list...)
	}
	require.NoError(t, filepath.WalkDir("internal", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") || strings.Contains(p, "standin") || strings.Contains(p, "testdir") {
			return err
		}
		b, err := os.ReadFile(p)
		require.NoError(t, err)
		if changes.Match(b) {
			rel, err := filepath.Rel("internal", p)
			require.NoError(t, err)
			found = append(found, filepath.ToSlash(rel))
		}
		return nil
	}))
	require.ElementsMatch(t, allowed, found)
}

// TestFunctionsOfLanesStayShort: what decides about a player's folder is read as a whole.
func TestFunctionsOfLanesStayShort(t *testing.T) {
	const lines, parameters = 80, 8
	seen := 0
	for _, dir := range []string{"layers", "lane", "lanes", "watch", "block"} {
		require.NoError(t, filepath.WalkDir(filepath.Join("internal", dir), func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
				return err
			}
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, p, nil, parser.SkipObjectResolution)
			require.NoError(t, err)
			for _, decl := range file.Decls {
				f, is := decl.(*ast.FuncDecl)
				if !is {
					continue
				}
				seen++
				require.LessOrEqual(t, set.Position(f.End()).Line-set.Position(f.Pos()).Line+1, lines, "%s: lines of %s", p, f.Name.Name)
				require.LessOrEqual(t, f.Type.Params.NumFields(), parameters, "%s: parameters of %s", p, f.Name.Name)
			}
			return nil
		}))
	}
	require.Greater(t, seen, 500)
}

// TestRoomsStaySmall: a package, or a type, that has grown too large for one reader has two ideas in it.
func TestRoomsStaySmall(t *testing.T) {
	const lines, methods = 2650, 44
	method := regexp.MustCompile(`(?m)^func \(\w+ \*?(\w+)\)`)
	packages, types := make(map[string]int), make(map[string]int)
	require.NoError(t, filepath.WalkDir("internal", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
			return err
		}
		b, err := os.ReadFile(p)
		require.NoError(t, err)
		packages[filepath.Dir(p)] += strings.Count(string(b), "\n")
		for _, m := range method.FindAllStringSubmatch(string(b), -1) {
			types[filepath.Dir(p)+"."+m[1]]++
		}
		return nil
	}))
	require.Greater(t, len(packages), 50)
	for name, n := range packages {
		require.LessOrEqual(t, n, lines, "lines of %s", name)
	}
	for name, n := range types {
		require.LessOrEqual(t, n, methods, "methods of %s", name)
	}
}
