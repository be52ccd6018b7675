package entry

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/change"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/status"
	"morvant/internal/lanes"
	"morvant/internal/oplog"
	"morvant/internal/problem"
	"morvant/internal/state"
)

// A finder says what a note stands for; nil: it is none that goes on by itself here.
type finder func(context.Context, *lane.Lane, state.Begun) (*oplog.Operation, error)

// resume ends what earlier runs have begun with a game and left unfinished, what began last first: it may be a part of another one.
// Each that is not ended is given to left.
func resume(ctx context.Context, l *lane.Lane, find finder, left func(state.Begun, error)) error {
	list, err := l.Home.Begun(ctx, l.Game.Name)
	if err != nil {
		return err
	}
	for _, b := range list {
		op, err := find(ctx, l, b)
		sentence := ""
		if op != nil && err == nil {
			sentence, err = op.Resume(ctx, l.Home.State, b)
		}
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.Is(err, oplog.ErrWaits):
			l.Waiting = append(l.Waiting, op.What)
		case err != nil:
			left(b, err)
		case sentence != "":
			l.Tell("%s", sentence)
		}
	}
	return nil
}

// recoverLanes ends what has begun with the lanes of a game, before one of them is opened.
func recoverLanes(ctx context.Context, l *lane.Lane) (failed error) {
	err := resume(ctx, l, lanes.Unfinished, func(b state.Begun, err error) {
		if b.Kind == state.BegunSwitch {
			failed = err // which lane is live is not known
			return
		}
		l.Tell("%v.", err)
	})
	return errors.Join(failed, err)
}

// recoverAll ends what earlier runs have left unfinished: in this lane, of the saves, in
// the game's other lanes. What cannot be ended now is noted as Unfinished; it keeps
// nobody from looking.
func recoverAll(ctx context.Context, l *lane.Lane) error {
	unfinished := func(err error) {
		if err != nil && l.Unfinished == nil {
			l.Unfinished = lane.IsUnfinished(err)
		}
	}
	unfinished(change.Recover(ctx, l))
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err := resume(ctx, l, here, func(_ state.Begun, err error) { unfinished(err) }); err != nil {
		return err
	}
	if l.Older && l.Live && l.Unfinished == nil {
		unfinished(backup.TakeBack(ctx, l))
	}
	unfinished(guard.Tighten(ctx, l))
	recoverOthers(ctx, l)
	return resume(ctx, l, tied, func(_ state.Begun, err error) { l.Tell("%v.", err) })
}

// here finds what has begun in the lane itself, or with the saves.
func here(_ context.Context, l *lane.Lane, b state.Begun) (*oplog.Operation, error) {
	switch {
	case b.Kind == state.BegunSaves && l.Live:
		return backup.Unfinished(l, b)
	case b.Kind == state.BegunImport && l.Live:
		return waiting("An import that moves files into the store"), nil
	case b.Lane != l.Name:
		return nil, nil
	case b.Kind == state.BegunBlock:
		return guard.Unfinished(l, b)
	case b.Kind == state.BegunLetUpdate:
		return unfinishedWait(l), nil
	}
	return lanes.UnfinishedHere(l, b)
}

// tied finds what has begun with several games, of which the lane's is the first. What each of them has begun is ended before.
func tied(ctx context.Context, l *lane.Lane, b state.Begun) (*oplog.Operation, error) {
	if b.Kind != state.BegunTied || b.Lane != l.Name || l.Unfinished != nil {
		return nil, nil
	}
	on := func(game string, do func(*lane.Lane) error) error {
		if game == l.Game.Name {
			return do(l)
		}
		o, err := Open(ctx, l.Home, game, lane.Options{Who: "morvant", Meter: l.Meter, Now: l.Now})
		if errors.Is(err, state.ErrUnknown) { // it has been forgotten
			return nil
		}
		if err != nil {
			return err
		}
		l.Recovered = append(l.Recovered, o.Recovered...)
		if err = o.Unfinished; err == nil {
			err = do(o)
		}
		return errors.Join(err, o.Close())
	}
	op, games, err := propose.UnfinishedTied(l, b, on)
	if err != nil {
		return nil, err
	}
	for _, game := range games {
		if err := on(game, func(*lane.Lane) error { return nil }); err != nil {
			return nil, fmt.Errorf("%s was interrupted; Morvant ends it once %s can be looked at (%w)", op.What, game, err)
		}
	}
	return op, nil
}

// waiting is what goes on with the same command only.
func waiting(what string) *oplog.Operation {
	return &oplog.Operation{What: what, Steps: []oplog.Step{{Do: func(context.Context) error { return oplog.ErrWaits }}}}
}

// unfinishedWait is the end of a wait for an update that was cut off: where nothing has come, the block is set again.
func unfinishedWait(l *lane.Lane) *oplog.Operation {
	op := &oplog.Operation{What: "A wait for an update of " + l.Title(), Told: true}
	op.Steps = []oplog.Step{{Do: func(ctx context.Context) error {
		s, err := status.Of(ctx, l, status.Whole)
		switch {
		case err != nil || s.Build == nil:
			return err
		case s.Drift.Any():
			l.Tell("A wait for an update of %s was interrupted, and the folder has changed: it is no longer %s, and updates are not blocked. %s continues; %s goes back and blocks them again.", l.Title(), s.Build.Label, problem.WaitAgain, problem.Repair)
			return nil
		case len(l.Game.Block) == 0 || s.Pin.Open:
			return nil
		}
		if err := guard.Block(ctx, l); err != nil {
			return err
		}
		l.Tell("A wait for an update of %s was interrupted; the block is set again.", l.Title())
		return nil
	}}}
	return op
}

// recoverOthers ends what is unfinished in the game's other lanes, as far as their
// folders are there.
func recoverOthers(ctx context.Context, l *lane.Lane) {
	list, err := l.Home.Begun(ctx, l.Game.Name)
	if err != nil {
		l.Meter.Warn(err.Error())
		return
	}
	seen := map[string]bool{"": true, l.Name: true}
	for _, b := range list {
		if seen[b.Lane] || !slices.Contains([]state.BegunKind{state.BegunChange, state.BegunBlock, state.BegunShare, state.BegunUnshare}, b.Kind) {
			continue
		}
		seen[b.Lane] = true
		o, err := change.Beside(ctx, l, b.Lane)
		if err == nil {
			err = resume(ctx, o, here, func(_ state.Begun, err error) { o.Unfinished = errors.Join(o.Unfinished, err) })
			l.Recovered = append(l.Recovered, o.Recovered...)
			err = errors.Join(err, o.Unfinished, o.Close())
		}
		if err != nil && !errors.Is(err, state.ErrUnknown) {
			l.Tell("A change of lane %s is unfinished: %v.", b.Lane, err)
		}
	}
}
