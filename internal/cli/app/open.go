package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/adrg/xdg"
	"github.com/urfave/cli/v3"

	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/entry"
	"morvant/internal/lane/guard"
	"morvant/internal/problem"
	"morvant/internal/store"
	"morvant/internal/upkeep"
	"morvant/internal/watch"
)

// Home opens Morvant's home. One that is named, or that there was before, is not made
// anew unless a game is being added.
func (a *App) Home(ctx context.Context, c *cli.Command) (*game.Home, error) {
	dir, err := filepath.Abs(Home(c.String("home")))
	if err != nil {
		return nil, err
	}
	adds := c.FullName() == "morvant add"
	known := HomesFile()
	if !game.IsHome(dir) {
		switch before := game.KnownHome(known, dir); {
		case adds && before:
			a.Note("The home at %s is missing. Is its disk attached?", dir)
			if err := a.Ask(c, "Make a new, empty home?"); err != nil {
				return nil, fmt.Errorf("%s: %w, and there was one: %w", dir, game.ErrNoHome, err)
			}
		case adds && c.IsSet("home"):
			a.Note("A new home is made at %s.", dir)
		case before || c.IsSet("home"):
			return nil, fmt.Errorf("%w at %s", game.ErrNoHome, dir)
		}
	}
	home, err := game.OpenHomeWith(ctx, dir, game.HomeOptions{Who: c.FullName(), Now: a.Now})
	if err != nil {
		return nil, err
	}
	for _, text := range home.Said {
		a.Note("%s", text)
	}
	home.Warn = a.Meter.Warn
	if home.Older != nil {
		a.takeIn(ctx, home)
	}
	game.RememberHome(known, home.Dir())
	return home, nil
}

// takeIn brings a state that is older than its store up to it, and says so.
func (a *App) takeIn(ctx context.Context, home *game.Home) {
	const found = "What this home remembers is older than its store, as if a backup of it had been put back."
	n, err := upkeep.TakeIn(ctx, home, a.Now())
	switch {
	case err != nil:
		a.Note("%s What the store knows beyond it could not be taken in yet: %v. Morvant trims nothing until then.", found, err)
	case n > 0:
		a.Note("%s %s that only the store knew %s listed again; what else is in it stays for %d days.", found, view.Count(n, "build"), strings.TrimSpace(view.AreIs(n)), int(upkeep.OlderKept.Hours()/24))
	default:
		a.Note("%s No build is missing; what else is in the store stays for %d days.", found, int(upkeep.OlderKept.Hours()/24))
	}
}

// HomesFile is where the homes of this user are listed, apart from them: so one that is
// not there can be told from one that never was.
func HomesFile() string { return filepath.Join(xdg.ConfigHome, "morvant", "homes") }

// OnHome makes an action without arguments out of what a command does with the home.
func (a *App) OnHome(f func(context.Context, *cli.Command, *game.Home) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if _, err := Arguments(c, 0, 0); err != nil {
			return err
		}
		home, err := a.Home(ctx, c)
		if err != nil {
			return err
		}
		defer home.Close()
		return f(ctx, c, home)
	}
}

// OnGameAlone is OnHome for commands about one game.
func (a *App) OnGameAlone(f func(context.Context, *cli.Command, *game.Home, string) error) cli.ActionFunc {
	return a.OnGame(0, 0, func(ctx context.Context, c *cli.Command, home *game.Home, name string, _ []string) error {
		return f(ctx, c, home, name)
	})
}

// OnGame makes an action, with arguments, out of what a command does with a game.
func (a *App) OnGame(least, most int, f func(context.Context, *cli.Command, *game.Home, string, []string) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := Arguments(c, least, most)
		if err != nil {
			return err
		}
		return a.WithGame(ctx, c, func(home *game.Home, name string) error { return f(ctx, c, home, name, args) })
	}
}

// WithGame opens the home and finds the game that the command is about, for as long as f runs.
func (a *App) WithGame(ctx context.Context, c *cli.Command, f func(home *game.Home, name string) error) error {
	home, name, err := a.OpenGame(ctx, c)
	if err != nil {
		return err
	}
	defer home.Close()
	return f(home, name)
}

