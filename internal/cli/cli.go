// Package cli is the command line: it reads arguments, asks, and shows what the
// core packages found and did. It is the only package that knows terminals.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"morvant/internal/lane/entry"
	"morvant/internal/lane/guard"

	"github.com/adrg/xdg"
	"github.com/charmbracelet/colorprofile"
	"github.com/urfave/cli/v3"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/store"
	"morvant/internal/upkeep"
)

// Exit codes.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitDifferent   = 3
	exitUnanswered  = 4
	exitInterrupted = 130
)

// memoryLimit is what the garbage collector aims to stay below, in bytes.
const memoryLimit = 160 << 20

// The groups of commands in the order in which a player comes to need them; help lists
// them by name.
const (
	groupGames  = "1. your games"
	groupRecord = "2. record and compare"
	groupPin    = "3. hold, and take back"
	groupLanes  = "4. several installs"
	groupSaves  = "5. saved games"
	groupFeeds  = "6. builds from elsewhere"
	groupShare  = "7. share"
	groupStore  = "8. the store"
	groupHelp   = "9. learn more"
)

// app is one run of the program.
type app struct {
	args           []string // the command line, with the program's name
	in             *os.File
	stdout, stderr *os.File
	out, err       io.Writer // with colours as far as they are wanted
	now            func() time.Time
	meter          *meter
	interrupted    <-chan struct{} // closed when the player wants to end the program
}

// Main runs the program and returns its exit code.
func Main(args []string, stdin, stdout, stderr *os.File) (code int) {
	debug.SetMemoryLimit(memoryLimit)
	debug.SetTraceback("none") // of what cannot be caught below, a player sees one line
	defer func() {
		if what := recover(); what != nil {
			fmt.Fprintln(stderr, crashed(args, what, debug.Stack(), time.Now()))
			code = exitFailed
		}
	}()
	if n := openFiles(); n < leastFiles {
		fmt.Fprintf(stderr, "morvant: only %d files may be open at once here, and Morvant needs %d. Raise the limit (ulimit -n 256), then run the command again\n", n, leastFiles)
		return exitFailed
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	// A second Ctrl-C ends the program at once; what is on disk can take it.
	context.AfterFunc(ctx, stop)
	a := &app{args: args, in: stdin, stdout: stdout, stderr: stderr, out: visible{stdout}, err: visible{stderr}, now: time.Now, interrupted: ctx.Done()}
	if notTyped(args, stdin) {
		sayHowToType(stdin, stdout)
		return exitUsage
	}
	err := checkQuotes(args)
	if err == nil {
		err = a.command().Run(ctx, completable(args))
	}
	if a.meter != nil {
		a.meter.End()
	}
	return a.report(err)
}

// leastFiles is how many files Morvant must be able to have open at once.
const leastFiles = 48

// crashed writes down a mistake of the program's own, and says so in one sentence.
func crashed(args []string, what any, stack []byte, now time.Time) string {
	said := "morvant: this is a mistake in Morvant (" + oneLine(fmt.Errorf("%v", what)) + "). Nothing is lost: the next command ends what was begun. "
	name := "morvant-crash-" + now.Format("2006-01-02-150405") + ".txt"
	text := fmt.Sprintf("Morvant %s, %s, %s\n%v\n\n%s", ownVersion(), strings.Join(args, " "), now.Format(time.RFC3339), what, stack)
	for _, dir := range []string{xdg.DataHome, os.TempDir()} {
		file := filepath.Join(dir, name)
		if os.WriteFile(file, []byte(text), 0o600) == nil {
			return said + "What happened is written down in " + file + "; please send it to those who make Morvant"
		}
	}
	return said + "It could not be written down"
}

func (a *app) command() *cli.Command {
	return &cli.Command{
		Name:      "morvant",
		Usage:     "keep a game on the build you chose, with your mods, maps and settings unharmed",
		UsageText: "morvant [-g GAME] COMMAND [OPTIONS] [ARGUMENTS]",
		Version:   ownVersion(),
		Description: "Record a game folder (add, snapshot), see what an update changed (status, diff),\n" +
			"bring the folder back to what it was (pin) and take that back too (undo).\n" +
			"Builds that you do not have come from feeds (feed add, builds, fetch).\n" +
			"What the words mean: morvant help words. Try it on made-up data: morvant demo",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "game", Aliases: []string{"g"}, Usage: "the `GAME` to work on", Sources: cli.EnvVars("MORVANT_GAME")},
			&cli.StringFlag{Name: "lane", Aliases: []string{"l"}, Usage: "the `LANE` to work on (default: the one you are in, else the live one)"},
			&cli.StringFlag{Name: "home", Usage: "the `FOLDER` for Morvant's own files", Sources: cli.EnvVars("MORVANT_HOME"), Value: filepath.Join(xdg.DataHome, "morvant"), DefaultText: "in your data folder"},
			&cli.BoolFlag{Name: "json", Usage: "write one JSON document instead of text"},
			&cli.BoolFlag{Name: "quiet", Aliases: []string{"q"}, Usage: "say nothing but results and errors"},
			&cli.BoolFlag{Name: "verbose", Usage: "list everything, not only the biggest"},
			&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "go ahead without asking"},
			&cli.StringFlag{Name: "color", Usage: "`WHEN` to use colours: auto, always, never", Value: "auto", Validator: oneOf("auto", "always", "never")},
		},
		Before:                          a.before,
		Writer:                          a.stdout,
		ErrWriter:                       a.stderr,
		OnUsageError:                    usageError,
		EnableShellCompletion:           true,
		ConfigureShellCompletionCommand: a.completionScripts,
		ShellComplete:                   a.complete,
		HideHelpCommand:                 true,
		ExitErrHandler:                  func(context.Context, *cli.Command, error) {},
		Suggest:                         true,
		Action:                          unknownCommand,
		Commands: a.all(
			a.addCommand(), a.gamesCommand(), a.gameCommand(),
			a.snapshotCommand(), a.buildsCommand(), a.identifyCommand(), a.diffCommand(), a.statusCommand(), a.verifyCommand(),
			a.feedCommand(), a.fetchCommand(),
			a.pinCommand(), a.unpinCommand(), a.undoCommand(), a.historyCommand(), a.blockCommand(), a.unblockCommand(), a.launchCommand(), a.watchCommand(), a.letUpdateCommand(),
			a.laneCommand(), a.carryCommand(), a.savesCommand(),
			a.pinfileCommand(), a.compareWithCommand(), a.exportCommand(), a.importCommand(), a.publishCommand(), a.storeCommand(), a.demoCommand(), a.helpCommand(), a.manCommand(), a.valuesCommand(),
		),
	}
}

