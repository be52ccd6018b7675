package change

import (
	"context"
	"slices"
	"time"

	"morvant/internal/lane"
	"morvant/internal/plan"
	"morvant/internal/state"
)

// repeats notes of a repair that the last change was the same: the same files, brought from the
// same content to the same. A launcher that puts an update back again and again must not fill the
// history.
func repeats(ctx context.Context, l *lane.Lane, c *state.Change) error {
	last, err := lastRepair(ctx, l)
	if err != nil || last == nil || c.What != state.ChangeRepair || last.UID == c.UID || last.Build != c.Build {
		return err
	}
	was, err := StepsOf(ctx, l, last)
	if err != nil {
		return err
	}
	is, err := StepsOf(ctx, l, c)
	if err != nil {
		return err
	}
	if slices.EqualFunc(was, is, alike) {
		c.Repeats, c.Totals.Times = last.ID, max(1, last.Totals.Times)+1
	}
	return nil
}

// alike reports whether two steps do the same, whatever the times.
func alike(a, b plan.Step) bool {
	same := func(a, b *plan.Node) bool {
		if a == nil || b == nil {
			return a == b
		}
		return a.Kind == b.Kind && a.Digest == b.Digest && a.Target == b.Target
	}
	return a.Path == b.Path && same(a.Before, b.Before) && same(a.After, b.After)
}

// lastRepair returns the last change of the lane if it was a repair and stands; else nil.
func lastRepair(ctx context.Context, l *lane.Lane) (*state.Change, error) {
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil || len(history) == 0 || history[0].What != state.ChangeRepair || history[0].Undone != 0 {
		return nil, err
	}
	return history[0], nil
}

// LastRepair says which files the last change brought back, how often one after the other, and when; none if it was no repair. Of an
// update that comes in waves, each repair counts, whichever files it was about, and one that was given up stays so.
func LastRepair(ctx context.Context, l *lane.Lane) (paths []string, times int, at time.Time, err error) {
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, 0, at, err
	}
	for i, c := range history {
		if c.What != state.ChangeRepair && c.What != state.ChangeKeep || c.Undone != 0 || i > 0 && (c.Totals.Update == "" || c.Totals.Update != history[0].Totals.Update) {
			break
		}
		list, err := StepsOf(ctx, l, c)
		if err != nil {
			return nil, 0, at, err
		}
		for _, s := range list {
			if (s.Before != nil && s.Before.Kind == plan.File || s.After != nil && s.After.Kind == plan.File) && !slices.Contains(paths, s.Path) {
				paths = append(paths, s.Path)
			}
		}
		if c.What == state.ChangeRepair {
			times += max(1, c.Totals.Times)
		}
		if i == 0 {
			at = c.Made
		}
	}
	return paths, times, at, nil
}
