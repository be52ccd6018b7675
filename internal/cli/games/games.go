package games

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/guard"
	"morvant/internal/process"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/userpath"
	"morvant/internal/volume"
)

func settingFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "title", Usage: "what to call the game in messages: `TITLE`"},
		&cli.StringFlag{Name: "program", Usage: "the `FILE` to start, inside the live folder"},
		&cli.StringSliceFlag{Name: "keep", Usage: "a `PATTERN` for files that are yours: never replaced or removed"},
		&cli.StringSliceFlag{Name: "scratch", Usage: "a `PATTERN` for files that nobody needs: logs, caches"},
		&cli.StringSliceFlag{Name: "saves", Usage: "a `PATTERN` for folders of saved games: ~, $VARIABLES, *"},
	}
}

func (a commands) addCommand() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "register a game's live folder", ArgsUsage: "NAME FOLDER", Category: app.GroupGames,
		Description: "Example: morvant add cinder-quay ~/Games/\"Cinder Quay\" --keep \"Mods/**\" --scratch \"logs/**\"\n\n" +
			"NAME is yours to choose: lower-case letters, digits and dashes. Nothing in the folder is changed,\n" +
			"except for a small folder, .morvant, which marks it as this install.",
		Flags: settingFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := app.Arguments(c, 2, 2)
			if err != nil {
				return err
			}
			home, err := a.Home(ctx, c)
			if err != nil {
				return err
			}
			defer home.Close()
			return a.add(ctx, c, home, args[0], args[1])
		},
	}
}

func (a commands) add(ctx context.Context, c *cli.Command, home *game.Home, name, dir string) (err error) {
	if err := game.CheckNewName(name); err != nil {
		return err
	}
	if _, err := os.Stat(home.SettingsFile(name)); err == nil {
		return fmt.Errorf("a game named %s is %w; choose another name, or see morvant game show -g %s", name, state.ErrExists, name)
	}
	live, err := home.CheckFolder(ctx, name, state.MainLane, dir)
	if err != nil {
		return err
	}
	g := &game.Game{Name: name, Settings: game.Settings{
		Title: c.String("title"), Live: live, Program: filepath.ToSlash(c.String("program")),
		Keep: app.Patterns(c, "keep", live, dir), Scratch: app.Patterns(c, "scratch", live, dir), Saves: c.StringSlice("saves"),
	}}
	if err := g.Rules().Check(); err != nil {
		return err
	}
	if err := a.checkSaves(ctx, c, home, g, nil, g.Saves); err != nil {
		return err
	}
	found, err := countFolder(ctx, g)
	if err != nil {
		return err
	}
	if err := home.Create(g); err != nil {
		return err
	}
	session, err := a.OpenLaneOf(ctx, c, home, name, app.ToLook)
	if err != nil {
		return err
	}
	defer session.Close(&err)
	l := session.Lane
	if err := l.WriteMarker(ctx); err != nil {
		return err
	}
	if c.Bool("json") {
		return a.Emit(struct {
			Schema string `json:"schema"`
			view.GameJSON
			Files int   `json:"files"`
			Bytes int64 `json:"bytes"`
		}{"morvant-game/1", a.gameJSON(home, g), found.files, found.bytes})
	}
	a.Say("%s is registered: %s, %s in %s.", view.Strong(g.Display()), view.Count(found.files, "file"), view.Size(found.bytes), g.Live)
	if says, err := identify.Says(g.Live, g.Program, nil); err == nil && len(says) > 0 {
		a.Say("Its program reports version %s (%s).", says[0].Says, says[0].Source)
	}
	for _, o := range found.odd {
		a.Note("Note: %s is %s; Morvant leaves it alone.", o.Path, o.What)
	}
	if n := guard.NoteIn(l.Root); n != nil {
		a.Note("Note: a block that another Morvant has set stands here (%s): morvant unblock takes it off.", view.Count(len(n.Applied), "rule"))
	}
	switch {
	case found.files == 0:
		a.Note("Note: the folder is empty. Is it the game's folder?")
	case !found.program && found.only != "":
		a.Note("Note: no program is in it, and all of it is in %s. Is it the game's folder?", found.only)
	case !found.program:
		a.Note("Note: no program is in it. Is it the game's folder?")
	}
	if name := game.Versions(g.Live); name != "" {
		a.Note("Note: %s is in it, the history of what you work on. It is yours: no build has it, and nothing in it is ever changed.", name)
	}
	if t, err := l.Walk(ctx); err == nil && l.SuggestsIgnoringCase(t) {
		a.Note("Note: the game is made for Windows, and this disk tells letter case apart: morvant game set --ignore-case makes Data and data one, as they are to the game.")
	}
	a.noteRights(g.Live, found.protected)
	a.NoteDisk(g.Live)
	if app := process.Bundle(g.Live); app != "" {
		a.Note("Note: the folder is in an app, and macOS may refuse to start an app to which files were added. Register %s instead, with --program %s.", view.Quoted(filepath.Dir(app)), view.Quoted(filepath.Base(app)))
	}
	a.NoteIdle(ctx, g.Live, g.Rules(), "keep", g.Keep)
	a.NoteIdle(ctx, g.Live, g.Rules(), "scratch", g.Scratch)
	a.noteNoSaves(ctx, home, g, g.Saves)
	a.Say("Next, record it as it is now: morvant snapshot LABEL")
	return nil
}

