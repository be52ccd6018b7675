package change

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"

	"morvant/internal/apply"
	"morvant/internal/digest"
	"morvant/internal/game"
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
	// Taken are those that the change takes away.
	Taken []*status.LeftOver

	// LinkedAgain counts the files that become one with a file elsewhere again, as they were; Copies those
	// that cannot, and come as files of their own.
	LinkedAgain, Copies int

	tree     *scan.Tree
	composed *compose.Composed // nil: what it leads to is no build
	prepare  func(context.Context) error
	// Shared is how many of the bytes to write are shared with other lanes, and take
	// no space.
	Shared int64
}

// target is the state a lane is to be brought to, and by which rights.
type target struct {
	want         plan.State
	owned        plan.State
	clean, exact bool
	links        bool              // those that lead out and are not wanted go, too
	tree         *scan.Tree        // what is there, if it has been looked at already
	composed     *compose.Composed // the build it is; nil: none
	leave        map[string]bool   // files that stay as they are
	// prepare, if set, puts the promised content into the store before the change.
	prepare  func(context.Context) error
	promised map[digest.Digest]bool
}

// request asks for the plan that leads there from what is there.
func (to *target) request(l *lane.Lane) plan.Request {
	rules := compose.Rules(l, to.composed)
	rules.Leave = slices.AppendSeq(slices.Clone(rules.Leave), maps.Keys(to.leave))
	return plan.Request{
		Have: plan.FromTree(to.tree), Odd: to.tree.Odd, Want: to.want, Owned: to.owned, Rules: rules,
		Clean: to.clean, Exact: to.exact, Links: to.links, IgnoresCase: l.IgnoresCase(), Doubles: !l.DiskIgnoresCase(), LeftOut: to.composed.OutPaths(),
	}
}

