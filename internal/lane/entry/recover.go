package entry

import (
	"context"
	"errors"
	"fmt"

	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/change"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/status"
	"morvant/internal/lanes"
	"morvant/internal/problem"
	"morvant/internal/state"
)

// recoverAll ends what earlier runs have left unfinished: in this lane, of the saves, in
// the game's other lanes. What cannot be ended now is noted as Unfinished; it keeps
// nobody from looking.
func recoverAll(ctx context.Context, l *lane.Lane) error {
	for _, step := range []func(context.Context, *lane.Lane) error{
		change.Recover, lanes.RecoverShares, backup.Recover, guard.Recover, recoverLetUpdate, guard.Tighten,
	} {
		err := step(ctx, l)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && l.Unfinished == nil:
			l.Unfinished = fmt.Errorf("%w: %w", lane.ErrUnfinished, err)
		}
	}
	recoverOthers(ctx, l)
	return recoverTied(ctx, l)
}

// recoverTied ends what was to be done to this game and another one, both or neither, as far as the other
// can be looked at now.
func recoverTied(ctx context.Context, l *lane.Lane) error {
	t, err := propose.BegunTied(ctx, l)
	if err != nil || t == nil || l.Unfinished != nil {
		return err
	}
	o, err := Open(ctx, l.Home, t.Game, lane.Options{Who: "morvant", Meter: l.Meter, Now: l.Now})
	unfinished := false
	if err == nil { // what it has begun is ended now
		for _, text := range o.Recovered {
			l.Tell("%s", text)
		}
		unfinished, err = o.Unfinished != nil, o.Close()
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, state.ErrUnknown): // it has been forgotten
	case err != nil || unfinished:
		l.Tell("Bringing %s and %s to one build was interrupted; Morvant ends it once %s can be looked at.", l.Title(), t.Game, t.Game)
		return nil
	}
	if err := propose.EndTied(ctx, l, t); err != nil {
		l.Tell("%v.", err)
	}
	return nil
}

// recoverLetUpdate ends a wait for an update that was cut off: where nothing has come,
// the block is set again.
func recoverLetUpdate(ctx context.Context, l *lane.Lane) error {
	begun, err := l.BegunHere(ctx, state.BegunLetUpdate)
	if err != nil || begun == nil {
		return err
	}
	s, err := status.Of(ctx, l, status.Whole)
	if err != nil {
		return err
	}
	switch {
	case s.Build == nil:
	case s.Drift.Any():
		l.Tell("A wait for an update of %s was interrupted, and the folder has changed: it is no longer %s, and updates are not blocked. %s continues; %s goes back and blocks them again.", l.Title(), s.Build.Label, problem.WaitAgain, problem.Repair)
	case len(l.Game.Block) > 0 && !s.Pin.Open:
		if err := guard.Block(ctx, l); err != nil {
			return err
		}
		l.Tell("A wait for an update of %s was interrupted; the block is set again.", l.Title())
	}
	return l.Home.End(ctx, l.Game.Name, l.Name, state.BegunLetUpdate)
}

// recoverOthers ends what is unfinished in the game's other lanes, as far as their
// folders are there.
func recoverOthers(ctx context.Context, l *lane.Lane) {
	list, err := l.Home.Begun(ctx, l.Game.Name)
	if err != nil {
		l.Meter.Warn(err.Error())
		return
	}
	for _, b := range list {
		if b.Lane == l.Name || b.Kind != state.BegunChange && b.Kind != state.BegunBlock {
			continue
		}
		is, err := l.Home.Lane(ctx, l.Game.Name, b.Lane)
		if err != nil {
			continue
		}
		o, err := change.Beside(ctx, l, is.Name)
		if err != nil {
			l.Tell("A change of lane %s is unfinished: %v.", b.Lane, err)
			continue
		}
		l.Recovered = append(l.Recovered, o.Recovered...)
		if o.Unfinished != nil {
			l.Tell("A change of lane %s is unfinished: %v.", b.Lane, o.Unfinished)
		}
		if err := o.Close(); err != nil {
			l.Meter.Warn(err.Error())
		}
	}
}
