package hold

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/status"
	"morvant/internal/lanes"
	"morvant/internal/process"
	"morvant/internal/version"
)

func (a commands) launchCommand() *cli.Command {
	return &cli.Command{
		Name: "launch", Usage: "check the game and start its program directly", ArgsUsage: "[LANE] [-- ARGUMENTS...]", Category: app.GroupPin,
		Description: "Example: morvant launch -- --windowed\n         morvant launch current\n\n" +
			"With LANE it switches to that lane first. " +
			"Checks that the folder is as it should be and that the block holds, starts the program (morvant game set --program)\n" +
			"in its own folder, and tells which version it reports. Passes on the program's exit code.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "check-only", Aliases: []string{"dry-run", "n"}, Usage: "check, and start nothing"},
			&cli.StringFlag{Name: "through", Usage: "start this `COMMAND` instead, with its arguments: the launcher, say"},
			&cli.DurationFlag{Name: "wait", Usage: "how long to wait for the game to report its version: `TIME`", Value: 3 * time.Second},
			&cli.DurationFlag{Name: "look-again", Usage: "how long after the game has ended to look once more: `TIME`, as some launchers update then; 0: not at all", Value: 3 * time.Second},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			to, args, err := a.laneToLaunch(c)
			if err != nil {
				return err
			}
			if named := c.String("lane"); named != "" {
				if to != "" && to != named {
					return app.Usagef("--lane %s and %s name two lanes; choose one", named, to)
				}
				to = named
			}
			home, name, err := a.OpenGame(ctx, c)
			if err != nil {
				return err
			}
			defer home.Close()
			g, err := home.Load(name)
			if err != nil {
				return err
			}
			if err := a.laneFor(ctx, c, home, name, to); err != nil {
				return err
			}
			if err := a.fit(ctx, c, home, name); err != nil {
				return err
			}
			if c.Bool("check-only") {
				return nil
			}
			err = a.launch(ctx, c, g, args)
			a.lookAfter(ctx, c, home, name)
			return err
		},
	}
}

// laneToLaunch returns the lane that is named before the game's own arguments, and
// these: they stand behind --.
func (a commands) laneToLaunch(c *cli.Command) (to string, args []string, err error) {
	args = c.Args().Slice()
	own := 0
	if i := slices.Index(a.Args, "--"); i >= 0 {
		own = len(a.Args) - i - 1
	}
	named := len(args) - own
	switch {
	case named > 1:
		return "", nil, app.Usagef("put -- before the game's own arguments: morvant launch -- %s", view.QuotedAll(args))
	case named == 1:
		return args[0], args[1:], nil
	}
	return "", args, nil
}

// laneFor sees to it that the lane to be launched is the live one. It is looked at where it stands if
// nothing is to be started.
func (a commands) laneFor(ctx context.Context, c *cli.Command, home *game.Home, name, to string) error {
	if to == "" {
		is, err := home.Lane(ctx, name, "")
		if err != nil {
			return err
		}
		if !is.Live && !c.Bool("check-only") {
			return app.Refusef("you are in the folder of lane %s, which is parked; morvant launch %s switches to it and starts it", is.Name, is.Name)
		}
		return nil
	}
	if c.Bool("check-only") {
		if _, err := home.Lane(ctx, name, to); err != nil {
			return err
		}
		home.UseLane(to)
		return nil
	}
	return a.switchTo(ctx, c, home, name, to)
}

// switchTo makes a lane the live one, if it is not.
func (a commands) switchTo(ctx context.Context, c *cli.Command, home *game.Home, game, name string) (err error) {
	home.UseLane("")
	session, err := a.OpenLaneOf(ctx, c, home, game, app.ToLook)
	if err != nil {
		return err
	}
	defer session.Close(&err)
	l := session.Lane
	if name == l.Name {
		return nil
	}
	app.LeaveFolder(l)
	next, err := lanes.Switch(ctx, l, name)
	if err != nil {
		return err
	}
	a.Note("Lane %s is live now; lane %s is parked.", name, l.Name)
	return next.Close()
}

// fit checks that the lane can be started, and asks where it is not as it should be.
func (a commands) fit(ctx context.Context, c *cli.Command, home *game.Home, name string) (err error) {
	session, err := a.OpenLaneOf(ctx, c, home, name, app.ToChange)
	if err != nil {
		return err
	}
	defer session.Close(&err)
	l := session.Lane
	s, err := status.Of(ctx, l, status.Glance)
	if err != nil {
		return err
	}
	if s.OnlyCompanions() && !s.Running && !c.Bool("check-only") {
		if s, err = a.writeCompanions(ctx, l); err != nil {
			return err
		}
	}
	if gone := view.GoneLine(s); gone != "" {
		a.Note("%s", gone)
	}
	a.Note("%s", view.Headline(s))
	if line := view.BlockLine(s); line != "" {
		a.Note("  updates: %s", line)
	}
	if c.Bool("check-only") && c.Bool("json") {
		if err := a.Emit(view.ToStatusJSON(s)); err != nil {
			return err
		}
	}
	if s.Running {
		return lane.ErrRunning
	}
	if s.Drift == nil || !s.Drift.Any() && (s.Sure() || !c.Bool("check-only")) {
		return nil
	}
	if u := s.Drift.Update; u != nil {
		a.Note("  It looks like an update to %s, %s.", u.Build.Label, view.FirstNonEmpty(view.Incomplete(u), "all of it"))
	}
	if c.Bool("check-only") {
		return app.ErrDifferent
	}
	return a.Ask(c, "Start it anyway? (morvant verify --repair restores it)")
}