// OnLane makes an action out of what a command does with a lane; most may be -1, for no limit.
func (a *App) OnLane(why Purpose, least, most int, f func(context.Context, *cli.Command, *lane.Lane, []string) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		limit := most
		if limit < 0 {
			limit = max(least, c.Args().Len())
		}
		args, err := Arguments(c, least, limit)
		if err != nil {
			return err
		}
		return a.WithLane(ctx, c, why, func(l *lane.Lane) error { return f(ctx, c, l, args) })
	}
}

// WithLane opens the lane that the command is about, for as long as f runs.
func (a *App) WithLane(ctx context.Context, c *cli.Command, why Purpose, f func(*lane.Lane) error) (err error) {
	session, err := a.OpenLane(ctx, c, why)
	if err != nil {
		return err
	}
	defer session.Close(&err)
	return f(session.Lane)
}

// OpenGame opens the home and finds the game that the command is about. The home has to be
// closed.
func (a *App) OpenGame(ctx context.Context, c *cli.Command) (*game.Home, string, error) {
	home, err := a.Home(ctx, c)
	if err != nil {
		return nil, "", err
	}
	name, err := a.ChooseGame(ctx, home, c)
	if err != nil {
		home.Close()
		return nil, "", err
	}
	return home, name, nil
}

// Session is what a command works on: an open lane. It begins at the top of a command and is
// closed at its end.
type Session struct {
	Home *game.Home
	Lane *lane.Lane

	own   bool // the home is closed with it
	loose bool // files that a block has made immutable are let go
}

// Purpose is what a lane is opened for.
type Purpose int

// The purposes.
const (
	// ToLook takes the lane that is meant: named, around the working folder, else the live one.
	ToLook Purpose = iota
	// Looking is ToLook, and waits for no other Morvant that is at work on the game.
	Looking
	// ToChange is ToLook, and lets go of files that a block has made immutable, unless it is
	// a dry run.
	ToChange
	// TheLiveOne takes the live lane, wherever the command is given; another that is named is refused.
	TheLiveOne
	// ForUpdates is TheLiveOne for what an update goes into: the lane that follows updates may be
	// named, too.
	ForUpdates
	// Named is ToLook for the lane that the first argument names.
	Named
)

// OpenLane opens the lane that the command is about.
func (a *App) OpenLane(ctx context.Context, c *cli.Command, why Purpose) (*Session, error) {
	home, name, err := a.OpenGame(ctx, c)
	if err != nil {
		return nil, err
	}
	switch why {
	case TheLiveOne, ForUpdates:
		if err := onlyLive(ctx, c, home, name, why); err != nil {
			home.Close()
			return nil, err
		}
		home.UseLane("")
	case Named:
		home.UseLane(c.Args().First())
	}
	s, err := a.OpenLaneOf(ctx, c, home, name, why)
	if err != nil {
		home.Close()
		return nil, err
	}
	s.own = true
	return s, nil
}

// onlyLive refuses a lane that is named and not the live one.
func onlyLive(ctx context.Context, c *cli.Command, home *game.Home, name string, why Purpose) error {
	if !c.IsSet("lane") {
		return nil
	}
	named, err := home.Lane(ctx, name, c.String("lane"))
	if err != nil || named.Live || why == ForUpdates {
		return err
	}
	live, err := home.LiveLane(ctx, name)
	if err != nil {
		return err
	}
	return Usagef("%s works on the live lane, which is %s, and not on lane %s; switch to it first: morvant lane switch %s", c.FullName(), live, named.Name, view.Quoted(named.Name))
}

// RefuseLane refuses --lane for a command that does not work on one lane.
func RefuseLane(c *cli.Command) error {
	if !c.IsSet("lane") {
		return nil
	}
	return Usagef("%s is not about one lane; leave --lane %s out", c.FullName(), c.String("lane"))
}

