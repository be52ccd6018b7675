package hold

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/block"
	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/change"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/status"
	"morvant/internal/lanes"
	"morvant/internal/process"
	"morvant/internal/userpath"
	"morvant/internal/version"
	"morvant/internal/watch"
)

func (a commands) launchCommand() *cli.Command {
	return &cli.Command{
		Name: "launch", Usage: "check the game and start its program directly", ArgsUsage: "[LANE] [-- ARGUMENTS...]", Category: app.GroupPin,
		Description: "Example: morvant launch -- --windowed\n         morvant launch current\n\n" +
			"With LANE it starts that lane where it lies; with --live it switches to it first. Checks that the folder is as it\n" +
			"should be and that the block holds, starts the program (morvant game set --program, --argument) in its own folder, and\n" +
			"tells which version it reports. When the game has ended, the folder is looked at again; --repair restores it. Passes on\n" +
			"the program's exit code; 3 if the game reported another build than it is held at.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "check-only", Aliases: []string{"dry-run", "n"}, Usage: "check, and start nothing"},
			&cli.BoolFlag{Name: "live", Usage: "make the lane the live one first"},
			&cli.BoolFlag{Name: "repair", Usage: "after the game, restore what has changed of the build"},
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
			return a.WithGame(ctx, c, func(home *game.Home, name string) error {
				g, err := home.Load(name)
				if err != nil {
					return err
				}
				if c.Bool("live") {
					err = a.switchFor(ctx, c, home, name, to)
				} else if to != "" {
					home.UseLane(to)
				}
				if err != nil {
					return err
				}
				is, err := home.Lane(ctx, name, "")
				if err != nil {
					return err
				}
				if !is.Live && to == "" && switchedAway(g.Live) { // the window stands in the folder of a lane that is parked by now
					live, err := home.LiveLane(ctx, name)
					if err != nil {
						return err
					}
					a.Note("This is the folder of lane %s, which is parked; the live lane, %s, is started. The parked one: morvant launch %s", is.Name, live, view.Quoted(is.Name))
					home.UseLane("")
					if is, err = home.Lane(ctx, name, live); err != nil {
						return err
					}
				}
				if !is.Live && g.SavesPerLane && !c.Bool("check-only") {
					return app.Refusef("lane %s has saves of its own, which are in their place only while it is live: morvant launch --live %s", is.Name, view.Quoted(is.Name))
				}
				if err := a.fit(ctx, c, home, name); err != nil {
					return err
				}
				if c.Bool("check-only") {
					return nil
				}
				a.backUp(ctx, c, home, name, "before lane "+is.Name+" was started")
				p := &launching{commands: a, c: c, home: home, g: g, dir: g.Folder(is)}
				return p.play(ctx, args)
			})
		},
	}
}

// switchedAway reports whether the working folder was the live one when the shell went there, and has been parked since: by its
// own account the shell still stands in the live folder.
func switchedAway(live string) bool {
	here, err := os.Stat(".")
	there, errThere := os.Stat(os.Getenv("PWD"))
	return err == nil && errThere == nil && userpath.Within(os.Getenv("PWD"), live) && !os.SameFile(here, there)
}

