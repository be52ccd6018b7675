package guard

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"morvant/internal/block"
	"morvant/internal/lane"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/state"
)

// What a launcher keeps in its settings is remembered beyond an unblock: one that runs may write
// its own copy over the file at its end, with the value that the block had set. That must not
// count as what was found, the next time.

func originals(ctx context.Context, l *lane.Lane) ([]*block.Applied, error) {
	text, err := l.Home.Fact(ctx, state.OriginalsKey(l.Game.Name))
	if err != nil || text == "" {
		return nil, err
	}
	var list []*block.Applied
	return list, json.Unmarshal([]byte(text), &list)
}

// remember keeps what the rules about settings found that have just been taken off.
func remember(ctx context.Context, l *lane.Lane, lifted []*block.Applied) error {
	lifted = slices.DeleteFunc(slices.Clone(lifted), func(h *block.Applied) bool { return h.Rule.Kind != block.Setting })
	if len(lifted) == 0 {
		return nil
	}
	list, err := originals(ctx, l)
	if err != nil {
		return err
	}
	for _, h := range lifted {
		list = append(slices.DeleteFunc(list, func(o *block.Applied) bool { return o.Rule == h.Rule }), h)
	}
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	return l.Home.SetFact(ctx, state.OriginalsKey(l.Game.Name), string(text))
}

// prepare is block.Prepare, with what was found the last time where the launcher has written the
// block's own value back since.
func prepare(ctx context.Context, l *lane.Lane, r block.Rule, at block.Site) (*block.Applied, error) {
	h, err := block.Prepare(r, at)
	if err == nil && r.Kind == block.Occupy {
		err = notTaken(ctx, l, h.Path)
	}
	if err != nil || r.Kind != block.Setting {
		return h, err
	}
	list, err := originals(ctx, l)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(list, func(o *block.Applied) bool { return o.Rule == r && o.Path == h.Path }); i >= 0 && h.FoundAsWanted() {
		return list[i], nil
	}
	return h, nil
}

// notTaken returns an error if a block of another lane or game holds a path.
func notTaken(ctx context.Context, l *lane.Lane, path string) error {
	games, _, err := l.Home.Games()
	if err != nil {
		return err
	}
	for _, g := range games {
		lanes, err := l.Home.Lanes(ctx, g.Name)
		if err != nil {
			return err
		}
		for _, is := range lanes {
			holds, err := l.Home.Applied(ctx, g.Name, is.Name)
			if err != nil {
				return err
			}
			for _, h := range holds {
				if h.Rule.Kind == block.Occupy && h.Path == path {
					return fmt.Errorf("an earlier block uses %s already, of lane %s of %s: %w", path, is.Name, g.Name, block.ErrTouched)
				}
			}
		}
	}
	return nil
}

// liftAgain puts back what was found where a launcher has written the block's value back since it
// was taken off.
func liftAgain(ctx context.Context, l *lane.Lane) error {
	list, err := originals(ctx, l)
	if err != nil {
		return err
	}
	var errs []error
	for _, h := range list {
		if h.Check(Outside(l)).Holds {
			errs = append(errs, h.Lift(Outside(l), false))
		}
	}
	return errors.Join(errs...)
}

// ErrLauncherRuns is returned for a launcher's settings that are to be changed while it runs.
var ErrLauncherRuns = problem.New("the launcher is running, and may overwrite its settings when it ends", "Close it, then try again")

// LauncherClosed returns an error if a launcher runs whose settings the block is about.
func LauncherClosed(l *lane.Lane) error {
	if !slices.ContainsFunc(l.Game.Block, func(r block.Rule) bool { return r.Kind == block.Setting }) {
		return nil
	}
	list, err := process.Named(l.Game.Launcher)
	if err != nil || len(list) == 0 {
		return err
	}
	return fmt.Errorf("%w: %s (process %d)", ErrLauncherRuns, list[0].Path, list[0].PID)
}

// WhenClosed waits until the launcher is closed.
func WhenClosed(ctx context.Context, l *lane.Lane) error {
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	for {
		err := LauncherClosed(l)
		if !errors.Is(err, ErrLauncherRuns) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
}