// OpenLaneOf opens a lane of a game, in a home that stays open afterwards.
func (a *App) OpenLaneOf(ctx context.Context, c *cli.Command, home *game.Home, name string, why Purpose) (*Session, error) {
	o := a.LaneOptions(c)
	o.Looks = why == Looking
	l, err := entry.Open(ctx, home, name, o)
	var gone *lane.GoneError
	if errors.As(err, &gone) && gone.Found != "" {
		if err := a.TakeOver(ctx, c, home, gone.Game, gone.Found); err != nil {
			return nil, fmt.Errorf("%w: %w", gone, err)
		}
		l, err = entry.Open(ctx, home, name, o)
	}
	if err != nil {
		return nil, err
	}
	for _, text := range l.Recovered {
		a.Note("%s", text)
	}
	switch {
	case l.Passive:
		a.Note("Note: %s. This is how it stands meanwhile; nothing of it is noted.", view.OneLine(l.Unfinished))
	case l.Unfinished != nil:
		a.Note("Note: %s.", view.OneLine(l.Unfinished))
	}
	if err := a.followUp(ctx, c, l); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	s := &Session{Home: home, Lane: l, loose: why == ToChange && !c.Bool("dry-run")}
	if s.loose {
		if err := guard.Loosen(ctx, l); err != nil {
			return nil, errors.Join(err, l.Close())
		}
	}
	return s, nil
}

// followUp lays what the pin has beside its build over an update that has come, in a lane that follows
// updates, before a command says how the game stands or starts it.
func (a *App) followUp(ctx context.Context, c *cli.Command, l *lane.Lane) error {
	if !l.Live || c.Bool("check-only") || !slices.Contains([]string{"morvant status", "morvant launch", "morvant verify"}, c.FullName()) {
		return nil
	}
	f, err := watch.FollowUp(ctx, l)
	if err != nil {
		return fmt.Errorf("an update has come, and the pin could not follow it: %w", err)
	}
	for _, line := range view.FollowedLines(l, f) {
		a.Note("%s", line)
	}
	return nil
}

// TakeOver asks whether a live folder that has been moved is to be taken over where its marker was
// found, and makes it the live one.
func (a *App) TakeOver(ctx context.Context, c *cli.Command, home *game.Home, g *game.Game, dir string) error {
	a.Note("%s is no longer at %s. The marker in %s says that it is there now.", g.Display(), g.Live, dir)
	if err := a.Ask(c, "Use "+dir+" from now on?"); err != nil {
		return err
	}
	return a.SetLive(ctx, home, g, dir)
}

// Close gives everything back, and joins what goes wrong with it to the error of the command.
func (s *Session) Close(err *error) {
	if s.loose {
		*err = errors.Join(*err, guard.Tighten(context.Background(), s.Lane))
	}
	*err = errors.Join(*err, s.Lane.Close())
	if s.own {
		s.Home.Close()
	}
}

// Mended reports whether a command failed because the index of the store is damaged, and the
// index has been made anew from the packs: then the command can be run once more.
func (a *App) Mended(ctx context.Context, c *cli.Command, failed error) bool {
	if !errors.Is(failed, store.ErrIndexLost) || ctx.Err() != nil {
		return false
	}
	home, err := a.Home(ctx, c)
	if err != nil {
		return false
	}
	defer home.Close()
	if upkeep.MendIndex(ctx, home) != nil {
		return false
	}
	a.Note("The index of the store was damaged; Morvant has rebuilt it from the packs.")
	return true
}

// LaneOptions says how a command opens a lane.
func (a *App) LaneOptions(c *cli.Command) lane.Options {
	line := a.FeedOptions(c)
	o := lane.Options{Who: c.FullName(), Meter: a.Meter, Now: a.Now, Feed: line}
	switch c.FullName() {
	case "morvant pin", "morvant undo":
		o.Remake = a.remake(c)
	case "morvant verify":
		if c.Bool("repair") {
			o.Remake = a.remake(c)
		}
	case "morvant unpin":
		o.Absent = c.Bool("stay") // no file is touched
	case "morvant lane list", "morvant saves list", "morvant export":
		o.Absent = true
	case "morvant unblock":
		o.Absent, o.Unsettled = true, true
	}
	return o
}

