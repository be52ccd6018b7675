package hold

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/record"
	"morvant/internal/lane/status"
	"morvant/internal/lanes"
	"morvant/internal/process"
	"morvant/internal/state"
	"morvant/internal/watch"
)

// What let-update does once the update is there.
const (
	thenPin  = "pin"
	thenBack = "back"
	thenStay = "stay"
)

func (a commands) letUpdateCommand() *cli.Command {
	return &cli.Command{
		Name: "let-update", ArgsUsage: "[LANE]", Usage: "let an update in, record it, then hold it or go back", Category: app.GroupPin,
		Description: "Example: morvant let-update\n         morvant let-update --after \"./launcher --update\" --then back\n\n" +
			"Removes the block, waits until the launcher is done and the folder is quiet, records the new build under the\n" +
			"version that it reports, and asks whether to hold it or to go back. Ctrl-C while it waits sets the block again.\n" +
			"An update is done when the folder is a complete known build. If it is not, or something looks unfinished, Morvant\n" +
			"tells you, and you confirm that it is done: with Enter, or with let-update --done in another window.",
		Flags: []cli.Flag{
			app.ChangeFlags()[0],
			&cli.StringFlag{Name: "after", Usage: "a `COMMAND` that updates the game; without one, update it in the launcher"},
			&cli.StringFlag{Name: "then", Usage: "what to do then, without asking: `WHAT` of pin, back, stay", Validator: app.OneOf(thenPin, thenBack, thenStay)},
			&cli.StringFlag{Name: "label", Usage: "the `LABEL` for the new build, which then need not be a known one"},
			&cli.BoolFlag{Name: "done", Usage: "tell a let-update that waits in another window that the update is complete"},
			&cli.DurationFlag{Name: "calm", Usage: "how long nothing must change until the update counts as done: `TIME`", Value: 20 * time.Second},
			app.ForceFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			args, err := app.Arguments(c, 0, 1)
			if err != nil {
				return err
			}
			to := c.String("lane")
			if len(args) == 1 {
				if to != "" && to != args[0] {
					return app.Usagef("--lane %s and %s name two lanes; choose one", to, args[0])
				}
				to = args[0]
			}
			if c.Bool("done") {
				return a.sayDone(ctx, c)
			}
			return a.WithLane(ctx, c, app.ForUpdates, func(l *lane.Lane) error {
				if c.Bool("dry-run") {
					return a.Done(c, "This was a dry run; nothing was changed. It would take the block off "+l.Game.Display()+", wait for the update, record it, and ask whether to hold it.")
				}
				app.LeaveFolder(l) // which the launcher may want to move
				return a.letUpdateIn(ctx, c, l, l.Home, to)
			})
		},
	}
}

// letUpdateIn takes the update in the lane that is named; else in the live one, or where that is held and
// another one follows updates, in that. The live one is put back afterwards.
func (a commands) letUpdateIn(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, to string) error {
	all, err := home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return err
	}
	if to == "" {
		var follow []string
		for _, o := range all {
			if o.Follows {
				follow = append(follow, o.Name)
			}
		}
		switch {
		case len(follow) == 0 || slices.Contains(follow, l.Name):
			to = l.Name
		case len(follow) > 1:
			return app.Usagef("lane %s is held, and several others follow updates; say which: morvant let-update %s", l.Name, strings.Join(follow, "|"))
		default:
			to = follow[0]
		}
	} else if !slices.ContainsFunc(all, func(o *state.Lane) bool { return o.Name == to }) {
		_, err := home.Lane(ctx, l.Game.Name, to)
		return err
	}
	if to == l.Name {
		return a.letUpdate(ctx, c, l)
	}
	next, err := lanes.Switch(ctx, l, to)
	if err != nil {
		return err
	}
	a.Note("Lane %s is live now, to take the update.", to)
	err = a.letUpdate(ctx, c, next)
	back, switchErr := lanes.Switch(context.WithoutCancel(ctx), next, l.Name)
	if switchErr != nil {
		return errors.Join(err, switchErr, next.Close())
	}
	a.Note("Lane %s is live again.", l.Name)
	return errors.Join(err, back.Close(), next.Close())
}