// writeCompanions brings back the small files that a build needs, where nothing else
// has drifted.
func (a commands) writeCompanions(ctx context.Context, l *lane.Lane) (*status.Status, error) {
	p, err := change.ProposeRepair(ctx, l, nil)
	if err != nil {
		return nil, err
	}
	if err := change.CarryOut(ctx, l, p); err != nil {
		return nil, err
	}
	for i := range p.Plan.Steps {
		if p.Plan.Steps[i].Writes() {
			a.Note("Wrote %s, which the build needs.", p.Plan.Steps[i].Path)
		}
	}
	return status.Of(ctx, l, status.Glance)
}

func (a commands) launch(ctx context.Context, c *cli.Command, g *game.Game, args []string) error {
	name := c.String("through")
	if name == "" {
		if g.Program == "" {
			return app.Usagef("Morvant does not know which program to start: morvant game set --program FILE")
		}
		name = filepath.Join(g.Live, filepath.FromSlash(g.Program))
	}
	cmd := process.Program(name, args...)
	cmd.Dir = filepath.Dir(name)
	if through := c.String("through"); through != "" {
		if _, err := exec.LookPath(through); err != nil && strings.ContainsAny(through, " \t") { // a command line
			cmd = process.Shell(ctx, through)
			cmd.Cancel = func() error { return nil } // the game gets the Ctrl-C as well
			if len(args) > 0 {
				return app.Usagef("arguments for the game go into --through itself: --through %s", view.Quoted(through+" "+view.QuotedAll(args)))
			}
		}
		cmd.Dir = g.Live
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = a.In, a.Stdout, a.Stderr
	before := lookAtReports(g)
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start %s: %w", name, err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	var err error
	over := false
	select {
	case err = <-ended:
		over = true
	case <-time.After(c.Duration("wait")):
	case <-ctx.Done(): // the game gets the Ctrl-C as well
	}
	a.reported(g, before)
	if !over {
		err = <-ended
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return &app.ExitCode{Code: exit.ExitCode()}
	}
	return err
}

// lookAfter looks at the folder once the game has ended, and a little later, and says where it is
// not as it should be: an update may begin at that very moment.
func (a commands) lookAfter(ctx context.Context, c *cli.Command, home *game.Home, name string) {
	said, held := a.sayUnfit(ctx, c, home, name, "")
	again := c.Duration("look-again")
	if !held || again <= 0 {
		return
	}
	select {
	case <-ctx.Done():
	case <-time.After(again):
		a.sayUnfit(ctx, c, home, name, said)
	}
}

// sayUnfit says how a held lane is not as it should be, unless just that has been said already.
func (a commands) sayUnfit(ctx context.Context, c *cli.Command, home *game.Home, name, before string) (said string, held bool) {
	s, err := a.glance(ctx, c, home, name)
	switch {
	case errors.Is(err, game.ErrBusy): // a watch, which tells by itself
		return before, true
	case err != nil:
		a.Note("Note: %s", view.OneLine(err))
		return before, true
	case !s.Trouble():
		return "", s.Build != nil
	}
	if said = view.DescribeEvent(s); said != before {
		a.Note("After the game: %s. Restore it: morvant verify --repair", said)
	}
	return said, true
}

func (a commands) glance(ctx context.Context, c *cli.Command, home *game.Home, name string) (s *status.Status, err error) {
	session, err := a.OpenLaneOf(ctx, c, home, name, app.ToLook)
	if err != nil {
		return nil, err
	}
	defer session.Close(&err)
	return status.Of(ctx, session.Lane, status.Glance)
}

// lookAtReports remembers where the game says its version, as it is before it is started.
func lookAtReports(g *game.Game) []version.Seen {
	list := make([]version.Seen, len(g.Version))
	root, err := os.OpenRoot(g.Live)
	if err != nil {
		return list
	}
	defer root.Close()
	for i, r := range g.Version {
		list[i] = version.Look(root, r)
	}
	return list
}

// reported says which version the game has said to be since it was started.
func (a commands) reported(g *game.Game, before []version.Seen) {
	root, err := os.OpenRoot(g.Live)
	if err != nil {
		return
	}
	defer root.Close()
	for i, r := range g.Version {
		if v, err := version.Since(root, r, before[i]); err == nil {
			a.Note("It reports version %s (%s).", view.Strong(v), r.File)
			return
		}
	}
	says, err := identify.Says(g.Live, g.Program, nil)
	if err == nil && len(says) > 0 {
		a.Note("Its program file has version %s (%s). The running game has reported none; a version rule tells where to look.", says[0].Says, says[0].Source)
		return
	}
	a.Note("It has reported no version.")
}
