package propose

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/state"
)

// Tied is the body of a BegunTied, whose UID is that of the first game's change.
type Tied struct {
	Game string `json:"game"` // the other one
	UID  string `json:"uid"`  // of its change
}

// CarryOutBoth carries out the changes of two games: both of them or neither. What a killed run leaves
// half done is ended by entry.Open.
func CarryOutBoth(ctx context.Context, l *lane.Lane, p *change.Proposal, other *lane.Lane, q *change.Proposal) error {
	note := Tied{Game: other.Game.Name, UID: q.Change.UID}
	if err := l.Home.Begin(ctx, l.Game.Name, l.Name, state.BegunTied, p.Change.UID, note); err != nil {
		return err
	}
	err := change.CarryOut(ctx, l, p)
	second := err == nil
	if second {
		if err = change.CarryOut(ctx, other, q); err != nil {
			err = fmt.Errorf("%s: %w", other.Game.Name, err)
		}
	}
	ctx = context.WithoutCancel(ctx)
	if err != nil {
		// What has begun and could not be recorded may yet be finished by the next command, which ends all of it.
		for _, side := range []*lane.Lane{l, other} {
			if b, noteErr := side.BegunHere(ctx, state.BegunChange); noteErr != nil || b != nil {
				return errors.Join(err, noteErr)
			}
		}
		if second {
			if back := takeBack(ctx, l, p.Change.ID); back != nil {
				return errors.Join(err, back)
			}
		}
	}
	return errors.Join(err, l.Home.End(ctx, l.Game.Name, l.Name, state.BegunTied))
}

// takeBack undoes the change of one game where that of the other has not come about.
func takeBack(ctx context.Context, l *lane.Lane, id int64) error {
	undo, _, err := Undo(ctx, l, id, Recorded)
	if err == nil {
		err = change.CarryOut(ctx, l, undo)
	}
	if err == nil {
		l.Meter.Warn(l.Title() + " is as it was before")
	}
	return err
}

// BegunTied says which other game's change belongs to one that has begun here; nil: none does.
func BegunTied(ctx context.Context, l *lane.Lane) (*Tied, error) {
	b, err := l.BegunHere(ctx, state.BegunTied)
	if err != nil || b == nil {
		return nil, err
	}
	t := &Tied{}
	return t, json.Unmarshal(b.Body, t)
}

// EndTied takes back the change of this game if that of the other has not come about. Nothing that the
// other has begun may be unfinished any more.
func EndTied(ctx context.Context, l *lane.Lane, t *Tied) error {
	b, err := l.BegunHere(ctx, state.BegunTied)
	if err != nil || b == nil {
		return err
	}
	theirs, err := l.Home.Changed(ctx, t.UID)
	if err != nil {
		return err
	}
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	for _, c := range history {
		if c.UID != b.UID || c.Undone != 0 || theirs {
			continue
		}
		if err := takeBack(ctx, l, c.ID); err != nil {
			return fmt.Errorf("%s was brought to %s without %s, which cannot be undone yet: %w", l.Title(), c.Build, t.Game, err)
		}
		l.Tell("Bringing %s and %s to %s was interrupted; Morvant has undone what there was of it.", l.Title(), t.Game, c.Build)
	}
	return l.Home.End(ctx, l.Game.Name, l.Name, state.BegunTied)
}