// noteNoSaves says which places of saves that have just been given are not there.
func (a commands) noteNoSaves(ctx context.Context, home *game.Home, g *game.Game, given []string) {
	f, err := backup.Finder(ctx, home, g, state.MainLane, g.Live)
	if err != nil {
		return
	}
	f.Patterns = given
	_, none, _ := f.Find() // checked before
	for _, p := range none {
		where := ""
		if at := userpath.Expand(p, f.Home, g.Live); !filepath.IsAbs(p) && at == filepath.Join(g.Live, filepath.FromSlash(p)) {
			where = ", which begins in the game's folder"
			if here, err := filepath.Abs(p); err == nil {
				if _, err := os.Stat(here); err == nil && here != at {
					where += " (" + here + " is there: give the full path for that)"
				}
			}
		}
		a.Note("Note: nothing is at the saves place %s%s yet. Is it spelled right?", view.Quoted(p), where)
	}
}

// checkSaves checks patterns for saves before they are added to the old ones, and asks about those that lead elsewhere.
func (a commands) checkSaves(ctx context.Context, c *cli.Command, home *game.Home, g *game.Game, old, added []string) error {
	f, err := backup.Finder(ctx, home, g, state.MainLane, g.Live)
	if err != nil {
		return err
	}
	f.Patterns = old
	if err := f.Check(added); err != nil {
		return app.AsUsage(err)
	}
	for _, l := range f.Led(added) {
		where := fmt.Sprintf("%s leads to %s by a link", view.Quoted(l.Named), view.Quoted(l.Real))
		if !c.Bool("yes") && !a.Interactive() {
			return app.Refusef("%s; if the saves are there, add --yes", where)
		}
		if err := a.Ask(c, where+". Are the saves there?"); err != nil {
			return err
		}
	}
	return nil
}

// noteRights says what will not work for want of rights, and what to do.
func (a commands) noteRights(live string, protected []string) {
	if n := len(protected); n > 0 {
		where := protected[0]
		if n > 1 {
			where += " and " + view.Count(n-1, "folder") + " more"
		}
		a.Note("Note: you may not change files in %s; a pin that changes something there will be refused.", where)
	}
	around := filepath.Dir(live)
	aroundWritable := volume.Writable(around)
	if !aroundWritable {
		a.Note("Note: you may not rename folders in %s; lane switch and lane new will need that.", around)
	}
	if !aroundWritable || len(protected) > 0 {
		a.Note("%s.", app.Rights())
	}
}

// programs are endings of what can be started where no mode says so.
var programs = []string{".exe", ".bat", ".cmd", ".com", ".jar", ".sh", ".x86_64", ".x86", ".appimage", ".app", ".swf", ".html"}

