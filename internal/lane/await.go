package lane

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"morvant/internal/block"
	"morvant/internal/catalogue"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/version"
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
	ErrNoUpdate = errors.New("no update has come")
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
func (l *Lane) AwaitUpdate(ctx context.Context, a Await) (*Status, error) {
	before, err := l.Status(ctx)
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
			now, err := l.Status(ctx)
			if err != nil {
				return nil, err
			}
			changed = changed || sketch(before) != sketch(now)
			waits := l.unfinished(now)
			switch {
			case changed && waits == "":
				return now, nil
			case a.After != nil && !changed:
				return now, ErrNoUpdate
			case a.After != nil && now.halfDone():
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
func (l *Lane) BeginAwait(ctx context.Context) error {
	return l.home.Begin(ctx, l.Game.Name, l.Name, game.BegunLetUpdate, game.NewUID(), nil)
}

// EndAwait is the end of BeginAwait.
func (l *Lane) EndAwait(ctx context.Context) error {
	return l.home.End(context.WithoutCancel(ctx), l.Game.Name, l.Name, game.BegunLetUpdate)
}

func (s *Status) halfDone() bool {
	return s.Drift != nil && s.Drift.Update != nil && s.Drift.Update.Done < s.Drift.Update.Of
}

// unfinished says what shows that the launcher is not done; empty if nothing does.
func (l *Lane) unfinished(s *Status) string {
	if s.halfDone() {
		u := s.Drift.Update
		return fmt.Sprintf("%d of %d files are as in %s", u.Done, u.Of, u.Build.Label)
	}
	at := l.outside()
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

// SaysLabel returns the label of the version that the game itself gives, and what
// said so: of a known build if it means one, else as it stands there. What the game
// wrote when it last ran does not count.
func (l *Lane) SaysLabel(ctx context.Context) (label string, by identify.Evidence, err error) {
	says, err := identify.Says(l.Dir, l.Game.Program, l.Game.Version)
	if err != nil {
		return "", by, err
	}
	builds, err := l.home.Builds(ctx, l.Game.Name)
	if err != nil {
		return "", by, err
	}
	for _, e := range says {
		if e.Log || label != "" && e.Source != l.Game.Program {
			continue
		}
		label, by = shortest(e.Says), e
		for _, b := range builds {
			if version.Means(e.Says, b.Label) {
				label = b.Label
				break
			}
		}
	}
	if catalogue.CheckLabel(label) != nil {
		return "", by, nil
	}
	return label, by, nil
}

// shortest takes zeros off the end of a version of four numbers, as programs show
// them, down to three numbers.
func shortest(s string) string {
	var n [4]int
	if got, err := fmt.Sscanf(s, "%d.%d.%d.%d", &n[0], &n[1], &n[2], &n[3]); got == 4 && err == nil && n[3] == 0 {
		return fmt.Sprintf("%d.%d.%d", n[0], n[1], n[2])
	}
	return s
}