func (a commands) letUpdate(ctx context.Context, c *cli.Command, l *lane.Lane) error {
	before, err := status.Of(ctx, l, status.Whole)
	if err != nil {
		return err
	}
	if before.Running {
		return lane.ErrRunning
	}
	name := l.Game.Display()
	switch {
	case before.Drift != nil && before.Drift.Any() && before.Drift.Update == nil:
		a.Note("%s is held at %s, and %s An update may overwrite what you changed.", view.Strong(name), before.Build.Label, view.Differs(before.Drift))
		if err := a.Ask(c, "Let the update in anyway?"); err != nil {
			return err
		}
	case before.Build == nil && before.Equals == nil: // to be able to go back
		s, err := record.Snapshot(ctx, l, record.Wanted{Note: "before an update"})
		if err != nil {
			return err
		}
		before.Equals = s.Build
		a.Note("The folder is recorded as %s, so that you can go back.", view.Strong(s.Build.Label))
	}
	begun, err := watch.BeginAwait(ctx, l, before)
	if err != nil {
		return err
	}
	if _, err := a.unblock(ctx, c, l); err != nil {
		return errors.Join(err, watch.EndAwait(ctx, l))
	}
	got, err := a.awaitUpdate(ctx, c, l, begun)
	if err != nil {
		err = a.letIn(ctx, l, before, err)
	}
	if err := errors.Join(err, watch.EndAwait(ctx, l)); err != nil {
		return err
	}
	b, err := a.recordArrival(ctx, c, l, got)
	if err != nil {
		return err
	}
	return a.afterUpdate(ctx, c, l, before, b)
}

// sayDone tells the run that waits that the update is there.
func (a commands) sayDone(ctx context.Context, c *cli.Command) error {
	return a.WithGame(ctx, c, func(home *game.Home, name string) error {
		// Whoever waits has the game's lock; without one there is nothing but a note of a run that was killed.
		lock, err := home.Lock(ctx, name, c.FullName(), 0)
		if err == nil {
			return errors.Join(watch.ErrNotWaited, lock.Unlock())
		}
		if !errors.Is(err, game.ErrBusy) {
			return err
		}
		if err := watch.SayDone(ctx, home.State, name); err != nil {
			return err
		}
		return a.Done(c, "The waiting let-update now takes the update as complete.")
	})
}

// recordArrival records what has come, unless it is recorded already.
func (a commands) recordArrival(ctx context.Context, c *cli.Command, l *lane.Lane, got *watch.Arrival) (*state.Build, error) {
	name, label := l.Game.Display(), c.String("label")
	if b := got.Whole; b != nil && b.Channel == "" && (label == "" || label == b.Label) {
		if !c.Bool("json") {
			a.Say("%s is %s again, already recorded as %s.", view.Strong(name), view.Strong(b.Label), b.Name())
		}
		return b, nil
	}
	if label == "" {
		var err error
		if label, err = a.newLabel(ctx, l, got); err != nil {
			return nil, err
		}
	}
	s, err := record.Snapshot(ctx, l, record.Wanted{Label: label, Doubt: strings.Join(got.Doubts, "; ")})
	if err != nil {
		return nil, err
	}
	if !c.Bool("json") {
		a.Say("%s is %s now; it is recorded as snapshot/%s, and the store grew by %s.", view.Strong(name), view.Strong(label), label, view.Size(s.Stored))
	}
	if s.Build.Doubt != "" {
		a.Note("Note: it is marked as possibly incomplete: %s. If it is complete: morvant builds whole %s", s.Build.Doubt, view.Quoted(label))
	}
	return s.Build, nil
}

// awaitUpdate waits for the update, or does it.
func (a commands) awaitUpdate(ctx context.Context, c *cli.Command, l *lane.Lane, before watch.Before) (*watch.Arrival, error) {
	w := watch.Await{Before: before, Quiet: c.Duration("calm"), Tell: func(what string) { a.Note("Waiting: %s.", what) }, Expected: c.IsSet("label")}
	w.Moved = a.moved(ctx, c, l)
	how := "When it is complete: morvant let-update --done, in another window."
	if a.Interactive() {
		how = "Press Enter when it is complete."
		said := make(chan struct{})
		w.Said = said
		stop := a.hear(ctx, said)
		defer func() { stop() }()
		moved := w.Moved
		w.Moved = func(to string) error { // a question has the terminal to itself
			stop()
			defer func() { stop = a.hear(ctx, said) }()
			return moved(to)
		}
	}
	if command := c.String("after"); command != "" {
		a.Note("Updates are let in. Running %s.", command)
		w.After = func(ctx context.Context) error {
			cmd, err := process.Shell(ctx, command, l.Game.Live)
			if err != nil {
				return err
			}
			cmd.Stdout, cmd.Stderr = a.Stderr, a.Stderr
			if err := cmd.Run(); err != nil {
				return fmt.Errorf("%s: %w", command, err)
			}
			return nil
		}
	} else {
		a.Note("Updates are let in. Update %s in its launcher now.\nMorvant takes it as done when the folder is a known build and nothing has changed for %s.\n%s\nCtrl-C sets the block again.",
			l.Game.Display(), c.Duration("calm"), how)
	}
	return watch.AwaitUpdate(ctx, l, w)
}