// backUp backs up the saves before a lane is started, and after it was played: another build may write them in its own way.
func (a commands) backUp(ctx context.Context, c *cli.Command, home *game.Home, name, why string) {
	err := func() (err error) {
		session, err := a.OpenLaneOf(ctx, c, home, name, app.ToLook)
		if err != nil {
			return err
		}
		defer session.Close(&err)
		b, fresh, err := backup.Make(ctx, session.Lane, why)
		if err == nil && fresh {
			a.Note("The saves are backed up (%d).", b.ID)
		}
		return err
	}()
	if err != nil && ctx.Err() == nil {
		a.Note("Note: the saves are not backed up: %s", view.OneLine(err))
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

// switchFor makes the lane to be launched the live one. Nothing is switched if nothing is to be started.
func (a commands) switchFor(ctx context.Context, c *cli.Command, home *game.Home, name, to string) error {
	if to == "" {
		is, err := home.Lane(ctx, name, "")
		if err != nil {
			return err
		}
		to = is.Name
	}
	if c.Bool("check-only") {
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
	if c.Bool("check-only") && s.Build != nil && slices.ContainsFunc(s.Block, func(b block.State) bool { return !b.Holds }) {
		for _, b := range s.Block {
			if b.Holds {
				continue
			}
			why := view.FirstNonEmpty(view.Broke(b), b.Rule.Describe())
			if err := guard.Cannot(ctx, l, b.Rule); b.Broke == block.NotSet && err != nil {
				why = view.OneLine(err)
			}
			a.Note("  the block does not hold: %s", why)
		}
		return app.ErrDifferent
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
	p, err := propose.Repair(ctx, l, nil)
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

// launching is a game that is played.
type launching struct {
	commands
	c    *cli.Command
	home *game.Home
	g    *game.Game
	dir  string // of the lane
	// ran are the processes that ran from its folder before, and unfit says that at the last look it was not as it should be.
	ran   map[int]bool
	unfit bool
}

// play starts the game, waits for its end, and looks at the folder afterwards.
func (a *launching) play(ctx context.Context, args []string) error {
	said, err := a.start(ctx, args)
	if again := a.lookAfter(ctx); err == nil {
		err = again
	}
	if other := a.reportsOther(ctx, said); err == nil && other {
		return app.ErrDifferent
	}
	return err
}

// start starts the game, waits for its end, and returns the version that it has reported.
func (a *launching) start(ctx context.Context, args []string) (said string, err error) {
	c, g, dir := a.c, a.g, a.dir
	through := c.String("through")
	if !c.IsSet("through") {
		through = g.Through
	}
	name := through
	if name == "" {
		if g.Program == "" {
			return "", app.Usagef("Morvant does not know which program to start: morvant game set --program FILE")
		}
		name = filepath.Join(dir, filepath.FromSlash(g.Program))
		args = slices.Concat(g.Arguments, args)
	}
	if err := process.Batch(name, filepath.Dir(name), args); err != nil {
		return "", err
	}
	cmd := process.Program(name, args...)
	cmd.Dir = filepath.Dir(name)
	if through != "" {
		if _, err := exec.LookPath(through); err != nil && strings.ContainsAny(through, " \t") { // a command line
			if cmd, err = process.Shell(ctx, through, dir); err != nil {
				return "", err
			}
			cmd.Cancel = func() error { return nil } // the game gets the Ctrl-C as well
			if len(args) > 0 {
				return "", app.Usagef("arguments for the game go into --through itself: --through %s", view.Quoted(through+" "+view.QuotedAll(args)))
			}
		}
		cmd.Dir = dir
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = a.In, a.Stdout, a.Stderr
	before := a.lookAtReports()
	a.ran = make(map[int]bool)
	if list, err := process.In(dir); err == nil {
		for _, r := range list {
			a.ran[r.PID] = true
		}
	}
	if err := cmd.Start(); err != nil {
		return "", fmt.Errorf("start %s: %w", name, err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	over := false
	select {
	case err = <-ended:
		over = true
	case <-time.After(c.Duration("wait")):
	case <-ctx.Done(): // the game gets the Ctrl-C as well
	}
	said = a.reported(before, true)
	if !over {
		err = <-ended
		if later := a.reported(before, false); said == "" {
			said = later
		}
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return said, &app.ExitCode{Code: exit.ExitCode()}
	}
	return said, err
}

// versionLike is what the label of a build looks like that is a version.
var versionLike = regexp.MustCompile(`\d+\.\d+`)

// reportsOther says, last of all, that the game has reported another known build than it is held at.
func (a *launching) reportsOther(ctx context.Context, said string) bool {
	if said == "" {
		return false
	}
	s, err := a.glance(ctx, a.c, a.home, a.g.Name)
	if err != nil || s.Build == nil {
		return false
	}
	builds, err := a.home.Builds(ctx, a.g.Name)
	if err != nil {
		return false
	}
	var labels, same []string
	for _, b := range builds {
		list := append([]string{b.Label}, b.Also...)
		if labels = append(labels, list...); b.Digest() == s.Build.Digest() {
			same = append(same, list...)
		}
	}
	// A label that is no version says nothing about one.
	same = slices.DeleteFunc(same, func(l string) bool { return !versionLike.MatchString(l) })
	if len(same) == 0 || slices.ContainsFunc(same, func(l string) bool { return version.Means(said, l) }) || len(identify.Disagrees([]identify.Evidence{{Says: said}}, same[0], labels)) == 0 {
		return false
	}
	a.Note("%s", view.Paint(view.Bad, fmt.Sprintf("The game reported version %s, and it is held at %s. Perhaps it was started from another folder, or its launcher has updated it.", said, s.Build.Label)))
	return true
}

// lookAfter looks at the folder once the game has ended, and a little later, and says where it is
// not as it should be: an update may begin at that very moment, or the launcher may have handed over to
// a game that still runs. What runs and writes there is followed until it is calm: nothing is mended in the middle of it.
func (a *launching) lookAfter(ctx context.Context) error {
	if err := a.handedOver(ctx); err != nil {
		return nil // the player has had enough
	}
	a.backUp(ctx, a.c, a.home, a.g.Name, "after the game was played")
	said, held := a.sayUnfit(ctx, "")
	again := a.c.Duration("look-again")
	calm := true
	if held && again > 0 {
		if calm = a.calm(ctx, again); calm || ctx.Err() != nil {
			said, _ = a.sayUnfit(ctx, said)
		}
	}
	if said == "" || !a.c.Bool("repair") || !calm {
		return nil
	}
	return a.repair(ctx)
}

// stall is how many looks in a row nothing may change while somebody looks as if they were at work.
const stall = 30

// every is how often what runs from the game's folder is looked at.
const every = 250 * time.Millisecond

// handedOver waits for what runs from the game's folder and did not before: what was started may have been a launcher that has
// ended since.
func (a *launching) handedOver(ctx context.Context) error {
	told := false
	for {
		list, err := process.In(a.dir)
		list = slices.DeleteFunc(list, func(r process.Running) bool { return a.ran[r.PID] })
		if err != nil || len(list) == 0 {
			return nil
		}
		if !told {
			a.Note("Waiting: %s (process %d) still runs.", filepath.Base(list[0].Path), list[0].PID)
			told = true
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(every):
		}
	}
}

// calm waits until nothing has changed in the folder for a while and nobody is at work in it. It returns false if the player has
// had enough before.
func (a *launching) calm(ctx context.Context, quiet time.Duration) bool {
	was, told := "", ""
	for rests := 0; ; rests++ {
		select {
		case <-ctx.Done():
			return false
		case <-time.After(quiet):
		}
		is, busy, err := a.busy(ctx)
		switch {
		case errors.Is(err, game.ErrBusy): // a watch, which sees to it by itself
			return false
		case err != nil:
			a.Note("Note: %s", view.OneLine(err))
			return false
		case len(busy) == 0 && (is == was || was == "" && !a.unfit):
			return true
		}
		if is != was {
			rests = 0
		} else if rests > stall {
			a.Note("Nothing has changed for a while, but: %s. Restore the build when it is over: morvant verify --repair", strings.Join(busy, "; "))
			return false
		}
		if text := strings.Join(busy, "; "); text != "" && text != told {
			told = text
			a.Note("Waiting: %s.", text)
		}
		was = is
	}
}

// busy says how the folder stands, and who is at work in it.
func (a *launching) busy(ctx context.Context) (sketch string, by []string, err error) {
	session, err := a.OpenLaneOf(ctx, a.c, a.home, a.g.Name, app.ToLook)
	if err != nil {
		return "", nil, err
	}
	defer session.Close(&err)
	s, err := status.Of(ctx, session.Lane, status.Whole)
	if err != nil {
		return "", nil, err
	}
	a.unfit = s.Trouble()
	by, err = watch.Busy(session.Lane, s, a.ran)
	return watch.Sketch(s), by, err
}

// repair restores what has changed of the build while the game ran.
func (a *launching) repair(ctx context.Context) (err error) {
	session, err := a.OpenLaneOf(ctx, a.c, a.home, a.g.Name, app.ToChange)
	if err != nil {
		return err
	}
	defer session.Close(&err)
	p, err := propose.Repair(ctx, session.Lane, nil)
	if err != nil || p.Plan.Empty() {
		return err
	}
	if err := change.Ready(session.Lane, p); err != nil {
		return err
	}
	if err := change.CarryOut(ctx, session.Lane, p); err != nil {
		return err
	}
	a.Note("%s", view.Outcome(session.Lane, p))
	return nil
}

// sayUnfit says how a held lane is not as it should be, unless just that has been said already.
func (a *launching) sayUnfit(ctx context.Context, before string) (said string, held bool) {
	s, err := a.glance(ctx, a.c, a.home, a.g.Name)
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
		a.Note("After the game: %s. %s", said, restoring(a.c))
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
func (a *launching) lookAtReports() []version.Seen {
	list := make([]version.Seen, len(a.g.Version))
	root, err := os.OpenRoot(a.dir)
	if err != nil {
		return list
	}
	defer root.Close()
	for i, r := range a.g.Version {
		list[i] = version.Look(root, r)
	}
	return list
}

// reported returns the version that the game has reported since it was started, and says it; aloud says
// also that there is none.
func (a *launching) reported(before []version.Seen, aloud bool) string {
	root, err := os.OpenRoot(a.dir)
	if err != nil {
		return ""
	}
	defer root.Close()
	for i, r := range a.g.Version {
		if v, err := version.Since(root, r, before[i]); err == nil {
			if aloud {
				a.Note("It reports version %s (%s).", view.Strong(v), r.File)
			}
			return v
		}
	}
	if !aloud {
		return ""
	}
	says, err := identify.Says(a.dir, a.g.Program, nil)
	if err == nil && len(says) > 0 {
		a.Note("Its program file has version %s (%s). The running game has reported none; a version rule tells where to look.", says[0].Says, says[0].Source)
		return ""
	}
	a.Note("It has reported no version.")
	return ""
}

// restoring says what brings the build's files back after a game.
func restoring(c *cli.Command) string {
	if c.Bool("repair") {
		return "It is restored."
	}
	return "Restore it: morvant verify --repair"
}
