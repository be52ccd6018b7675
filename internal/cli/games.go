package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/lane/backup"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"morvant/internal/block"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/process"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/version"
	"morvant/internal/volume"
)

func settingFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "title", Usage: "how the game is called in messages"},
		&cli.StringFlag{Name: "program", Usage: "the `FILE` to start, inside the live folder"},
		&cli.StringSliceFlag{Name: "keep", Usage: "a `PATTERN` for files that are yours: never replaced or removed"},
		&cli.StringSliceFlag{Name: "scratch", Usage: "a `PATTERN` for files nobody misses: logs, caches"},
		&cli.StringSliceFlag{Name: "saves", Usage: "a `PATTERN` for folders of saved games: ~, $VARIABLES, *"},
	}
}

func (a *app) addCommand() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "register a game's live folder", ArgsUsage: "NAME FOLDER", Category: groupGames,
		Description: "Example: morvant add cinder-quay ~/Games/\"Cinder Quay\" --keep \"Mods/**\" --scratch \"logs/**\"\n\n" +
			"NAME is yours to choose: lower-case letters, digits and dashes. Nothing in the folder is changed,\n" +
			"but for a small folder .morvant that tells which install it is.",
		Flags: settingFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, 2, 2)
			if err != nil {
				return err
			}
			home, err := a.home(ctx, c)
			if err != nil {
				return err
			}
			defer home.Close()
			return a.add(ctx, c, home, args[0], args[1])
		},
	}
}

func (a *app) add(ctx context.Context, c *cli.Command, home *game.Home, name, dir string) error {
	if err := game.CheckName(name); err != nil {
		return err
	}
	if _, err := os.Stat(home.SettingsFile(name)); err == nil {
		return fmt.Errorf("a game named %s is %w; choose another name, or see morvant game show -g %s", name, game.ErrExists, name)
	}
	live, err := home.CheckFolder(ctx, name, game.MainLane, dir)
	if err != nil {
		return err
	}
	g := &game.Game{Name: name, Settings: game.Settings{
		Title: c.String("title"), Live: live, Program: filepath.ToSlash(c.String("program")),
		Keep: c.StringSlice("keep"), Scratch: c.StringSlice("scratch"), Saves: c.StringSlice("saves"),
	}}
	if err := g.Rules().Check(); err != nil {
		return fmt.Errorf("%w: %v", game.ErrSettings, err)
	}
	if err := checkSaves(ctx, home, g, nil, g.Saves); err != nil {
		return err
	}
	found, err := countFolder(ctx, g)
	if err != nil {
		return err
	}
	if err := home.Create(g); err != nil {
		return err
	}
	return a.onLane(ctx, c, home, name, func(l *lane.Lane, home *game.Home) error {
		if err := l.Mark(ctx); err != nil {
			return err
		}
		if c.Bool("json") {
			return a.emit(struct {
				Schema string `json:"schema"`
				gameJSON
				Files int   `json:"files"`
				Bytes int64 `json:"bytes"`
			}{"morvant-game/1", a.gameJSON(home, g), found.files, found.bytes})
		}
		a.say("%s is registered: %s, %s in %s.", strong(g.Display()), count(found.files, "file"), size(found.bytes), g.Live)
		if says, err := identify.Says(g.Live, g.Program, nil); err == nil && len(says) > 0 {
			a.say("Its program says that it is %s (%s).", says[0].Says, says[0].Source)
		}
		for _, o := range found.odd {
			a.note("Note: %s is %s; Morvant leaves it alone.", o.Path, o.What)
		}
		a.noteRights(g.Live, found.protected)
		a.noteDisk(g.Live)
		if app := process.Bundle(g.Live); app != "" {
			a.note("Note: the folder is in an app, and macOS may refuse an app to which files were added; rather register %s, with --program %s.", quoted(filepath.Dir(app)), quoted(filepath.Base(app)))
		}
		a.say("Next: morvant snapshot LABEL records it as it is now.")
		return nil
	})
}

// checkSaves checks patterns for saves before they are added to the old ones.
func checkSaves(ctx context.Context, home *game.Home, g *game.Game, old, added []string) error {
	f, err := backup.Finder(ctx, home, g, game.MainLane, g.Live)
	if err != nil {
		return err
	}
	f.Patterns = old
	return f.Check(added)
}