// propose makes the plan that leads to a target.
func propose(ctx context.Context, l *lane.Lane, to target, c state.Change) (*Proposal, error) {
	if to.tree == nil {
		var err error
		if to.tree, err = l.Glance(ctx, 0); err != nil {
			return nil, err
		}
	}
	request := to.request(l)
	proposal := &Proposal{Odd: slices.Concat(to.tree.Odd, to.tree.Unread), tree: to.tree, composed: to.composed, prepare: to.prepare}
	if err := proposal.plan(ctx, l, request); err != nil {
		return nil, err
	}
	if err := known(to.tree, proposal.Plan); err != nil {
		return nil, err
	}
	if err := source(ctx, l, proposal, request, to.promised); err != nil {
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
	proposal.Yielded = compose.Yielded(l, to.composed, proposal.Plan)
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

// PinOptions say how a lane is pinned.
type PinOptions struct {
	Clean bool // remove files that are not the build's and not the player's
	Exact bool // bring the snapshot back whole, the player's kept files included
	Hold  bool // hold the lane there afterwards; otherwise only go there
	Whole bool // as Exact, but this once: the player's own files are theirs afterwards
	// Components of a feed's build; none: those that the lane has.
	Components []string
	Open       bool // do not block updates
	Follow     bool // go on with updates: what the pin adds is laid over each new build
	// Add is what the pin has beside its build: overlays, companions, edits, keep
	// rules, what it leaves out.
	Add state.Pin
	// Inherit takes over what the pin before has beside its build, but for what Without names.
	Inherit bool
	Without []string
	// Replace puts other overlays in the place of those of these builds, by UID.
	Replace map[string]state.Overlay
	// LeftOvers takes away what is just as in other snapshots.
	LeftOvers bool
}

// Again are the options by which a lane that is held stays as it is.
func Again(pin state.Pin) PinOptions {
	return PinOptions{Hold: true, Components: pin.Components, Clean: pin.Clean, Exact: pin.Exact, Open: pin.Open, Follow: pin.Follow, Inherit: true}
}

// ErrFragment is returned for a pin to what is no build.
var ErrFragment = errors.New("these files belong over a build; they are not a build")

// ProposePin plans to bring the lane to a build.
func ProposePin(ctx context.Context, l *lane.Lane, b *state.Build, o PinOptions) (*Proposal, error) {
	if b.Fragment {
		return nil, fmt.Errorf("%s: %w", b.Label, ErrFragment)
	}
	choice, err := compose.Choose(ctx, l, b, o.Components)
	if err != nil {
		return nil, err
	}
	to, err := compose.Of(ctx, l, b, choice.Names)
	if err != nil {
		return nil, err
	}
	if err := compose.CheckLeaveOut(l, to, o.Add.LeaveOut); err != nil {
		return nil, err
	}
	var off []state.Edit
	var lifted []state.Overlay
	if o.Inherit {
		was, err := l.Home.Pin(ctx, l.Game.Name, l.Name)
		if err != nil {
			return nil, err
		}
		was.Overlays = slices.Clone(was.Overlays)
		for i, over := range was.Overlays {
			if n, replaced := o.Replace[over.Build]; replaced {
				n.Name, n.Covered = over.Name, over.Covered
				was.Overlays[i] = n
			}
		}
		links, err := l.Home.Player.Links(ctx, was.Links)
		if err != nil {
			return nil, err
		}
		linked := func(p string) bool { return links[p] != "" }
		if o.Add, off, lifted, err = inherit(was, o.Add, o.Without, linked); err != nil {
			return nil, err
		}
	}
	l.KeepAlso(o.Add)
	if err := compose.CheckAdditions(o.Add, l.Game.Rules()); err != nil {
		return nil, err
	}
	before, owned, err := compose.Pinned(ctx, l)
	if err != nil {
		return nil, err
	}
	held := owned
	c := state.Change{What: state.ChangeUnpin, Build: b.Label, Before: before}
	if o.Hold {
		c.What = state.ChangePin
		c.After = state.Pin{
			Build: to.Build.UID, Components: choice.Names, Open: o.Open || o.Follow, Follow: o.Follow, Clean: o.Clean || o.Exact, Exact: o.Exact,
			Overlays: o.Add.Overlays, Companions: o.Add.Companions, Keep: o.Add.Keep, LeaveOut: o.Add.LeaveOut,
			Since: l.Now(), First: before.First,
		}
		if c.After.Edits, err = compose.Was(ctx, l, to, o.Add.Edits); err != nil {
			return nil, err
		}
		if err := compose.Add(ctx, l, to, c.After, true); err != nil {
			return nil, err
		}
		if err := compose.Restore(ctx, l, to, off); err != nil {
			return nil, err
		}
	}
	tree, err := l.Glance(ctx, 0)
	if err != nil {
		return nil, err
	}
	if owned, err = gamesOwn(l, owned, tree, nil); err != nil {
		return nil, err
	}
	if o.Hold {
		if err := compose.LayMods(ctx, l, to, &c.After, before, owned, tree); err != nil {
			return nil, err
		}
		if err := compose.LiftMods(ctx, l, to, &c.After, lifted, tree); err != nil {
			return nil, err
		}
		gone := func(p string) bool { return slices.Contains(o.Without, p) || slices.Contains(o.Without, AllLinks) }
		links, covered, err := compose.KeepLinks(ctx, l, to, before, tree, o.Exact || o.Whole, gone)
		if err != nil {
			return nil, err
		}
		if l.Game.OrderByTime {
			times, notes, err := compose.KeepTimes(ctx, l, to, before, held, tree)
			if err != nil {
				return nil, err
			}
			c.After.Times, to.Notes = times, append(to.Notes, notes...)
		}
		if c.After.Links = links; covered > 0 {
			to.Notes = append(to.Notes, coveredLinks(covered))
		}
	}
	at := target{want: to.State(), owned: owned, clean: o.Clean, exact: o.Exact || o.Whole, tree: tree, composed: to}
	p, err := propose(ctx, l, at, c)
	if err != nil {
		return nil, err
	}
	over, err := status.LeftOvers(ctx, l, to.Build, p.Plan.Extra)
	if err != nil {
		return nil, err
	}
	taken := slices.DeleteFunc(slices.Clone(over), func(f *status.LeftOver) bool { return !f.Sure && !o.LeftOvers })
	if len(taken) > 0 {
		add := make(map[string]plan.Node)
		for _, f := range taken {
			for _, e := range f.Files {
				add[e.Path] = e.Node
			}
		}
		at.owned = owned.With(add)
		if p, err = propose(ctx, l, at, c); err != nil {
			return nil, err
		}
	}
	p.Taken = taken
	p.LeftOvers = slices.DeleteFunc(over, func(f *status.LeftOver) bool { return slices.Contains(taken, f) })
	p.Build, p.Choice, p.LeftOut = to.Build, choice, len(to.LeftOut)
	p.Notes = append(p.Notes, dropped(before, c.After)...)
	if before.Build != to.Build.UID {
		old, err := status.OldCopies(ctx, l, tree, to.Manifest)
		if err != nil {
			return nil, err
		}
		p.Notes = append(p.Notes, oldCopies(old, to.Build)...)
	}
	if o.Hold && (!before.Held() || before.Follow && o.Follow) { // to unpin leads to the updated game, without what was added
		p.Change.After.First = p.Change.UID
	}
	return p, nil
}

// oldCopies tells of files that a mod program has put aside from another build.
func oldCopies(list []status.OldCopy, to *state.Build) []string {
	const few = 3
	var notes []string
	for i, o := range list {
		if i == few {
			return append(notes, fmt.Sprintf("so are %d more such files", len(list)-few))
		}
		notes = append(notes, fmt.Sprintf("%s is of %s, not of %s: what puts it back brings a file of the other build", o.Path, o.Build.Label, to.Label))
	}
	return notes
}

func coveredLinks(n int) string {
	if n == 1 {
		return "1 link that leads out of the folder stands where the build has files, and makes way for them"
	}
	return fmt.Sprintf("%d links that lead out of the folder stand where the build has files, and make way for them", n)
}

// dropped says what the pin before had beside its build that the next one has not.
func dropped(before, after state.Pin) []string {
	var notes []string
	for _, o := range before.Overlays {
		if !slices.ContainsFunc(after.Overlays, func(n state.Overlay) bool { return n.Name == o.Name && n.Pattern == o.Pattern }) {
			if o.Mod {
				notes = append(notes, fmt.Sprintf("%s is lifted", o.Name))
				continue
			}
			notes = append(notes, fmt.Sprintf("the overlay %s of %s is not part of the new pin", o.Pattern, o.Name))
		}
	}
	for _, k := range before.Companions {
		if !slices.ContainsFunc(after.Companions, func(n state.Companion) bool { return n.Path == k.Path }) {
			notes = append(notes, fmt.Sprintf("the companion %s is not part of the new pin", k.Path))
		}
	}
	for _, k := range before.Keep {
		if !slices.Contains(after.Keep, k) {
			notes = append(notes, fmt.Sprintf("the keep rule %s is not part of the new pin", k))
		}
	}
	for _, k := range before.LeaveOut {
		if !slices.Contains(after.LeaveOut, k) {
			notes = append(notes, fmt.Sprintf("%s is left out no more", k))
		}
	}
	for _, e := range before.Edits {
		if !slices.ContainsFunc(after.Edits, func(n state.Edit) bool { return n.File == e.File && n.Find == e.Find }) {
			notes = append(notes, fmt.Sprintf("the edit of %s that sets \"%s\" is not part of the new pin", e.File, e.Set))
		}
	}
	return notes
}

// gamesOwn adds to owned what else in the folder is surely the game's and not the
// player's: files that are just as in some build that a feed offers. Those of any
// component of held are left out: the player may have added it.
func gamesOwn(l *lane.Lane, owned plan.State, t *scan.Tree, held *state.Build) (plan.State, error) {
	offered, err := l.Home.Offered(l.Game.Name)
	if err != nil {
		return nil, err
	}
	fold := l.Game.Rules().Fold
	theirs := make(map[string]bool)
	if held != nil && len(held.Feeds) > 0 {
		parts, err := compose.OfferedParts(held)
		if err != nil {
			game.TellLeftOut(l.Home, held, err)
		}
		for _, p := range parts {
			for _, f := range p.Manifest.Files {
				theirs[fold(f.Path)] = true
			}
		}
	}
	seen := make(map[digest.Digest]bool)
	add := make(map[string]plan.Node)
	for _, b := range offered {
		for _, p := range b.Components {
			if seen[p.Manifest] {
				continue
			}
			seen[p.Manifest] = true
			m, err := b.Feeds[0].Manifest(p.Manifest)
			if err != nil {
				game.TellLeftOut(l.Home, b, err)
				continue
			}
			for _, f := range m.Files {
				if e := t.Entry(f.Path); !theirs[fold(f.Path)] && e != nil && e.Known && e.Kind == scan.File && e.Digest == f.Digest {
					add[f.Path] = plan.Node{Kind: plan.File, Size: f.Size, Digest: f.Digest}
				}
			}
		}
	}
	return owned.With(add), nil
}

// ProposeRepair plans to bring the lane back to what it is held to. tree, if not
// nil, is what a verify has just read.
func ProposeRepair(ctx context.Context, l *lane.Lane, tree *scan.Tree) (*Proposal, error) {
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
	p, err := propose(ctx, l, *to, state.Change{What: state.ChangeRepair, Build: b.Label, Before: pin, After: pin})
	if err != nil {
		return nil, err
	}
	p.Build = b
	return p, nil
}

// repaired is the target of a repair: what the lane is held to.
func repaired(ctx context.Context, l *lane.Lane, tree *scan.Tree, b *state.Build, pin state.Pin) (*target, error) {
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
	owned, err := gamesOwn(l, want, tree, b)
	if err != nil {
		return nil, err
	}
	if owned, err = updatesOwn(ctx, l, owned, tree, b, pin); err != nil {
		return nil, err
	}
	return &target{want: want, owned: owned, clean: pin.Clean, exact: pin.Exact, tree: tree, composed: to, leave: to.ModsChanged(tree)}, nil
}

// updatesOwn adds to owned what is just as in the snapshot to which the lane has drifted: as if it
// were held to that, and pinned to the other.
func updatesOwn(ctx context.Context, l *lane.Lane, owned plan.State, t *scan.Tree, b *state.Build, pin state.Pin) (plan.State, error) {
	match := l.Game.Rules().Matcher()
	extra := slices.ContainsFunc(t.Entries, func(e scan.Entry) bool {
		_, is := owned.Get(e.Path)
		return e.Kind == scan.File && !is && !match.Kept(e.Path) && !match.Scratch(e.Path)
	})
	if !extra { // nothing that could go
		return owned, nil
	}
	d, err := status.DriftOf(ctx, l, t, b, pin)
	if err != nil || d.Update == nil || d.Update.Build.Channel != "" {
		return owned, err
	}
	m, err := d.Update.Build.ReadManifest(ctx, l.Store)
	if err != nil {
		return nil, err
	}
	add := make(map[string]plan.Node)
	for _, f := range m.Files {
		if e := t.Entry(f.Path); e != nil && e.Known && e.Kind == scan.File && e.Digest == f.Digest {
			add[f.Path] = plan.Node{Kind: plan.File, Size: f.Size, Digest: f.Digest}
		}
	}
	return owned.With(add), nil
}

// maxSteps bounds the encoded steps of a change, in bytes.
const maxSteps = 1 << 30

func steps(ctx context.Context, l *lane.Lane, c *state.Change) ([]plan.Step, error) {
	raw, err := l.Store.Bytes(ctx, c.Steps, maxSteps)
	if err != nil {
		return nil, fmt.Errorf("the record of change %d: %w", c.ID, err)
	}
	return plan.DecodeSteps(raw)
}