// all gives every command the same manner with wrong usage.
func (a *app) all(list ...*cli.Command) []*cli.Command {
	for _, c := range list {
		c.OnUsageError = usageError
		c.HideHelpCommand = true
		if c.ShellComplete == nil {
			c.ShellComplete = a.complete
		}
		if len(c.Commands) > 0 {
			a.all(c.Commands...)
			if c.Action == nil {
				c.Action = unknownCommand
			}
		}
	}
	return list
}

func oneOf(values ...string) func(string) error {
	return func(s string) error {
		for _, v := range values {
			if s == v {
				return nil
			}
		}
		return fmt.Errorf("%q is none of %v", s, values)
	}
}

// before sets up the output once the global flags are known.
func (a *app) before(ctx context.Context, c *cli.Command) (context.Context, error) {
	out, err := colorprofile.NewWriter(a.stdout, os.Environ()), colorprofile.NewWriter(a.stderr, os.Environ())
	for file, w := range map[*os.File]*colorprofile.Writer{a.stdout: out, a.stderr: err} {
		if !understandsColours(file) {
			w.Profile = colorprofile.NoTTY
		}
	}
	switch c.String("color") {
	case "always":
		out.Profile, err.Profile = colorprofile.ANSI, colorprofile.ANSI
	case "never":
		out.Profile, err.Profile = colorprofile.NoTTY, colorprofile.NoTTY
	}
	a.out, a.err = visible{out}, visible{err}
	a.meter = newMeter(a.stderr, c.Bool("quiet"))
	return ctx, nil
}

// usage is an error in how the program was called.
type usage struct{ error }

func usagef(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

func usageError(_ context.Context, c *cli.Command, err error, _ bool) error {
	return usagef("%v; see %s --help", err, c.FullName())
}

func unknownCommand(_ context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usagef("there is no command %q; see %s --help", c.Args().First(), c.FullName())
	}
	return cli.ShowSubcommandHelp(c)
}

// arguments returns the positional arguments, between least and most of them.
func arguments(c *cli.Command, least, most int) ([]string, error) {
	list := c.Args().Slice()
	switch {
	case len(list) < least:
		return nil, usagef("%s needs %s; see %s --help", c.FullName(), c.ArgsUsage, c.FullName())
	case len(list) > most:
		return nil, usagef("%q is one argument too many; see %s --help", list[most], c.FullName())
	}
	return list, nil
}

