// Package cli is the command line: it reads arguments, asks, and shows what the
// core packages found and did. Only it and the packages below it know terminals.
package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/adrg/xdg"
	"github.com/charmbracelet/colorprofile"
	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/demo"
	"morvant/internal/cli/feeds"
	"morvant/internal/cli/games"
	"morvant/internal/cli/help"
	"morvant/internal/cli/hold"
	"morvant/internal/cli/installs"
	"morvant/internal/cli/mods"
	"morvant/internal/cli/record"
	"morvant/internal/cli/saves"
	"morvant/internal/cli/share"
	"morvant/internal/cli/store"
	"morvant/internal/cli/view"
	"morvant/internal/exchange"
	"morvant/internal/process"
	"morvant/internal/standin/clerk"
	"morvant/internal/state"
)

// memoryLimit is what the garbage collector aims to stay below, in bytes: a game of 300,000 files takes some 200 MB, and close to
// the limit collecting takes half the time.
const memoryLimit = 600 << 20

// Main runs the program and returns its exit code.
func Main(args []string, stdin, stdout, stderr *os.File) (code int) {
	return MainAt(time.Now, args, stdin, stdout, stderr)
}

// MainAt is Main by another clock.
func MainAt(now func() time.Time, args []string, stdin, stdout, stderr *os.File) (code int) {
	if clerk.Is(args[0]) {
		return clerk.Run(stdin, stdout, stderr)
	}
	switch {
	case process.Is(args, process.KeeperName):
		return process.Keeper(args[1:])
	case process.Is(args, process.ContainedName):
		return process.ContainedMain(exchange.Memory, exchange.Unpack)
	}
	debug.SetMemoryLimit(memoryLimit)
	debug.SetTraceback("none") // of what cannot be caught below, a player sees one line
	defer func() {
		if what := recover(); what != nil {
			fmt.Fprintln(stderr, crashed(args, what, debug.Stack(), now()))
			code = app.ExitFailed
		}
	}()
	if n := openFiles(); n < leastFiles {
		fmt.Fprintf(stderr, "morvant: only %d files may be open at once here, and Morvant needs %d. Raise the limit (ulimit -n 256), then run the command again\n", n, leastFiles)
		return app.ExitFailed
	}
	if n := addressSpace(); n < leastSpace {
		fmt.Fprintf(stderr, "morvant: only %d MB of address space is allowed here, and Morvant needs %d MB. Raise the limit (ulimit -v unlimited), then run the command again\n", n>>20, leastSpace>>20)
		return app.ExitFailed
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	// A second Ctrl-C ends the program at once; what is on disk can take it.
	context.AfterFunc(ctx, stop)
	a := &app.App{Args: args, In: stdin, Stdout: stdout, Stderr: stderr, Out: view.Visibly(stdout), Err: view.Visibly(stderr), Now: now, Version: ownVersion(), Interrupted: ctx.Done()}
	if notTyped(args, stdin) {
		sayHowToType(stdin, stdout)
		return app.ExitUsage
	}
	help.Fit(a.Width)
	err := checkQuotes(args)
	if err == nil {
		root := command(a)
		err = root.Run(ctx, help.Completable(args))
		if a.Mended(ctx, root, err) {
			err = command(a).Run(ctx, help.Completable(args))
		}
	}
	if a.Meter != nil {
		a.Meter.End()
	}
	return report(a, err)
}

// leastSpace is how much address space Morvant needs, in bytes: most of it is only reserved, by the runtime of its language, which
// does not even start with less than some 700 MB.
const leastSpace = 2 << 30

// leastFiles is how many files Morvant must be able to have open at once.
const leastFiles = 48

// crashed writes down a mistake of the program's own, and says so in one sentence.
func crashed(args []string, what any, stack []byte, now time.Time) string {
	said := "morvant: Morvant itself has made a mistake (" + view.OneLine(fmt.Errorf("%v", what)) + "). Nothing is lost: the next command finishes what this one began. "
	name := "morvant-crash-" + now.Format("2006-01-02-150405") + ".txt"
	text := fmt.Sprintf("Morvant %s, %s, %s\n%v\n\n%s", ownVersion(), strings.Join(args, " "), now.Format(time.RFC3339), what, stack)
	for _, dir := range []string{xdg.DataHome, os.TempDir()} {
		file := filepath.Join(dir, name)
		if os.WriteFile(file, []byte(text), 0o600) == nil {
			return said + "The details are in " + file + "; please send that file to the makers of Morvant"
		}
	}
	return said + "The details could not be saved"
}

func command(a *app.App) *cli.Command {
	root := commandTree(a)
	oneValue(root)
	return root
}

// oneValue makes each option that may be repeated take its value as it is: a comma may stand in a
// pattern, a path or a command.
func oneValue(c *cli.Command) {
	c.DisableSliceFlagSeparator = true
	for _, sub := range c.Commands {
		oneValue(sub)
	}
}

func commandTree(a *app.App) *cli.Command {
	complete := help.Complete(a)
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
			&cli.StringFlag{Name: "color", Usage: "`WHEN` to use colours: auto, always, never", Value: "auto", Validator: app.OneOf("auto", "always", "never")},
		},
		Before:                          func(ctx context.Context, c *cli.Command) (context.Context, error) { return before(ctx, a, c) },
		Writer:                          a.Stdout,
		ErrWriter:                       a.Stderr,
		OnUsageError:                    usageError,
		EnableShellCompletion:           true,
		ConfigureShellCompletionCommand: help.CompletionScripts(a),
		ShellComplete:                   complete,
		HideHelpCommand:                 true,
		ExitErrHandler:                  func(context.Context, *cli.Command, error) {},
		Suggest:                         true,
		Action:                          unknownCommand,
		Commands: all(complete, slices.Concat(
			games.Commands(a), record.Commands(a), feeds.Commands(a), hold.Commands(a), installs.Commands(a), mods.Commands(a), saves.Commands(a),
			share.Commands(a), store.Commands(a), demo.Commands(a), help.Commands(a),
		)),
	}
}