// noteDisk says what the disk of a folder cannot hold.
func (a *app) noteDisk(dir string) {
	traits, err := volume.TraitsOf(dir)
	if err != nil {
		return // what cannot be written to is said elsewhere
	}
	if lacks := traits.Lacks(); len(lacks) > 0 {
		a.note("Note: of the disk of %s: %s.", dir, strings.Join(lacks, "; "))
	}
}

// noteRights says what will not work for want of rights, and what to do.
func (a *app) noteRights(live string, protected []string) {
	if n := len(protected); n > 0 {
		where := protected[0]
		if n > 1 {
			where += " and " + count(n-1, "folder") + " more"
		}
		a.note("Note: you may not change files in %s; a pin that changes something there will be refused.", where)
	}
	around := filepath.Dir(live)
	aroundWritable := volume.Writable(around)
	if !aroundWritable {
		a.note("Note: you may not rename folders in %s; lane switch and lane new will need that.", around)
	}
	if !aroundWritable || len(protected) > 0 {
		a.note("%s.", rights())
	}
}

// folderCount is what a first walk through a folder counts.
type folderCount struct {
	files int
	bytes int64
	odd   []scan.Oddity
	// protected are folders that this user may not change.
	protected []string
}

func countFolder(ctx context.Context, g *game.Game) (folderCount, error) {
	var n folderCount
	root, err := os.OpenRoot(g.Live)
	if err != nil {
		return n, err
	}
	defer root.Close()
	t, err := scan.Walk(ctx, root, g.Rules())
	if err != nil {
		return n, err
	}
	for i := range t.Entries {
		switch e := &t.Entries[i]; {
		case e.Kind == scan.File:
			n.files++
			n.bytes += e.Stamp.Size
		case e.Kind == scan.Dir && !volume.Writable(filepath.Join(g.Live, filepath.FromSlash(e.Path))):
			n.protected = append(n.protected, e.Path)
		}
	}
	n.odd = t.Odd
	return n, nil
}

func (a *app) gamesCommand() *cli.Command {
	return &cli.Command{
		Name: "games", Usage: "list the registered games", Category: groupGames,
		Description: "Example: morvant games",
		Action:      a.onHome(a.games),
	}
}

type gameJSON struct {
	Game     string   `json:"game"`
	Title    string   `json:"title,omitempty"`
	Live     string   `json:"live"`
	Program  string   `json:"program,omitempty"`
	Keep     []string `json:"keep"`
	Scratch  []string `json:"scratch"`
	Settings string   `json:"settings"`
	Pinned   string   `json:"pinned,omitempty"`
	Builds   int      `json:"builds"`
	// Absent says that the live folder is not there, or its disk.
	Absent bool `json:"absent,omitempty"`
}

func (j gameJSON) held() string {
	if j.Absent {
		return "absent"
	}
	if j.Pinned == "" {
		return "not held"
	}
	return "held at " + j.Pinned
}

func (a *app) gameJSON(home *game.Home, g *game.Game) gameJSON {
	return gameJSON{
		Game: g.Name, Title: g.Title, Live: g.Live, Program: g.Program,
		Keep: append([]string{}, g.Keep...), Scratch: append([]string{}, g.Scratch...),
		Settings: home.SettingsFile(g.Name),
	}
}

// describeGame adds what the state knows of a game.
func (a *app) describeGame(ctx context.Context, home *game.Home, g *game.Game) (gameJSON, error) {
	j := a.gameJSON(home, g)
	builds, err := home.Builds(ctx, g.Name)
	if err != nil {
		return j, err
	}
	is, err := home.Lane(ctx, g.Name, "")
	if err != nil {
		return j, err
	}
	pin := is.Pin
	if _, err := os.Stat(g.Folder(is)); err != nil {
		j.Absent = true
	}
	j.Builds = len(builds)
	for _, b := range builds {
		if pin.Held() && b.Is(pin) {
			j.Pinned = b.Label
		}
	}
	return j, nil
}

