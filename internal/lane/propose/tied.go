package propose

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/oplog"
	"morvant/internal/state"
)

// Tied is one of several games that are brought to a build, all or none of them.
type Tied struct {
	Lane     *lane.Lane
	Proposal *change.Proposal
}

// tied is how several games are brought to a build.
type tied struct {
	Changes []tiedChange `json:"changes"`
}

type tiedChange struct {
	Game string `json:"game"`
	UID  string `json:"uid"` // of the change
}

// CarryOutAll carries out the changes of several games: all of them or none.
func CarryOutAll(ctx context.Context, games []Tied) error {
	t := &tied{}
	for _, g := range games {
		t.Changes = append(t.Changes, tiedChange{g.Lane.Game.Name, g.Proposal.Change.UID})
	}
	first := games[0].Lane
	on := func(game string, do func(*lane.Lane) error) error {
		i := slices.IndexFunc(games, func(g Tied) bool { return g.Lane.Game.Name == game })
		return do(games[i].Lane)
	}
	return t.operation(first, on, func(ctx context.Context, i int) error {
		err := change.CarryOut(ctx, games[i].Lane, games[i].Proposal)
		if err != nil && i > 0 {
			err = fmt.Errorf("%s: %w", games[i].Lane.Game.Name, err)
		}
		return err
	}).Run(ctx, first.Home.State)
}

// OnGame does something with the open lane of a game.
type OnGame func(game string, do func(*lane.Lane) error) error

// UnfinishedTied returns what an earlier run has begun with several games. What has begun in each of them has to be ended before.
func UnfinishedTied(l *lane.Lane, b state.Begun, on OnGame) (op *oplog.Operation, games []string, err error) {
	t := &tied{}
	if err := json.Unmarshal(b.Body, t); err != nil {
		return nil, nil, err
	}
	for _, c := range t.Changes {
		games = append(games, c.Game)
	}
	return t.operation(l, on, func(context.Context, int) error { return nil }), games, nil
}

// operation is the bringing of several games to a build, which stands once all of them have been.
func (t *tied) operation(first *lane.Lane, on OnGame, do func(context.Context, int) error) *oplog.Operation {
	var names []string
	op := &oplog.Operation{Game: first.Game.Name, Lane: first.Name, Kind: state.BegunTied, Body: t}
	for i, c := range t.Changes {
		names = append(names, c.Game)
		op.Steps = append(op.Steps, oplog.Step{
			Do: func(ctx context.Context) error { return do(ctx, i) },
			Back: func(ctx context.Context) error {
				return on(c.Game, func(l *lane.Lane) error { return takeBack(ctx, l, c) })
			},
		})
	}
	op.What = "Bringing " + strings.Join(names, " and ") + " to one build"
	op.Steps = append(op.Steps, oplog.Step{
		Do:   func(context.Context) error { return nil },
		Done: func(ctx context.Context) (bool, error) { return t.done(ctx, first.Home.State) },
	})
	return op
}

func (t *tied) done(ctx context.Context, st *state.State) (bool, error) {
	for _, c := range t.Changes {
		if is, err := st.Changed(ctx, c.UID); err != nil || !is {
			return false, err
		}
	}
	return true, nil
}

// takeBack undoes the change of one game where that of another has not come about.
func takeBack(ctx context.Context, l *lane.Lane, c tiedChange) error {
	// What has begun and could not be recorded may yet be finished by the next command, which ends all of it.
	if b, err := l.BegunHere(ctx, state.BegunChange); err != nil || b != nil {
		return fmt.Errorf("%s: %w", l.Title(), errors.Join(err, lane.ErrUnfinished))
	}
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	for _, h := range history {
		if h.UID != c.UID || h.Undone != 0 {
			continue
		}
		undo, _, err := Undo(ctx, l, h.ID, Recorded)
		if err == nil {
			err = change.CarryOut(ctx, l, undo)
		}
		if err != nil {
			return fmt.Errorf("%s was brought to %s, which cannot be undone yet: %w", l.Title(), h.Build, err)
		}
		l.Meter.Warn(l.Title() + " is as it was before")
	}
	return nil
}
