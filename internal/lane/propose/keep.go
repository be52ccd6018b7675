package propose

import (
	"context"
	"errors"
	"slices"

	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/plan"
	"morvant/internal/state"
)

// ErrNoArrival is returned where no update has been recorded that could be kept.
var ErrNoArrival = errors.New("no update has been recorded")

// Keep plans to bring the update back that changes before have ended, as a whole: nobody wins against a launcher that brings
// it again and again, and half of it is worth nothing.
func Keep(ctx context.Context, l *lane.Lane) (*change.Proposal, error) {
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	if len(history) == 0 || history[0].Totals.Update == "" {
		return nil, ErrNoArrival
	}
	builds, err := l.Home.Builds(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(builds, func(b *state.Build) bool { return b.Name() == history[0].Totals.Update })
	if i < 0 {
		return nil, ErrNoArrival
	}
	pin, held, err := compose.Pinned(ctx, l)
	if err != nil {
		return nil, err
	}
	choice, err := compose.Choose(ctx, l, builds[i], nil)
	if err != nil {
		return nil, err
	}
	to, err := compose.Of(ctx, l, builds[i], choice.Names)
	if err != nil {
		return nil, err
	}
	tree, err := l.Glance(ctx, 0)
	if err != nil {
		return nil, err
	}
	over := make(map[string]plan.Node)
	for _, f := range to.Base.Files {
		if was, there := held.Base.File(f.Path); !there || was.Digest != f.Digest {
			over[f.Path] = plan.Node{Kind: plan.File, Size: f.Size, Digest: f.Digest}
		}
	}
	for _, f := range held.Base.Files {
		if _, there := to.Base.File(f.Path); !there {
			over[f.Path] = plan.Node{}
		}
	}
	at := change.Target{Want: plan.FromTree(tree).Over(over), Exact: true, Tree: tree, Composed: to}
	p, err := change.Propose(ctx, l, at, state.Change{What: state.ChangeKeep, Build: builds[i].Name(), Before: pin, After: pin})
	if err == nil {
		p.Change.Totals.Update = builds[i].Name()
	}
	return p, err
}