func (a *app) games(ctx context.Context, c *cli.Command, home *game.Home) error {
	games, broken, err := home.Games()
	if err != nil {
		return err
	}
	list := []gameJSON{}
	var rows [][]string
	for _, g := range games {
		j, err := a.describeGame(ctx, home, g)
		if err != nil {
			return err
		}
		list = append(list, j)
		rows = append(rows, []string{g.Name, g.Title, j.held(), fmt.Sprint(j.Builds), g.Live})
	}
	if c.Bool("json") {
		err = a.emit(struct {
			Schema string     `json:"schema"`
			Games  []gameJSON `json:"games"`
		}{"morvant-games/1", list})
	} else if len(rows) == 0 && len(broken) == 0 {
		a.say("No game is registered yet. Register one: morvant add NAME FOLDER")
	} else if len(rows) > 0 {
		a.say("%s", grid([]string{"Game", "Title", "State", ">Builds", "Live folder"}, rows))
	}
	for _, name := range sortedKeys(broken) {
		err = errors.Join(err, broken[name])
	}
	return err
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func (a *app) gameCommand() *cli.Command {
	set := settingFlags()
	set = append(set,
		&cli.StringFlag{Name: "live", Usage: "the `FOLDER` that the launcher starts"},
		&cli.StringSliceFlag{Name: "no-keep", Usage: "take a keep `PATTERN` away"},
		&cli.StringSliceFlag{Name: "no-scratch", Usage: "take a scratch `PATTERN` away"},
		&cli.StringSliceFlag{Name: "no-saves", Usage: "take a saves `PATTERN` away"},
		&cli.BoolFlag{Name: "saves-per-lane", Usage: "each lane has saves of its own (--saves-per-lane=false: all share one set)"},
		&cli.StringFlag{Name: "convert-saves", Usage: "a `COMMAND` for the saves after a pin, run on a copy; empty: none"},
		&cli.StringSliceFlag{Name: "after-pin", Usage: "a `COMMAND` to run after a pin, in the game's folder"},
		&cli.StringSliceFlag{Name: "no-after-pin", Usage: "take such a `COMMAND` away"},
		&cli.StringSliceFlag{Name: "version-rule", Usage: "where the game says its version: `FILE=PATTERN`, with the version in parentheses"},
		&cli.StringSliceFlag{Name: "waiting-rule", Usage: "where the launcher says which update waits: `FILE=PATTERN`, with the build in parentheses"},
	)
	return &cli.Command{
		Name: "game", Usage: "one game's settings: show, set, forget", Category: groupGames,
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "show a game's settings", Description: "Example: morvant game show -g cinder-quay",
				Action: a.onGame(a.gameShow),
			},
			{
				Name: "set", Usage: "change a game's settings; comments in the file stay", Flags: set,
				Description: "Example: morvant game set --keep \"Harbours/**\" --no-scratch \"logs/**\"\n\n" +
					"--keep and --scratch add patterns to those there are. The same file can be edited by hand.",
				Action: a.onGame(a.gameSet),
			},
			{
				Name: "forget", Usage: "forget a game; touches no file of the game", Description: "Example: morvant game forget -g cinder-quay",
				Action: a.onGame(a.gameForget),
			},
		},
	}
}

func (a *app) gameShow(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	j, err := a.describeGame(ctx, home, g)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.emit(struct {
			Schema string `json:"schema"`
			gameJSON
		}{"morvant-game/1", j})
	}
	a.say("%s", strong(g.Display()))
	a.say("%s", fields(
		"name", g.Name, "state", j.held(), "builds", fmt.Sprint(j.Builds), "live folder", g.Live, "program", g.Program,
		"keep", strings.Join(g.Keep, "  "), "scratch", strings.Join(g.Scratch, "  "), "saves", strings.Join(g.Saves, "  "), "settings", j.Settings,
	))
	return nil
}

