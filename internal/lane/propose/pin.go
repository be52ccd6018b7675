package propose

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/status"
	"morvant/internal/layers"
	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
)

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
	// FollowsUpdate says that the launcher has updated the lane to the build.
	FollowsUpdate bool
	// LeftOvers takes away what is just as in other snapshots.
	LeftOvers bool
}

// Again are the options by which a lane that is held stays as it is.
func Again(pin state.Pin) PinOptions {
	return PinOptions{Hold: true, Components: pin.Components, Clean: pin.Clean, Exact: pin.Exact, Open: pin.Open, Follow: pin.Follow, Inherit: true}
}

// ErrFragment is returned for a pin to what is no build.
var ErrFragment = errors.New("these files belong over a build; they are not a build")

// Pin plans to bring the lane to a build.
func Pin(ctx context.Context, l *lane.Lane, b *state.Build, o PinOptions) (*change.Proposal, error) {
	if b.Fragment {
		return nil, fmt.Errorf("%s: %w", b.Label, ErrFragment)
	}
	w := &pinning{lane: l, PinOptions: o, change: state.Change{What: state.ChangeUnpin, Build: b.Label}}
	if err := w.choose(ctx, b); err != nil {
		return nil, err
	}
	if err := w.look(ctx); err != nil {
		return nil, err
	}
	if err := w.lay(ctx); err != nil {
		return nil, err
	}
	return w.propose(ctx)
}

// pinning is a pin that is being planned.
type pinning struct {
	PinOptions
	lane   *lane.Lane
	choice *compose.Choice
	to     *compose.Composed
	change state.Change
	held   *compose.Composed // what the lane is held to before; nil: nothing
	tree   *scan.Tree
	have   plan.State
	ground *compose.Ground
	back   bool // it leads to what was there before the hold
}

// choose puts the build together, and what the pin has beside it.
func (w *pinning) choose(ctx context.Context, b *state.Build) (err error) {
	l := w.lane
	if w.choice, err = compose.Choose(ctx, l, b, w.Components); err != nil {
		return err
	}
	if w.to, err = compose.Of(ctx, l, b, w.choice.Names); err != nil {
		return err
	}
	if err = compose.CheckLeaveOut(l, w.to, w.Add.LeaveOut); err != nil {
		return err
	}
	if w.Inherit {
		if w.Add, err = w.inherited(ctx); err != nil {
			return err
		}
	}
	l.KeepAlso(w.Add)
	return compose.CheckAdditions(w.Add, l.Game.Rules())
}

// inherited is what the pin has beside its build with what the one before has.
func (w *pinning) inherited(ctx context.Context) (state.Pin, error) {
	was, err := w.lane.Home.Pin(ctx, w.lane.Game.Name, w.lane.Name)
	if err != nil {
		return was, err
	}
	was.Overlays = slices.Clone(was.Overlays)
	for i, over := range was.Overlays {
		if n, replaced := w.Replace[over.Build]; replaced {
			n.Name = over.Name
			was.Overlays[i] = n
		}
	}
	links, err := w.lane.Home.Player.Links(ctx, was.Links)
	if err != nil {
		return was, err
	}
	return inherit(was, w.Add, w.Without, func(p string) bool { return links[p] != "" })
}

// look looks at what is there, and whose it is.
func (w *pinning) look(ctx context.Context) (err error) {
	if w.change.Before, w.held, err = compose.Pinned(ctx, w.lane); err != nil {
		return err
	}
	if w.tree, err = w.lane.Glance(ctx, 0); err != nil {
		return err
	}
	w.have = plan.FromTree(w.tree)
	w.ground, err = compose.GroundOf(ctx, w.lane, w.held, w.have, nil)
	return err
}

// lay lays what the pin has beside its build over it, and lifts what the one before has.
func (w *pinning) lay(ctx context.Context) error {
	l, c := w.lane, &w.change
	first := &compose.First{Held: w.held, Have: w.have, Ground: w.ground.Ground}
	if !w.Hold {
		err := w.to.Lay(ctx, l, &state.Pin{}, first)
		w.lifted()
		return err
	}
	c.What = state.ChangePin
	c.After = w.Add
	c.After.Build, c.After.Components = w.to.Build.UID, w.choice.Names
	c.After.Open, c.After.Follow, c.After.Clean, c.After.Exact = w.Open || w.Follow, w.Follow, w.Clean || w.Exact, w.Exact
	c.After.Since, c.After.First, c.After.Covered, c.After.CoveredTimes = l.Now(), c.Before.First, c.Before.Covered, c.Before.CoveredTimes
	c.After.Overlays, c.After.Edits = slices.Clone(w.Add.Overlays), slices.Clone(w.Add.Edits)
	gone := func(p string) bool { return slices.Contains(w.Without, p) || slices.Contains(w.Without, AllLinks) }
	if err := w.to.Lay(ctx, l, &c.After, first); err != nil {
		return err
	}
	links, covered, err := compose.KeepLinks(ctx, l, w.to, c.Before, w.tree, w.Exact || w.Whole, gone)
	if err != nil {
		return err
	}
	if c.After.Links = links; covered > 0 {
		w.to.Notes = append(w.to.Notes, coveredLinks(covered))
	}
	if l.Game.OrderByTime {
		times, notes, err := compose.KeepTimes(ctx, l, w.to, c.Before, w.held.Owned(), w.tree)
		if err != nil {
			return err
		}
		c.After.Times, w.to.Notes = times, append(w.to.Notes, notes...)
	}
	w.lifted()
	c.After.From = w.from()
	return nil
}

