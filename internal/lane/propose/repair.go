package propose

import (
	"context"
	"slices"
	"sync"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/status"
	"morvant/internal/layers"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// Repair plans to bring the lane back to what it is held to. tree, if not
// nil, is what a verify has just read.
func Repair(ctx context.Context, l *lane.Lane, tree *scan.Tree) (*change.Proposal, error) {
	pin, b, err := l.Pin(ctx)
	if err != nil {
		return nil, err
	}
	if b == nil {
		return nil, lane.ErrNotHeld
	}
	if tree == nil {
		if tree, err = l.Glance(ctx, 0); err != nil {
			return nil, err
		}
	}
	to, err := repaired(ctx, l, tree, b, pin)
	if err != nil {
		return nil, err
	}
	p, err := change.Propose(ctx, l, *to, state.Change{What: state.ChangeRepair, Build: b.Label, Before: pin, After: pin})
	if err != nil {
		return nil, err
	}
	p.Build = b
	return p, nil
}

// repaired is the target of a repair: what the lane is held to.
func repaired(ctx context.Context, l *lane.Lane, tree *scan.Tree, b *state.Build, pin state.Pin) (*change.Target, error) {
	if err := game.FindOffers(l.Home, b); err != nil {
		return nil, err
	}
	to, err := compose.OfPin(ctx, l, b, pin)
	if err != nil {
		return nil, err
	}
	guarded, err := compose.Guarded(ctx, l)
	if err != nil {
		return nil, err
	}
	to.Guard(guarded)
	to.YieldLinks(tree)
	want := to.State()
	owned, err := leaves(ctx, l, to, tree, b, pin)
	if err != nil {
		return nil, err
	}
	return &change.Target{Want: want, Owned: owned, Clean: pin.Clean, Exact: pin.Exact, Tree: tree, Composed: to, Leave: to.ModsChanged(tree)}, nil
}

// leaves is what a repair takes away where it is not wanted: besides what the game has surely brought, what is just as in
// the snapshot to which the lane has drifted, as if it were held to that, and pinned to the other.
func leaves(ctx context.Context, l *lane.Lane, to *compose.Composed, t *scan.Tree, b *state.Build, pin state.Pin) (plan.State, error) {
	have := plan.FromTree(t)
	ground, err := compose.GroundOf(ctx, l, to, have, b)
	if err != nil {
		return nil, err
	}
	towards := sync.OnceValues(func() (*state.Build, error) {
		d, err := status.DriftOf(ctx, l, t, b, pin)
		if err != nil || d.Update == nil {
			return nil, err
		}
		return d.Update.Build, nil
	})
	add := ground.Leaves(have, func(o layers.Owner) bool {
		update, towardsErr := towards()
		err = towardsErr
		return update != nil && slices.ContainsFunc(ground.Builds(o), func(k *state.Build) bool { return k.UID == update.UID })
	})
	return to.Owned().With(add), err
}
