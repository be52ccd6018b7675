package lanes

import (
	"context"
	"errors"
	"fmt"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/record"
	"morvant/internal/oplog"
	"morvant/internal/state"
)

// Remove forgets the lane, which must not be the live one. Its files stay, unless
// delete says otherwise; then everything in it is recorded as a snapshot first,
// which is returned.
func Remove(ctx context.Context, l *lane.Lane, delete bool) (*state.Build, error) {
	if l.Live {
		return nil, fmt.Errorf("%s: %w", l.Name, lane.ErrLive)
	}
	if err := l.MayChange(); err != nil {
		return nil, err
	}
	left, err := guard.Unblock(ctx, l, true)
	for _, text := range left {
		l.Meter.Warn(text)
	}
	if err != nil {
		return nil, err
	}
	var kept *state.Build
	if delete {
		label, err := record.NextLabel(ctx, l, "lane-"+l.Name)
		if err != nil {
			return nil, err
		}
		s, err := record.Snapshot(ctx, l, record.Wanted{Label: label, Note: "all of lane " + l.Name + ", before it was removed"})
		if err != nil {
			return nil, err
		}
		if len(s.Odd) > 0 {
			return s.Build, fmt.Errorf("%s is %s and cannot be recorded; take it away first, or keep the files", s.Odd[0].Path, s.Odd[0].What)
		}
		kept = s.Build
	}
	ctx = context.WithoutCancel(ctx)
	if !delete {
		if err := forget(ctx, l, l.Name); err != nil {
			return kept, err
		}
		return kept, ignoreMissing(l.Root.RemoveAll(lane.MarkerFile))
	}
	if err := l.Root.Close(); err != nil {
		return kept, err
	}
	l.Root = nil
	return kept, removal(l, removing{Lane: l.Name, Dir: l.Dir, Build: kept.UID}).Run(ctx, l.Home.State)
}

// removal is noted without the lane's name, which is forgotten first.
func removal(l *lane.Lane, r removing) *oplog.Operation {
	return &oplog.Operation{
		Game: l.Game.Name, Kind: state.BegunRemove, Body: r, What: "The removal of lane " + r.Lane,
		Steps: []oplog.Step{{Do: func(ctx context.Context) error { return remove(ctx, l, r) }}},
	}
}

// removing is what is noted while a lane is being removed with its files.
type removing struct {
	Lane  string `json:"lane"`
	Dir   string `json:"dir"`
	Build string `json:"build"` // the snapshot of all that was in it
}

// forget forgets a lane, and what is remembered of its files.
func forget(ctx context.Context, l *lane.Lane, name string) error {
	return errors.Join(l.Home.ForgetLane(ctx, l.Game.Name, name), l.Cache.Forget(ctx, state.CacheKey(l.Game.Name, name)))
}

// remove forgets a lane and deletes those of its files that are as the snapshot has
// them. It can be repeated.
func remove(ctx context.Context, l *lane.Lane, r removing) error {
	if err := forget(ctx, l, r.Lane); err != nil {
		return err
	}
	b, err := l.Home.RecordedBuild(ctx, l.Game.Name, r.Build)
	if err != nil {
		return err
	}
	c, err := compose.Recorded(ctx, l, b)
	if err != nil {
		return err
	}
	left, err := removeKnown(ctx, r.Dir, c.State(), l.Game.Rules().Matcher())
	if err != nil {
		return err
	}
	if left > 0 {
		l.Meter.Warn(fmt.Sprintf("%d files in %s have changed since they were recorded, and stay", left, r.Dir))
	}
	return nil
}