// lifted tells of what is lifted and stays, for the player has changed it.
func (w *pinning) lifted() {
	same := make(map[string]int)
	for _, f := range w.to.Lifted {
		if f.Same && !f.Stays {
			same[f.By]++
		}
	}
	for _, by := range slices.Sorted(maps.Keys(same)) {
		w.to.Notes = append(w.to.Notes, fmt.Sprintf("%s has %s of %s itself, so lifting it leaves them", w.to.Build.Label, files(same[by]), by))
	}
	for _, f := range w.to.Lifted {
		if f.Why != "" {
			w.to.Notes = append(w.to.Notes, f.Why)
		}
		if f.Stays && w.Hold {
			w.stays(f.Path)
		}
	}
}

// from names the folder as it is before the hold begins.
func (w *pinning) from() state.Folder {
	before := w.change.Before
	switch {
	case w.FollowsUpdate:
		return state.Folder{}
	case before.Held():
		return before.From
	}
	match := w.lane.Game.Rules().Matcher()
	t := *w.tree
	t.Entries = slices.DeleteFunc(slices.Clone(t.Entries), func(e scan.Entry) bool {
		return match.Kept(e.Path) || match.Scratch(e.Path) || e.Kind == scan.File && !e.Known
	})
	return state.Folder{Manifest: w.to.Sheet.Bring(t.Manifest().Encode()).Digest, Attributes: w.to.Sheet.Bring(t.Attributes().Encode()).Digest}
}

// stays leaves a file that a layer has brought and the player has changed, as theirs from now on.
func (w *pinning) stays(path string) {
	rule := rules.Literal(path)
	if _, built := w.to.Base.File(path); built && !slices.Contains(w.change.After.Keep, rule) {
		w.change.After.Keep = append(slices.Clone(w.change.After.Keep), rule)
	}
}

// propose plans what leads there.
func (w *pinning) propose(ctx context.Context) (*change.Proposal, error) {
	l, c := w.lane, w.change
	owned := w.held.Owned().With(w.ground.Leaves(w.have, func(layers.Owner) bool { return w.LeftOvers }))
	at := change.Target{Want: w.to.State(), Owned: owned, Clean: w.Clean, Exact: w.Exact || w.Whole, Tree: w.tree, Composed: w.to, Back: w.back}
	p, err := change.Propose(ctx, l, at, c)
	if err != nil {
		return nil, err
	}
	moved := make(map[string]bool)
	for i := range p.Plan.Steps {
		moved[p.Plan.Steps[i].From] = true
	}
	var taken []plan.Entry
	for i := range p.Plan.Steps {
		if s := &p.Plan.Steps[i]; s.Displaces() && s.After == nil && !moved[s.Path] {
			taken = append(taken, plan.Entry{Path: s.Path, Node: *s.Before})
		}
	}
	p.Taken, p.LeftOvers = status.LeftOvers(w.ground, taken), status.LeftOvers(w.ground, p.Plan.Extra)
	p.Build, p.Choice = w.to.Build, w.choice
	if w.to.Sheet != nil {
		p.LeftOut = len(w.to.Sheet.LeftOut)
	}
	p.Notes = append(p.Notes, dropped(c.Before, c.After)...)
	if c.Before.Build != w.to.Build.UID {
		old, err := status.OldCopies(ctx, l, w.tree, w.to.Manifest)
		if err != nil {
			return nil, err
		}
		p.Notes = append(p.Notes, oldCopies(old, w.to.Build)...)
	}
	if w.Hold && (!c.Before.Held() || w.FollowsUpdate) { // to unpin leads to the updated game, without what was added
		p.Change.After.First = p.Change.UID
	}
	return p, nil
}

func files(n int) string {
	if n == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", n)
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
