package watch

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"morvant/internal/block"
	"morvant/internal/lane"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/status"
	"morvant/internal/problem"
	"morvant/internal/state"
)

// Await says how an update is waited for that is let in on purpose.
type Await struct {
	Quiet time.Duration // how long nothing must happen until the update counts as done
	// After does the update and returns when it is done; nil: somebody else does it.
	After func(ctx context.Context) error
	// Tell is told what it is waiting for.
	Tell func(what string)
}

// Errors of an update that is waited for.
var (
	ErrNoUpdate = problem.New("no update has come", "Let the launcher look for updates, then try again; nothing was changed")
	ErrHalfDone = errors.New("the update is not whole")
)

// look is how often a folder is looked at while nothing tells of changes.
const look = 15 * time.Second

// AwaitUpdate waits until the launcher has updated the lane: something has changed,
// and then nothing for a while, and the launcher's staging folder (where a block rule
// knows of one) is empty. It returns how the lane stands then.
//
// The block, which the caller has taken off after BeginAwait, is set again by the next
// command if this run is killed.
func AwaitUpdate(ctx context.Context, l *lane.Lane, a Await) (*status.Status, error) {
	before, err := status.Of(ctx, l, status.Whole)
	if err != nil {
		return nil, err
	}
	news := newsOf(l.Game, l.Dir, a.Tell)
	defer news.close()
	var ended chan error
	if a.After != nil {
		ended = make(chan error, 1)
		go func() { ended <- a.After(ctx) }()
	}
	changed := false
	told := ""
	timer := time.NewTimer(a.Quiet)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case err := <-news.come:
			changed = changed || err == nil
			timer.Reset(a.Quiet)
		case err := <-ended:
			if err != nil {
				return nil, err
			}
			ended = nil
			timer.Reset(a.Quiet)
		case <-timer.C:
			if ended != nil { // it is still at work
				timer.Reset(a.Quiet)
				continue
			}
			now, err := status.Of(ctx, l, status.Whole)
			if err != nil {
				return nil, err
			}
			changed = changed || sketch(before) != sketch(now)
			waits := unfinished(l, now)
			switch {
			case changed && waits == "":
				return now, nil
			case a.After != nil && !changed:
				return now, ErrNoUpdate
			case a.After != nil && halfDone(now):
				return now, fmt.Errorf("%w: %s", ErrHalfDone, waits)
			case waits != told && waits != "":
				told = waits
				a.Tell(waits)
			}
			timer.Reset(max(a.Quiet, min(look, 5*a.Quiet)))
		}
	}
}

// BeginAwait notes that an update is about to be let in, and EndAwait that it is over.
func BeginAwait(ctx context.Context, l *lane.Lane) error {
	return l.Home.Begin(ctx, l.Game.Name, l.Name, state.BegunLetUpdate, state.NewUID(), nil)
}

// EndAwait is the end of BeginAwait.
func EndAwait(ctx context.Context, l *lane.Lane) error {
	return l.Home.End(context.WithoutCancel(ctx), l.Game.Name, l.Name, state.BegunLetUpdate)
}

func halfDone(s *status.Status) bool {
	return s.Drift != nil && s.Drift.Update != nil && s.Drift.Update.Done < s.Drift.Update.Of
}

// unfinished says what shows that the launcher is not done; empty if nothing does.
func unfinished(l *lane.Lane, s *status.Status) string {
	if halfDone(s) {
		u := s.Drift.Update
		return fmt.Sprintf("%d of %d files are as in %s", u.Done, u.Of, u.Build.Label)
	}
	at := guard.Outside(l)
	for _, r := range l.Game.Block {
		if r.Kind != block.Occupy {
			continue
		}
		staging := at.Watched(r)
		if entries, err := os.ReadDir(staging); err == nil && len(entries) > 0 {
			return fmt.Sprintf("the launcher's folder %s is not empty yet", staging)
		}
	}
	return ""
}