// released is the version of a release; the linker sets it.
var released string

// number reads the number of a change or a backup; where says what lists them.
func number(text, of, where string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, usagef("%q is not the number of a %s; morvant %s lists them", text, of, where)
	}
	return n, nil
}

// optionalNumber reads the only argument of a command as number does; 0 if there is none.
func optionalNumber(c *cli.Command, of, where string) (int64, error) {
	args, err := arguments(c, 0, 1)
	if err != nil || len(args) == 0 {
		return 0, err
	}
	return number(args[0], of, where)
}

// ownVersion is that of a release, else it comes from the build info.
func ownVersion() string {
	if released != "" {
		return released
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	v := info.Main.Version
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && (v == "" || v == "(devel)") {
			v = "development, " + s.Value[:min(12, len(s.Value))]
		}
	}
	if v == "" || v == "(devel)" {
		return "development"
	}
	return v
}

// home opens Morvant's home. One that is named, or that there was before, is not made
// anew unless a game is being added.
func (a *app) home(ctx context.Context, c *cli.Command) (*game.Home, error) {
	dir, err := filepath.Abs(c.String("home"))
	if err != nil {
		return nil, err
	}
	adds := c.FullName() == "morvant add"
	known := homesFile()
	if !game.IsHome(dir) {
		switch before := game.KnownHome(known, dir); {
		case adds && before:
			a.note("The home that was at %s is not there: is its disk attached?", dir)
			if err := a.ask(c, "Make a new one, which knows nothing of it?"); err != nil {
				return nil, fmt.Errorf("%s: %w, and there was one: %w", dir, game.ErrNoHome, err)
			}
		case adds && c.IsSet("home"):
			a.note("A new home is made at %s.", dir)
		case before || c.IsSet("home"):
			return nil, fmt.Errorf("%w at %s", game.ErrNoHome, dir)
		}
	}
	home, err := game.OpenHomeWith(ctx, dir, game.HomeOptions{Who: c.FullName(), Now: a.now})
	if err != nil {
		return nil, err
	}
	for _, text := range home.Said {
		a.note("%s", text)
	}
	home.Warn = a.meter.Warn
	game.RememberHome(known, home.Dir())
	return home, nil
}

// homesFile is where the homes of this user are listed, apart from them: so one that is
// not there can be told from one that never was.
func homesFile() string { return filepath.Join(xdg.ConfigHome, "morvant", "homes") }

// onHome makes an action without arguments out of what a command does with the home.
func (a *app) onHome(f func(context.Context, *cli.Command, *game.Home) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if _, err := arguments(c, 0, 0); err != nil {
			return err
		}
		home, err := a.home(ctx, c)
		if err != nil {
			return err
		}
		defer home.Close()
		return f(ctx, c, home)
	}
}

// onGame is onHome for commands about one game.
func (a *app) onGame(f func(context.Context, *cli.Command, *game.Home, string) error) cli.ActionFunc {
	return a.onHome(func(ctx context.Context, c *cli.Command, home *game.Home) error {
		name, err := a.chooseGame(ctx, home, c)
		if err != nil {
			return err
		}
		return f(ctx, c, home, name)
	})
}

// withGame runs f on the game that the command is about.
func (a *app) withGame(ctx context.Context, c *cli.Command, f func(*game.Home, string) error) error {
	home, err := a.home(ctx, c)
	if err != nil {
		return err
	}
	defer home.Close()
	name, err := a.chooseGame(ctx, home, c)
	if err != nil {
		return err
	}
	return f(home, name)
}

// withLane runs f on the live lane of the game that the command is about.
func (a *app) withLane(ctx context.Context, c *cli.Command, f func(*lane.Lane, *game.Home) error) error {
	return a.withGame(ctx, c, func(home *game.Home, name string) error {
		return a.onLane(ctx, c, home, name, f)
	})
}

// withChange is withLane for commands that may change the lane.
func (a *app) withChange(ctx context.Context, c *cli.Command, f func(*lane.Lane, *game.Home) error) error {
	return a.withLane(ctx, c, a.changing(ctx, c, f))
}

// changing runs f with files let go that a block has made immutable, unless it is a
// dry run.
func (a *app) changing(ctx context.Context, c *cli.Command, f func(*lane.Lane, *game.Home) error) func(*lane.Lane, *game.Home) error {
	return func(l *lane.Lane, home *game.Home) error {
		if c.Bool("dry-run") {
			return f(l, home)
		}
		if err := guard.Loosen(ctx, l); err != nil {
			return err
		}
		return errors.Join(f(l, home), guard.Tighten(context.WithoutCancel(ctx), l))
	}
}

