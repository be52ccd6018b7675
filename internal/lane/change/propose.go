package change

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"slices"

	"morvant/internal/apply"
	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/status"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// Proposal is a change that has been planned and not carried out.
type Proposal struct {
	Plan    *plan.Plan
	Odd     []scan.Oddity
	Change  state.Change    // what the history will say
	Build   *state.Build    // the build it leads to, if it leads to one
	Choice  *compose.Choice // of that build's components
	Fetches []*Fetching     // what must be fetched first
	Notes   []string        // what the player should know
	Yielded int             // files of the build that rules leave to the player
	// Of a carry: files that come, and files that differ and stay as they are here.
	Brought, Stayed int
	// Keep are the keep rules by which what a carry brings is the player's.
	Keep    []string
	LeftOut int // files of the build that the pin leaves out
	// LeftOvers are files that stay and are just as in other known builds.
	LeftOvers []*status.LeftOver
	// Block says why the block that follows the change is incomplete; nil: it is not.
	Block error
	// Taken are those that the change takes away.
	Taken []*status.LeftOver

	// LinkedAgain counts the files that become one with a file elsewhere again, as they were; Copies those
	// that cannot, and come as files of their own.
	LinkedAgain, Copies int

	tree     *scan.Tree
	composed *compose.Composed // nil: what it leads to is no build
	prepare  func(context.Context) error
	arrived  string // tells of the update that it ends
	// Shared is how many of the bytes to write are shared with other lanes, and take
	// no space.
	Shared int64
}

// Idle reports whether it changes nothing: no file, and not what the lane is held to.
func (p *Proposal) Idle(l *lane.Lane) bool {
	steps := p.Change.What == state.ChangePin && len(l.Game.AfterPin)+len(l.Game.ConvertSaves) > 0
	return p.Plan.Empty() && !steps && p.Change.What != state.ChangeUndo && p.Change.Before.Same(p.Change.After)
}

// Leaves is what the folder will hold after it; nil where nobody has looked at it, since every file stays.
func (p *Proposal) Leaves() plan.State {
	if p.tree == nil {
		return nil
	}
	return plan.Forward(plan.FromTree(p.tree), p.Plan.Steps)
}

// Target is the state a lane is to be brought to, and by which rights.
type Target struct {
	Want         plan.State
	Owned        plan.State
	Clean, Exact bool
	Links        bool              // those that lead out and are not wanted go, too
	Tree         *scan.Tree        // what is there, if it has been looked at already
	Composed     *compose.Composed // the build it is; nil: none
	Leave        map[string]bool   // files that stay as they are
	Back         bool              // names get the letter case of what is wanted, and folders their times
	// Prepare, if set, puts the promised content into the store before the change.
	Prepare  func(context.Context) error
	Promised map[digest.Digest]bool
}

// Request asks for the plan that leads there from what is there.
func (to *Target) Request(l *lane.Lane) plan.Request {
	rules := compose.Rules(l, to.Composed)
	rules.Leave = slices.AppendSeq(rules.Leave, maps.Keys(to.Leave))
	return plan.Request{
		Have: plan.FromTree(to.Tree), Odd: to.Tree.Odd, Want: to.Want, Owned: to.Owned, Rules: rules,
		Clean: to.Clean, Exact: to.Exact, Links: to.Links, IgnoresCase: l.IgnoresCase() && !(to.Back && !l.DiskIgnoresCase()), Doubles: !l.DiskIgnoresCase(), LeftOut: to.Composed.Out(), Folders: to.Back,
	}
}

// Propose makes the plan that leads to a target.
func Propose(ctx context.Context, l *lane.Lane, to Target, c state.Change) (*Proposal, error) {
	if to.Tree == nil {
		var err error
		if to.Tree, err = l.Glance(ctx, 0); err != nil {
			return nil, err
		}
	}
	request := to.Request(l)
	proposal := &Proposal{Odd: slices.Concat(to.Tree.Odd, to.Tree.Unread), tree: to.Tree, composed: to.Composed, prepare: to.Prepare}
	if err := proposal.plan(ctx, l, request); err != nil {
		return nil, err
	}
	if err := known(to.Tree, proposal.Plan); err != nil {
		return nil, err
	}
	if err := source(ctx, l, proposal, request, to.Promised); err != nil {
		return nil, err
	}
	var err error
	if proposal.Shared, err = shareable(ctx, l, proposal.Plan); err != nil {
		return nil, err
	}
	if err := l.CanHold(proposal.Plan); err != nil {
		return nil, err
	}
	unsettable(l, proposal)
	proposal.Yielded = compose.Yielded(l, to.Composed, proposal.Plan)
	c.UID, c.Game, c.Lane, c.Made = state.NewUID(), l.Game.Name, l.Name, l.Now()
	c.Totals = totals(proposal.Plan)
	proposal.Change = c
	return proposal, nil
}

// plan makes the plan that a request asks for.
func (p *Proposal) plan(ctx context.Context, l *lane.Lane, request plan.Request) error {
	want, apart, err := apply.Links(ctx, l.Names(), l.Spelling(request.Have), request.Have, request.Want)
	if err != nil {
		return err
	}
	request.Want = want
	if p.Plan, err = plan.Make(request); err != nil {
		return err
	}
	p.LinkedAgain, p.Copies = apply.CountLinks(p.Plan, apart)
	return nil
}

// known returns an error if the plan takes something from its place that could not be read.
func known(t *scan.Tree, p *plan.Plan) error {
	for i := range p.Steps {
		s := &p.Steps[i]
		if !s.Displaces() || s.Before.Kind != plan.File || !s.Before.Digest.IsZero() {
			continue
		}
		err := scan.ErrUnstable
		if slices.ContainsFunc(t.Unread, func(o scan.Oddity) bool { return o.Path == s.Path && o.What != scan.Changing }) {
			err = fs.ErrPermission
		}
		return fmt.Errorf("%s: %w", s.Path, err)
	}
	return nil
}

func totals(p *plan.Plan) state.Totals {
	t := p.Totals()
	return state.Totals{Replaced: t.Replaced, Added: t.Added, Removed: t.Removed, Moved: t.Moved, Retimed: t.Retimed, Written: t.Write, Made: t.Made, Unmade: t.Unmade}
}

// maxSteps bounds the encoded steps of a change, in bytes.
const maxSteps = 1 << 30

// StepsOf reads the steps of a change.
func StepsOf(ctx context.Context, l *lane.Lane, c *state.Change) ([]plan.Step, error) {
	raw, err := l.Store.Bytes(ctx, c.Steps, maxSteps)
	if err != nil {
		return nil, fmt.Errorf("the record of change %d: %w", c.ID, err)
	}
	return plan.DecodeSteps(raw)
}