// hear tells of each line that is typed, until it is stopped.
func (a commands) hear(ctx context.Context, said chan<- struct{}) (stop func()) {
	ctx, end := context.WithCancel(ctx)
	var listens sync.WaitGroup
	listens.Go(func() {
		for {
			if _, err := a.NextLine(ctx); err != nil {
				return
			}
			select {
			case said <- struct{}{}:
			case <-ctx.Done():
			}
		}
	})
	return func() {
		end()
		listens.Wait()
	}
}

// moved asks, once, whether the lane's folder is the one to which it has been moved, and makes
// it the live one.
func (a commands) moved(ctx context.Context, c *cli.Command, l *lane.Lane) func(to string) error {
	asked := ""
	return func(to string) error {
		if to == asked {
			return app.ErrDeclined
		}
		asked = to
		if err := a.TakeOver(ctx, c, l.Home, l.Base, to); err != nil {
			a.Note("Note: Morvant does not use that folder yet: %s. Answer beforehand with --yes, or afterwards: morvant game set -g %s --live %s", view.OneLine(err), l.Game.Name, view.Quoted(to))
			return err
		}
		g, err := l.Home.Load(l.Game.Name)
		if err == nil {
			l.MoveTo(g)
		}
		return err
	}
}

// letIn ends a wait that came to nothing: where the folder is as before, the block is
// set again; where it is not, the player has to say what is to become of it.
func (a commands) letIn(ctx context.Context, l *lane.Lane, before *status.Status, cause error) error {
	ctx = context.WithoutCancel(ctx)
	if l.Root == nil { // it is not there any more, which the cause says
		return cause
	}
	now, err := status.Of(ctx, l, status.Whole)
	if err != nil || now.Build == nil {
		return errors.Join(cause, err)
	}
	if now.Drift.Any() && (before.Drift == nil || !before.Drift.Any()) {
		a.Note("The folder is no longer %s, and updates are not blocked. morvant verify --repair goes back and blocks them again.", now.Build.Label)
		return cause
	}
	if len(before.Block) > 0 {
		if err := guard.Block(ctx, l); err != nil {
			return errors.Join(cause, err)
		}
		a.Note("The block is set again; %s is still %s.", l.Game.Display(), now.Build.Label)
	}
	return cause
}

// newLabel finds a label for the build that has come.
func (a commands) newLabel(ctx context.Context, l *lane.Lane, got *watch.Arrival) (string, error) {
	label, _, err := status.SaysLabel(ctx, l)
	if err != nil {
		return "", err
	}
	if got.Whole != nil {
		label = got.Whole.Label
	}
	return record.NextLabel(ctx, l, label)
}

// afterUpdate holds the new build, goes back, or leaves it.
func (a commands) afterUpdate(ctx context.Context, c *cli.Command, l *lane.Lane, before *status.Status, fresh *state.Build) error {
	then := c.String("then")
	switch {
	case then != "":
	case before.Build == nil:
		then = thenStay // it goes on following
	case before.Pin.Follow:
		then = thenPin // likewise
	}
	if then == "" {
		question := "Hold it at " + view.Named(fresh) + " now?"
		switch err := a.Ask(c, question); {
		case err == nil:
			then = thenPin
		case !errors.Is(err, app.ErrDeclined):
			return err
		default:
			then = thenStay
			if before.Build != nil && a.Ask(c, "Go back to "+before.Build.Label+"?") == nil {
				then = thenBack
			}
		}
	}
	p, err := a.proposeAfter(ctx, l, then, before, fresh)
	if err != nil {
		return err
	}
	if p == nil {
		return a.Done(c, l.Game.Display()+" stays as it is.")
	}
	if err := change.CarryOut(ctx, l, p); err != nil {
		return err
	}
	if c.Bool("json") {
		return a.Emit(view.ToPlanJSON(l.Game.Name, p, true))
	}
	a.Say("%s", view.Outcome(l, p))
	return nil
}

// proposeAfter plans what comes after an update; nil: nothing has to be done.
func (a commands) proposeAfter(ctx context.Context, l *lane.Lane, then string, before *status.Status, fresh *state.Build) (*change.Proposal, error) {
	switch {
	case then == thenPin:
		o := propose.Again(before.Pin)
		o.Components, o.FollowsUpdate = nil, before.Pin.Follow // those that the lane has
		misfits, err := propose.Misfits(ctx, l, before.Pin, before.Build, fresh)
		if err != nil {
			return nil, err
		}
		for _, m := range misfits {
			a.Note("%s", m)
			o.Without = append(o.Without, m.Overlay.Pattern)
		}
		return propose.Pin(ctx, l, fresh, o)
	case then == thenBack && before.Build != nil:
		return propose.Repair(ctx, l, nil)
	case then == thenBack:
		return propose.Pin(ctx, l, before.Equals, propose.PinOptions{})
	case before.Build != nil:
		return propose.Lift(ctx, l)
	}
	return nil, nil
}
