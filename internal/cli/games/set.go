package games

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/block"
	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/record"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/rules"
	"morvant/internal/state"
	"morvant/internal/userpath"
	"morvant/internal/version"
	"morvant/internal/volume"
)

func (a commands) gameCommand() *cli.Command {
	set := settingFlags()
	set = append(set,
		&cli.StringFlag{Name: "live", Usage: "the `FOLDER` that the launcher starts"},
		&cli.StringFlag{Name: "search", Usage: "search this `FOLDER` for the live folder, which a launcher has moved"},
		&cli.StringSliceFlag{Name: "guard", Usage: "a `PATTERN` for files of yours that must be there as they are now, such as a mod loader"},
		&cli.StringSliceFlag{Name: "no-guard", Usage: "remove a guard `PATTERN`"},
		&cli.StringSliceFlag{Name: "mods-from", Usage: "a `FOLDER` outside of the game that a mod program makes hard links from"},
		&cli.StringSliceFlag{Name: "no-mods-from", Usage: "remove such a `FOLDER`"},
		&cli.StringSliceFlag{Name: "no-keep", Usage: "remove a keep `PATTERN`"},
		&cli.StringSliceFlag{Name: "no-scratch", Usage: "remove a scratch `PATTERN`"},
		&cli.StringSliceFlag{Name: "no-saves", Usage: "remove a saves `PATTERN`"},
		&cli.BoolFlag{Name: "ignore-case", Usage: "names that differ by letter case only are one to the game, as on Windows (--ignore-case=false: they are not)"},
		&cli.BoolFlag{Name: "order-by-time", Usage: "the game loads its files by their times: those that you set by hand survive updates (--order-by-time=false: they do not)"},
		&cli.BoolFlag{Name: "saves-per-lane", Usage: "each lane has its own saves (--saves-per-lane=false: all lanes share them)"},
		&cli.StringFlag{Name: "convert-saves", Usage: "a `COMMAND` for the saves after a pin, run on a copy; empty: none"},
		&cli.StringSliceFlag{Name: "after-pin", Usage: "a `COMMAND` to run after a pin, in the game's folder"},
		&cli.StringSliceFlag{Name: "no-after-pin", Usage: "remove such a `COMMAND`"},
		&cli.StringSliceFlag{Name: "version-rule", Usage: "where the game writes its version: `FILE=PATTERN`, with the version in parentheses"},
		&cli.StringSliceFlag{Name: "waiting-rule", Usage: "where the launcher writes which update it has ready: `FILE=PATTERN`, with the build in parentheses"},
		&cli.StringSliceFlag{Name: "updating-rule", Usage: "where the launcher writes that it is updating: `FILE=PATTERN`, with the state in parentheses"},
		&cli.StringSliceFlag{Name: "launcher", Usage: "a `PROGRAM` of the launcher, by its file name; Morvant changes the launcher's settings only while it is closed"},
		&cli.StringFlag{Name: "with", Usage: "tie it to another `GAME`, or several (a,b), a server and the game that joins it: they belong on one build; empty: to none"},
		&cli.StringSliceFlag{Name: "argument", Usage: "an `ARGUMENT` that launch starts the program with, such as --argument=--windowed"},
		&cli.StringSliceFlag{Name: "no-argument", Usage: "remove such an `ARGUMENT`"},
		&cli.StringFlag{Name: "through", Usage: "a `COMMAND` that launch starts instead of the program, with its arguments; empty: none"},
		&cli.StringSliceFlag{Name: "no-launcher", Usage: "remove such a `PROGRAM`"},
	)
	return &cli.Command{
		Name: "game", Usage: "one game: show, set, move, interrupt, forget", Category: app.GroupGames,
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "show a game's settings", Description: "Example: morvant game show -g cinder-quay",
				Action: a.OnGameAlone(a.gameShow),
			},
			a.moveCommand(),
			a.interruptCommand(),
			{
				Name: "set", Usage: "change a game's settings; comments in the file stay", Flags: set,
				Description: "Example: morvant game set --keep \"Harbours/**\" --no-scratch \"logs/**\"\n\n" +
					"--keep and --scratch add patterns. You can also edit the file by hand.",
				Action: a.OnGameAlone(a.gameSet),
			},
			{
				Name: "forget", Usage: "forget a game; touches no file of the game", Description: "Example: morvant game forget -g cinder-quay",
				Flags:  app.ChangeFlags(),
				Action: a.OnGameAlone(a.gameForget),
			},
		},
	}
}

