package lanes

import (
	"context"
	"errors"
	"fmt"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/oplog"
	"morvant/internal/process"
	"morvant/internal/state"
	"morvant/internal/volume"
	"os"
	"path/filepath"
	"slices"
)

// renaming is what is noted while a lane gets another name.
type renaming struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Rename gives the lane another name, and its folder where that is named for it.
func Rename(ctx context.Context, l *lane.Lane, name string) error {
	if err := l.MayChange(); err != nil {
		return err
	}
	return renames(l, renaming{l.Name, name}, l).Run(ctx, l.Home.State)
}

// renames is the renaming of a lane; o is that lane, nil: it is yet to be found.
func renames(l *lane.Lane, r renaming, o *lane.Lane) *oplog.Operation {
	return &oplog.Operation{
		Game: l.Game.Name, Lane: r.From, Kind: state.BegunRename, Body: r, What: fmt.Sprintf("The renaming of lane %s to %s", r.From, r.To),
		Steps: []oplog.Step{{
			Do: func(ctx context.Context) error {
				if o == nil {
					return nil // it was done
				}
				if err := l.Home.RenameLane(ctx, l.Game.Name, r.From, r.To); err != nil {
					return err
				}
				o.Name = r.To
				return nil
			},
			Done: func(ctx context.Context) (bool, error) {
				list, err := l.Home.Lanes(ctx, l.Game.Name)
				return !slices.ContainsFunc(list, func(is *state.Lane) bool { return is.Name == r.From }), err
			},
		}, {
			Do: func(ctx context.Context) error {
				if o != nil {
					return renamed(ctx, o, r)
				}
				found, err := findRenamed(ctx, l, r)
				if err != nil {
					return err
				}
				return errors.Join(renamed(ctx, found, r), found.Close())
			},
		}},
	}
}

// findRenamed opens a lane whose renaming was cut off: its folder may be where it was, or moved already.
func findRenamed(ctx context.Context, l *lane.Lane, r renaming) (*lane.Lane, error) {
	is, err := l.Home.Lane(ctx, l.Game.Name, r.To)
	if err != nil {
		return nil, err
	}
	if moved := game.ParkedName(l.Game.Live, r.To); !is.Live && lane.MarkerOf(moved) == (lane.Identity{Game: l.Game.Name, Lane: r.To}) && is.Place == game.ParkedName(l.Game.Live, r.From) {
		is.Place = moved
		if err := l.Home.SetLane(ctx, l.Game.Name, r.To, is.LaneState); err != nil {
			return nil, err
		}
	}
	return change.BesideAs(ctx, l, is)
}

// renamed does what is left once the state knows a lane by its new name.
func renamed(ctx context.Context, l *lane.Lane, r renaming) error {
	if err := l.Cache.Rename(ctx, state.CacheKey(l.Game.Name, r.From), state.CacheKey(l.Game.Name, r.To)); err != nil {
		return err
	}
	if err := l.WriteMarkerAs(ctx, false); err != nil {
		return err
	}
	to := game.ParkedName(l.Game.Live, r.To)
	_, err := os.Lstat(to)
	if !l.Live && l.Dir == game.ParkedName(l.Game.Live, r.From) && volume.Absent(err) {
		if err := moveTo(ctx, l, to); err != nil {
			l.Meter.Warn(fmt.Sprintf("the folder of lane %s keeps its name: %v", r.To, err))
		}
	}
	return nil
}

// moveTo renames the lane's folder.
func moveTo(ctx context.Context, l *lane.Lane, to string) error {
	if err := l.Root.Close(); err != nil {
		return err
	}
	l.Root = nil
	if err := process.Rename(l.Dir, to); err != nil {
		return err
	}
	if err := syncFolders(filepath.Dir(l.Dir), filepath.Dir(to)); err != nil {
		return err
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	is.Place, l.Dir = to, to
	return l.Home.SetLane(ctx, l.Game.Name, l.Name, is.LaneState)
}