func (a *app) gameSet(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	change := make(map[string]any)
	for flag, key := range map[string]string{"title": "title", "program": "program", "convert-saves": "convert_saves"} {
		if c.IsSet(flag) {
			change[key] = nil
			if v := c.String(flag); v != "" {
				change[key] = v
			}
		}
	}
	if c.IsSet("saves-per-lane") {
		change["saves_per_lane"] = c.Bool("saves-per-lane")
	}
	if c.IsSet("live") {
		if err := a.setLive(ctx, home, g, c.String("live")); err != nil {
			return err
		}
	}
	for flag, old := range map[string][]string{"keep": g.Keep, "scratch": g.Scratch, "saves": g.Saves, "after-pin": g.AfterPin} {
		key := strings.ReplaceAll(flag, "-", "_")
		if !c.IsSet(flag) && !c.IsSet("no-"+flag) {
			continue
		}
		list := slices.Clone(old)
		for _, p := range c.StringSlice(flag) {
			if !slices.Contains(list, p) {
				list = append(list, p)
			}
		}
		for _, p := range c.StringSlice("no-" + flag) {
			i := slices.Index(list, p)
			if i < 0 {
				return usagef("there is no %s rule %q; the rules are: %s", flag, p, strings.Join(old, "  "))
			}
			list = slices.Delete(list, i, i+1)
		}
		change[key] = nil
		if len(list) > 0 {
			change[key] = list
		}
	}
	says, err := parseRules(c.StringSlice("version-rule"), func(file, find string) version.Rule { return version.Rule{File: file, Find: find} })
	if err != nil {
		return err
	}
	waits, err := parseRules(c.StringSlice("waiting-rule"), func(file, find string) block.Waiting { return block.Waiting{File: file, Find: find} })
	if err != nil {
		return err
	}
	if len(change)+len(says)+len(waits) == 0 && !c.IsSet("live") {
		return usagef("say what to set; see %s --help", c.FullName())
	}
	if err := (rules.Rules{Keep: c.StringSlice("keep"), Scratch: c.StringSlice("scratch")}).Check(); err != nil {
		return fmt.Errorf("%w: %v", game.ErrSettings, err)
	}
	if added := c.StringSlice("saves"); len(added) > 0 {
		dropped := c.StringSlice("no-saves")
		old := slices.DeleteFunc(slices.Clone(g.Saves), func(p string) bool { return slices.Contains(dropped, p) })
		if err := checkSaves(ctx, home, g, old, added); err != nil {
			return err
		}
	}
	if _, err := home.Edit(name, change); err != nil {
		return err
	}
	if _, err := home.AddVersionRules(name, says); err != nil {
		return err
	}
	if _, err := home.AddWaitingRules(name, waits); err != nil {
		return err
	}
	return a.gameShow(ctx, c, home, name)
}

// parseRules reads rules given as FILE=PATTERN.
func parseRules[R interface{ Check() error }](list []string, rule func(file, find string) R) ([]R, error) {
	var out []R
	for _, text := range list {
		file, find, _ := strings.Cut(text, "=")
		r := rule(file, find)
		if err := r.Check(); err != nil {
			return nil, usage{err}
		}
		out = append(out, r)
	}
	return out, nil
}

// errStillBlocked keeps a game that is blocked from being forgotten: nobody could put
// back any more what the block found.
var errStillBlocked = errors.New("updates of the game are still blocked")

func (a *app) gameForget(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	lanes, err := home.Lanes(ctx, name)
	if err != nil {
		return err
	}
	for _, l := range lanes {
		holds, err := home.Holds(ctx, name, l.Name)
		if err != nil {
			return err
		}
		if len(holds) > 0 {
			return errStillBlocked
		}
	}
	j, err := a.describeGame(ctx, home, g)
	if err != nil {
		return err
	}
	a.note("%s, its %s and its history will be forgotten. No file in %s is touched;", g.Display(), count(j.Builds, "snapshot"), g.Live)
	a.note("the content in the store stays until morvant store trim.")
	if err := a.ask(c, "Forget "+g.Name+"?"); err != nil {
		return err
	}
	if err := home.Forget(ctx, name); err != nil {
		return err
	}
	if c.Bool("json") {
		return a.emit(struct {
			Schema string `json:"schema"`
			Game   string `json:"game"`
		}{"morvant-forgotten/1", name})
	}
	a.say("%s is forgotten.", g.Display())
	return nil
}

// ask asks a question that needs a yes.
func (a *app) ask(c *cli.Command, question string) error {
	if c.Bool("yes") {
		return nil
	}
	if !term.IsTerminal(int(a.in.Fd())) {
		return errUnanswered
	}
	return a.question(question)
}

// question asks at the terminal, whatever has been answered beforehand.
func (a *app) question(question string) error {
	a.meter.pause()
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	answer := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(a.in).ReadString('\n')
		answer <- line
	}()
	select {
	case line := <-answer:
		switch strings.ToLower(strings.TrimSpace(line)) {
		case "y", "yes":
			return nil
		}
		return errDeclined
	case <-a.interrupted:
		fmt.Fprintln(a.err)
		return context.Canceled
	}
}