func (a commands) gameShow(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	j, err := a.describeGame(ctx, home, g)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.Emit(struct {
			Schema string `json:"schema"`
			view.GameJSON
		}{"morvant-game/1", j})
	}
	a.Say("%s", view.Strong(g.Display()))
	perLane := ""
	if g.SavesPerLane {
		perLane = "each lane has its own"
	}
	letters, times := "", ""
	if g.IgnoreCase {
		letters = "does not count"
	}
	if g.OrderByTime {
		times = "that you set stay through updates"
	}
	a.Say("%s", view.Fields(
		"name", g.Name, "state", j.State(), "builds", fmt.Sprint(j.Builds), "live folder", g.Live, "program", g.Program, "arguments", view.QuotedAll(g.Arguments), "through", g.Through, "tied to", g.With,
		"keep", strings.Join(g.Keep, "  "), "guards", strings.Join(g.Guard, "  "), "mods from", strings.Join(g.ModsFrom, ", "), "scratch", strings.Join(g.Scratch, "  "), "letter case", letters, "times", times, "saves", strings.Join(g.Saves, "  "), "", perLane,
		"converts", g.ConvertSaves, "after a pin", strings.Join(g.AfterPin, "; "), "launcher", strings.Join(g.Launcher, ", "),
		"block", view.RuleLines(j.Block), "version", view.RuleLines(j.Version), "waiting", view.RuleLines(j.Waiting), "updating", view.RuleLines(j.Updating),
		"settings", j.Settings,
	))
	return nil
}