// onLane runs f on a lane. Where the index of the store turns out to be damaged, it is
// made anew from the packs, and f runs once more.
func (a *app) onLane(ctx context.Context, c *cli.Command, home *game.Home, name string, f func(*lane.Lane, *game.Home) error) error {
	err := a.onLaneOnce(ctx, c, home, name, f)
	if !errors.Is(err, store.ErrIndexLost) || ctx.Err() != nil {
		return err
	}
	if mendErr := upkeep.MendIndex(ctx, home); mendErr != nil {
		return err
	}
	a.note("The index of the store was damaged; it has been made anew from the packs.")
	return a.onLaneOnce(ctx, c, home, name, f)
}

func (a *app) onLaneOnce(ctx context.Context, c *cli.Command, home *game.Home, name string, f func(*lane.Lane, *game.Home) error) error {
	l, err := entry.Open(ctx, home, name, a.laneOptions(c))
	if err != nil {
		return err
	}
	for _, text := range l.Recovered {
		a.note("%s", text)
	}
	if l.Unfinished != nil {
		a.note("Note: %s.", oneLine(l.Unfinished))
	}
	return errors.Join(f(l, home), l.Close())
}

// laneOptions says how a command opens a lane.
func (a *app) laneOptions(c *cli.Command) lane.Options {
	line := a.feedOptions(c)
	o := lane.Options{Who: c.FullName(), Meter: a.meter, Now: a.now, Limit: line.Limit, Silence: line.Silence}
	switch c.FullName() {
	case "morvant pin", "morvant undo":
		o.Remake = a.remake(c)
	case "morvant verify":
		if c.Bool("repair") {
			o.Remake = a.remake(c)
		}
	case "morvant lane list", "morvant saves list", "morvant export":
		o.Absent = true
	}
	return o
}

// remake asks whether a folder that is gone as a whole is to be made again.
func (a *app) remake(c *cli.Command) func(*lane.GoneError) error {
	return func(gone *lane.GoneError) error {
		how, question := "is gone", "Make it again?"
		if gone.Empty {
			how, question = "is empty", "Fill it again?"
		}
		a.note("The folder of %s (%s) %s. What Morvant has recorded of it is in the store.", gone.Game.Display(), gone.Dir, how)
		if gone.Own != nil {
			a.note("snapshot/%s of %s has %s of your own. Bring them back afterwards with: morvant carry snapshot/%s",
				gone.Own.Label, day(gone.Own.Made), count(gone.OwnFiles, "file"), gone.Own.Label)
		}
		if c.Bool("dry-run") {
			return gone
		}
		return a.ask(c, question)
	}
}

// chooseGame picks the game: named, else the one around the working folder, else
// the only one. The lane is the one that is named, else the one around the working
// folder, else the live one.
func (a *app) chooseGame(ctx context.Context, home *game.Home, c *cli.Command) (string, error) {
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
	return "", &whichGame{names}
}

// movedHere finds a game by the marker of the folder around dir, where the live folder
// that is remembered is not there any more: it has moved here. Without a yes it is not
// taken over.
func (a *app) movedHere(ctx context.Context, home *game.Home, c *cli.Command, dir string) (string, error) {
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
		a.note("%s is not at %s any more; the marker here says that this is it.", g.Display(), g.Live)
		if err := a.ask(c, "Go on with "+dir+"?"); err != nil {
			return "", fmt.Errorf("%w (or: morvant game set -g %s --live %s)", err, name, quoted(dir))
		}
		return name, a.setLive(ctx, home, g, dir)
	}
	return "", nil
}

// setLive makes a folder the live one of a game.
func (a *app) setLive(ctx context.Context, home *game.Home, g *game.Game, dir string) error {
	live, err := home.LaneName(ctx, g.Name)
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

var errNoGame = errors.New("no game is registered yet")

type whichGame struct{ names []string }

func (e *whichGame) Error() string { return "several games are registered" }

// emit writes a JSON document.
func (a *app) emit(v any) error {
	e := json.NewEncoder(a.stdout)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// say writes a line of the result.
func (a *app) say(format string, args ...any) { fmt.Fprintf(a.out, format+"\n", args...) }

// note writes a line beside the result.
func (a *app) note(format string, args ...any) {
	a.meter.pause()
	fmt.Fprintf(a.err, format+"\n", args...)
}