// takeLane lists the commands that work on one lane, and so take --lane. All others refuse it.
var takeLane = []string{
	"snapshot", "builds", "identify", "diff", "status", "verify",
	"pin", "unpin", "undo", "history", "block", "unblock", "launch", "watch", "let-update",
	"game move", "lane new", "lane switch", "lane share", "lane unshare", "carry", "saves backup", "saves restore", "saves stash",
	"mods record", "mods show", "mods rename", "mods remove", "mods lay", "mods lift", "mods share", "mods take", "fetch", "pinfile write", "pinfile show", "pinfile apply", "compare-with", "export",
}

// all gives every command the same manner with wrong usage.
func all(complete cli.ShellCompleteFunc, list []*cli.Command) []*cli.Command {
	for _, c := range list {
		c.OnUsageError = usageError
		c.HideHelpCommand = true
		if c.ShellComplete == nil {
			c.ShellComplete = complete
		}
		if len(c.Commands) > 0 {
			ofItself(c.Flags)
			all(complete, c.Commands)
			if c.Action == nil {
				c.Action = unknownCommand
			}
		}
		act := c.Action
		c.Action = func(ctx context.Context, c *cli.Command) error {
			if !slices.Contains(takeLane, strings.TrimPrefix(c.FullName(), "morvant ")) {
				if err := app.RefuseLane(c); err != nil {
					return err
				}
			}
			if err := app.OptionsAtHome(c); err != nil {
				return err
			}
			return act(ctx, c)
		}
	}
	return list
}

// ofItself makes options those of a command alone, and not of the commands within it.
func ofItself(flags []cli.Flag) {
	for _, f := range flags {
		switch f := f.(type) {
		case *cli.StringFlag:
			f.Local = true
		case *cli.BoolFlag:
			f.Local = true
		case *cli.IntFlag:
			f.Local = true
		case *cli.DurationFlag:
			f.Local = true
		case *cli.StringSliceFlag:
			f.Local = true
		}
	}
}

// before sets up the output once the global flags are known.
func before(ctx context.Context, a *app.App, c *cli.Command) (context.Context, error) {
	out, err := colorprofile.NewWriter(a.Stdout, os.Environ()), colorprofile.NewWriter(a.Stderr, os.Environ())
	for file, w := range map[*os.File]*colorprofile.Writer{a.Stdout: out, a.Stderr: err} {
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
	a.Out, a.Err = view.Visibly(out), view.Visibly(err)
	a.Meter = app.NewMeter(a.Stderr, c.Bool("quiet"))
	return ctx, nil
}

func usageError(_ context.Context, c *cli.Command, err error, _ bool) error {
	return app.Usagef("%v; see %s --help", err, c.FullName())
}

func unknownCommand(_ context.Context, c *cli.Command) error {
	if c.Args().Present() {
		var names []string
		for _, sub := range c.Commands {
			if !sub.Hidden {
				names = append(names, sub.Name)
			}
		}
		return app.Usagef("%v; see %s --help", &state.UnknownError{Kind: "command", Name: c.Args().First(), Near: state.Nearest(c.Args().First(), names)}, c.FullName())
	}
	return cli.ShowSubcommandHelp(c)
}

// released is the version of a release; the linker sets it.
var released string

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