func (a commands) gameSet(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	change := make(map[string]any)
	for flag, key := range map[string]string{"title": "title", "program": "program", "convert-saves": "convert_saves", "through": "through", "with": "with"} {
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
	for flag, key := range map[string]string{"ignore-case": "ignore_case", "order-by-time": "order_by_time"} {
		if c.IsSet(flag) {
			change[key] = nil
			if c.Bool(flag) {
				change[key] = true
			}
		}
	}
	for _, with := range (&game.Game{Settings: game.Settings{With: c.String("with")}}).Tied() {
		if with == name {
			return app.Usagef("a game cannot be tied to itself")
		}
		if _, err := home.Load(with); err != nil {
			return err
		}
	}
	if c.IsSet("search") {
		if err := a.searchLive(ctx, c, home, g); err != nil {
			return err
		}
	}
	if c.IsSet("live") {
		if err := a.SetLive(ctx, home, g, c.String("live")); err != nil {
			return err
		}
	}
	for flag, old := range map[string][]string{"keep": g.Keep, "guard": g.Guard, "mods-from": g.ModsFrom, "scratch": g.Scratch, "saves": g.Saves, "after-pin": g.AfterPin, "launcher": g.Launcher, "argument": g.Arguments} {
		key := strings.ReplaceAll(flag, "-", "_")
		if flag == "argument" {
			key = "arguments"
		}
		if !c.IsSet(flag) && !c.IsSet("no-"+flag) {
			continue
		}
		list := slices.Clone(old)
		added, err := a.settingValues(c, g, flag)
		if err != nil {
			return err
		}
		for _, p := range added {
			if !slices.Contains(list, p) {
				list = append(list, p)
			}
		}
		for _, p := range c.StringSlice("no-" + flag) {
			if full, err := folderOf(p); err == nil && flag == "mods-from" {
				p = full
			}
			i := slices.Index(list, p)
			if i < 0 && patternFlags[flag] {
				i = slices.Index(list, rules.Typed(p, g.Live))
			}
			if i < 0 {
				return app.Usagef("there is no %s rule \"%s\"; the rules are: %s", flag, p, strings.Join(old, "  "))
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
	busy, err := parseRules(c.StringSlice("updating-rule"), func(file, find string) block.Waiting { return block.Waiting{File: file, Find: find} })
	if err != nil {
		return err
	}
	if len(change)+len(says)+len(waits)+len(busy) == 0 && !c.IsSet("live") && !c.IsSet("search") {
		return app.Usagef("say what to set; see %s --help", c.FullName())
	}
	if err := (rules.Rules{Keep: slices.Concat(app.Patterns(c, "keep", g.Live), app.Patterns(c, "guard", g.Live)), Scratch: app.Patterns(c, "scratch", g.Live)}).Check(); err != nil {
		return err
	}
	if added := c.StringSlice("saves"); len(added) > 0 {
		dropped := c.StringSlice("no-saves")
		old := slices.DeleteFunc(slices.Clone(g.Saves), func(p string) bool { return slices.Contains(dropped, p) })
		if err := a.checkSaves(ctx, c, home, g, old, added); err != nil {
			return err
		}
	}
	if c.IsSet("argument") || c.IsSet("program") {
		program := view.FirstNonEmpty(c.String("program"), g.Program)
		if err := process.Batch(program, "", slices.Concat(g.Arguments, c.StringSlice("argument"))); err != nil {
			return app.AsUsage(err)
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
	if _, err := home.AddUpdatingRules(name, busy); err != nil {
		return err
	}
	if c.IsSet("guard") || c.IsSet("no-guard") {
		if err := a.recordGuarded(ctx, c, home, name); err != nil {
			return err
		}
	}
	for _, flag := range []string{"keep", "guard", "scratch"} {
		a.NoteIdle(ctx, g.Live, g.Rules(), flag, app.Patterns(c, flag, g.Live))
	}
	a.noteNoSaves(ctx, home, g, c.StringSlice("saves"))
	return a.gameShow(ctx, c, home, name)
}

// patternFlags are the flags that take patterns of files of the game.
var patternFlags = map[string]bool{"keep": true, "guard": true, "scratch": true}

// settingValues returns what a flag adds to a list of the settings. Folders are as full paths.
func (a commands) settingValues(c *cli.Command, g *game.Game, flag string) ([]string, error) {
	given := c.StringSlice(flag)
	if patternFlags[flag] {
		return app.Patterns(c, flag, g.Live), nil
	}
	if flag != "mods-from" {
		return given, nil
	}
	var dirs []string
	for _, p := range given {
		dir, err := folderOf(p)
		if err != nil {
			return nil, err
		}
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			return nil, errors.Join(err, app.Usagef("%s is no folder", dir))
		}
		if userpath.Within(dir, g.Live) || userpath.Within(g.Live, dir) {
			return nil, app.Usagef("%s and the game's folder lie in each other; name the folder outside of the game that mods are linked from", dir)
		}
		dirs = append(dirs, dir)
	}
	return dirs, nil
}

// folderOf returns the full path of a folder that was typed: ~ and variables stand for what they do in settings.
func folderOf(typed string) (string, error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return "", err
	}
	here, err := os.Getwd()
	if err != nil {
		return "", err
	}
	return volume.Real(userpath.Expand(typed, home, here))
}

// recordGuarded records the files under guard rules as they are now.
func (a commands) recordGuarded(ctx context.Context, c *cli.Command, home *game.Home, name string) (err error) {
	session, err := a.OpenLaneOf(ctx, c, home, name, app.ToLook)
	if err != nil {
		return err
	}
	defer session.Close(&err)
	o, err := record.Guard(ctx, session.Lane)
	if err == nil && o != nil {
		a.Note("%s guarded, as now: %s.", view.Count(o.Files, "file"), view.Size(o.Bytes))
	}
	return err
}

// searchDepth is how many folders deep a live folder is looked for.
const searchDepth = 4

// searchLive looks for the live folder, and makes what it finds the live one, after a question.
func (a commands) searchLive(ctx context.Context, c *cli.Command, home *game.Home, g *game.Game) error {
	live, err := home.LiveLane(ctx, g.Name)
	if err != nil {
		return err
	}
	dir, err := filepath.Abs(c.String("search"))
	if err != nil {
		return err
	}
	found := lane.Search(lane.Identity{Game: g.Name, Lane: live}, dir, searchDepth)
	switch found {
	case "":
		return fmt.Errorf("no folder in %s has the marker of %s: %w", dir, g.Display(), lane.ErrGone)
	case g.Live:
		a.Note("%s is where it was: %s.", g.Display(), g.Live)
		return nil
	}
	return a.TakeOver(ctx, c, home, g, found)
}

// parseRules reads rules given as FILE=PATTERN.
func parseRules[R interface{ Check() error }](list []string, rule func(file, find string) R) ([]R, error) {
	var out []R
	for _, text := range list {
		file, find, _ := strings.Cut(text, "=")
		r := rule(file, find)
		if err := r.Check(); err != nil {
			return nil, app.AsUsage(err)
		}
		out = append(out, r)
	}
	return out, nil
}

// stillBlocked keeps a game that is blocked from being forgotten: nobody could put back what the block found.
func stillBlocked(l *state.Lane) error {
	which := ""
	if !l.Live {
		which = "-l " + view.Quoted(l.Name) + " "
	}
	return problem.New(fmt.Sprintf("updates of lane %s are still blocked", l.Name), "Take the block off first: morvant "+which+"unblock")
}

func (a commands) gameForget(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	lanes, err := home.Lanes(ctx, name)
	if err != nil {
		return err
	}
	for _, l := range lanes {
		holds, err := home.Applied(ctx, name, l.Name)
		if err != nil {
			return err
		}
		if len(holds) > 0 {
			return stillBlocked(l)
		}
	}
	j, err := a.describeGame(ctx, home, g)
	if err != nil {
		return err
	}
	a.Note("Morvant will forget %s, its %s and its history. It touches no file in %s;", g.Display(), view.Count(j.Builds, "build"), g.Live)
	a.Note("the content stays in the store until morvant store trim.")
	if err := a.Ask(c, "Forget "+g.Name+"?"); err != nil {
		return err
	}
	if err := home.Forget(ctx, name); err != nil {
		return err
	}
	if c.Bool("json") {
		return a.Emit(struct {
			Schema string `json:"schema"`
			Game   string `json:"game"`
		}{"morvant-forgotten/1", name})
	}
	a.Say("%s is forgotten.", g.Display())
	return nil
}