// folderCount is what a first walk through a folder counts.
type folderCount struct {
	files   int
	bytes   int64
	odd     []scan.Oddity
	program bool   // something in it can be started
	only    string // the folder that everything in it is in; empty: there is more
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
			n.program = n.program || e.Mode&0o111 != 0 || slices.Contains(programs, strings.ToLower(filepath.Ext(e.Path)))
			if top, _, in := strings.Cut(e.Path, "/"); !in || n.files > 1 && top != n.only {
				n.only = ""
			} else if n.files == 1 {
				n.only = top
			}
		case e.Kind == scan.Dir && !volume.Writable(filepath.Join(g.Live, filepath.FromSlash(e.Path))):
			n.protected = append(n.protected, e.Path)
		}
	}
	n.odd = t.Odd
	return n, nil
}

func (a commands) gamesCommand() *cli.Command {
	return &cli.Command{
		Name: "games", Usage: "list the registered games", Category: app.GroupGames,
		Description: "Example: morvant games",
		Action:      a.OnHome(a.games),
	}
}

func (a commands) gameJSON(home *game.Home, g *game.Game) view.GameJSON {
	return view.GameJSON{
		Game: g.Name, Title: g.Title, Live: g.Live, Program: g.Program, Arguments: g.Arguments, Through: g.Through, With: g.With,
		Keep: append([]string{}, g.Keep...), IgnoreCase: g.IgnoreCase, OrderByTime: g.OrderByTime, Guard: g.Guard, ModsFrom: g.ModsFrom, Scratch: append([]string{}, g.Scratch...),
		Settings: home.SettingsFile(g.Name), Saves: g.Saves, SavesPerLane: g.SavesPerLane, ConvertSaves: g.ConvertSaves, AfterPin: g.AfterPin, Launcher: g.Launcher,
		Block: view.AsSet(g.Block), Version: view.AsSet(g.Version), Waiting: view.AsSet(g.Waiting), Updating: view.AsSet(g.Updating),
	}
}

// describeGame adds what the state knows of a game.
func (a commands) describeGame(ctx context.Context, home *game.Home, g *game.Game) (view.GameJSON, error) {
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
			held := view.ToBuildJSON(b, pin)
			j.Held, j.Build, j.Pinned = true, &held, b.Label
		}
	}
	return j, nil
}

func (a commands) games(ctx context.Context, c *cli.Command, home *game.Home) error {
	games, broken, err := home.Games()
	if err != nil {
		return err
	}
	list := []view.GameJSON{}
	var rows [][]string
	for _, g := range games {
		j, err := a.describeGame(ctx, home, g)
		if err != nil {
			broken[g.Name] = err
			continue
		}
		list = append(list, j)
		rows = append(rows, []string{g.Name, g.Title, j.State(), fmt.Sprint(j.Builds), g.Live})
	}
	for _, name := range view.SortedKeys(broken) {
		list = append(list, view.GameJSON{Game: name, Keep: []string{}, Scratch: []string{}, Settings: home.SettingsFile(name), Broken: view.OneLine(broken[name])})
		rows = append(rows, []string{name, "", view.Paint(view.Bad, "broken"), "", ""})
	}
	if c.Bool("json") {
		err = a.Emit(struct {
			Schema string          `json:"schema"`
			Games  []view.GameJSON `json:"games"`
		}{"morvant-games/1", list})
	} else if len(rows) == 0 {
		a.Say("No game is registered yet. Register one: morvant add NAME FOLDER")
	} else {
		a.Table([]view.Column{
			{Head: "Game", Cut: view.CutMiddle},
			{Head: "Title", Spare: 1, Cut: view.CutEnd},
			{Head: "State", Cut: view.CutEnd},
			{Head: "Builds", Right: true, Spare: 2},
			{Head: "Live folder", Cut: view.CutStart},
		}, rows)
	}
	for _, name := range view.SortedKeys(broken) {
		a.Note("Note: %s is broken: %s", name, view.OneLine(broken[name]))
	}
	return err
}