// remake asks whether a folder that is gone as a whole is to be made again.
func (a *App) remake(c *cli.Command) func(*lane.GoneError) error {
	return func(gone *lane.GoneError) error {
		how, question := "is gone", "Make it again?"
		if gone.Empty {
			how, question = "is empty", "Fill it again?"
		}
		a.Note("The folder of %s (%s) %s. The store still has everything that Morvant recorded.", gone.Game.Display(), gone.Dir, how)
		if gone.Own != nil {
			a.Note("snapshot/%s of %s has %s of your own. Bring them back afterwards with: morvant carry snapshot/%s",
				gone.Own.Label, view.Day(gone.Own.Made), view.Count(gone.OwnFiles, "file"), gone.Own.Label)
		}
		if c.Bool("dry-run") {
			return gone
		}
		return a.Ask(c, question)
	}
}

// ChooseGame picks the game: named, else the one around the working folder, else
// the only one. The lane is the one that is named, else the one around the working
// folder, else the live one.
func (a *App) ChooseGame(ctx context.Context, home *game.Home, c *cli.Command) (string, error) {
	home.UseLane(c.String("lane"))
	named := c.String("game")
	if dir, err := os.Getwd(); err == nil {
		g, l, err := home.Holding(ctx, dir)
		if err == nil && g != nil && (named == "" || named == g.Name) {
			if c.String("lane") == "" && !l.Live {
				home.UseLane(l.Name)
			}
			return g.Name, nil
		}
		if name, err := a.movedHere(ctx, home, c, dir); name != "" || err != nil {
			return name, err
		}
	}
	if named != "" {
		return named, nil
	}
	names, err := home.Names()
	if err != nil {
		return "", err
	}
	switch len(names) {
	case 0:
		return "", errNoGame
	case 1:
		return names[0], nil
	}
	return "", &WhichGame{names}
}

// movedHere finds a game by the marker of the folder around dir, where the live folder
// that is remembered is not there any more: it has moved here. Without a yes it is not
// taken over.
func (a *App) movedHere(ctx context.Context, home *game.Home, c *cli.Command, dir string) (string, error) {
	for ; filepath.Dir(dir) != dir; dir = filepath.Dir(dir) {
		name, is := lane.LaneAt(dir)
		if name == "" {
			continue
		}
		if named := c.String("game"); named != "" && named != name {
			return "", nil
		}
		g, err := home.Load(name)
		if err != nil {
			return "", nil // a marker of somebody else's game
		}
		l, err := home.Lane(ctx, name, is)
		if err != nil || !l.Live || l.Linked {
			return "", nil
		}
		if _, err := os.Stat(g.Live); err == nil {
			return "", nil
		}
		if err := a.TakeOver(ctx, c, home, g, dir); err != nil {
			return "", fmt.Errorf("%w (or: morvant game set -g %s --live %s)", err, name, view.Quoted(dir))
		}
		return name, nil
	}
	return "", nil
}

// SetLive makes a folder the live one of a game.
func (a *App) SetLive(ctx context.Context, home *game.Home, g *game.Game, dir string) error {
	live, err := home.LiveLane(ctx, g.Name)
	if err != nil {
		return err
	}
	if dir, err = home.CheckFolder(ctx, g.Name, live, dir); err != nil {
		return err
	}
	if _, err := home.Edit(g.Name, map[string]any{"live": dir}); err != nil {
		return err
	}
	return entry.Moved(ctx, home, g.Name, g.Live)
}

var errNoGame = problem.New("no game is registered yet", "Register one: morvant add NAME FOLDER")

// WhichGame is returned where several games could be meant.
type WhichGame struct{ Names []string }

func (e *WhichGame) Error() string { return "several games are registered" }

// LeaveFolder makes the program work from elsewhere: on some systems a folder that a
// program works in can be neither renamed nor removed. What the command line named has
// been made full by then.
func LeaveFolder(l *lane.Lane) { _ = os.Chdir(filepath.Dir(l.Dir)) }
