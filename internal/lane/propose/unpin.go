package propose

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/status"
	"morvant/internal/layers"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// ErrMadeLane is returned for the change that made a lane: taken back, nothing would be left.
var ErrMadeLane = errors.New("that change made the lane, and undoing it would leave an empty folder")

// Unpin plans to end the hold, and to bring the folder to what it was before it as a whole: as it was recorded then, or
// the newest update that was followed. With Recorded, only the files that changes since have touched are taken back.
func Unpin(ctx context.Context, l *lane.Lane, how Rewinding) (*change.Proposal, error) {
	pin, err := lifted(ctx, l)
	if err != nil {
		return nil, err
	}
	before, err := beforeHold(ctx, l, pin)
	if err != nil {
		return nil, err
	}
	switch {
	case how == Recorded || before == nil:
		return rewindHold(ctx, l, pin, how)
	case len(before.Base.Files) == 0:
		if made, err := madeOfNothing(ctx, l); err != nil || made {
			return stays(ctx, l, err)
		}
	}
	if how == Ask && !l.Remade {
		if err := asHeld(ctx, l, pin); err != nil {
			return nil, err
		}
	}
	return proposeBack(ctx, l, before)
}

// beforeHold is what unpinning leads to; nil: it was not recorded, by an earlier version.
func beforeHold(ctx context.Context, l *lane.Lane, pin state.Pin) (*compose.Composed, error) {
	if !pin.From.IsZero() {
		c, err := compose.Recorded(ctx, l, pin.From.Build(l.Game.Name))
		if errors.Is(err, store.ErrMissing) {
			return nil, nil // lost; the history has what was replaced
		}
		return c, err
	}
	_, b, err := l.Pin(ctx)
	if err != nil || b == nil || !pin.Follow {
		return nil, err
	}
	since, _, err := sinceHold(ctx, l, pin)
	if err != nil || len(since) == 0 || !since[len(since)-1].Before.Held() { // no update has been followed yet
		return nil, err
	}
	return compose.Of(ctx, l, b, pin.Components)
}

// asHeld returns an error if the folder is not as it is held, in more than files that were changed for the hold, or looks like
// another build: what has come may be an update, and is not thrown away unasked.
func asHeld(ctx context.Context, l *lane.Lane, pin state.Pin) error {
	b, err := l.Home.RecordedBuild(ctx, l.Game.Name, pin.Build)
	if errors.Is(err, state.ErrUnknown) {
		return nil
	}
	if err != nil {
		return err
	}
	tree, err := l.Glance(ctx, 0)
	if err != nil {
		return err
	}
	drift, err := status.DriftOf(ctx, l, tree, b, pin)
	if err != nil {
		return err
	}
	since, _, err := sinceHold(ctx, l, pin)
	if err != nil {
		return err
	}
	touched := make(map[string]bool)
	for _, c := range since {
		list, err := change.StepsOf(ctx, l, c)
		if err != nil {
			return err
		}
		for i := range list {
			touched[list[i].Path] = touched[list[i].Path] || !list[i].KeepsContent()
		}
	}
	var beside []string
	for _, e := range slices.Concat(drift.Altered, drift.Back) {
		if !touched[e.Path] {
			beside = append(beside, e.Path)
		}
	}
	a, err := change.ArrivalIn(ctx, l, tree, b, drift)
	if err != nil {
		return err
	}
	if len(beside) > 0 || a != nil {
		if len(beside) == 0 {
			beside = drift.Built()
		}
		return movedOn(&state.Change{What: state.ChangePin, Build: b.Label}, b, drift, beside)
	}
	return nil
}

// proposeBack plans to bring the folder to what it was before the hold.
func proposeBack(ctx context.Context, l *lane.Lane, before *compose.Composed) (*change.Proposal, error) {
	w := &pinning{lane: l, to: before, choice: &compose.Choice{}, change: state.Change{What: state.ChangeUnpin}}
	if err := w.look(ctx); err != nil {
		return nil, err
	}
	lost, err := w.dropLost(ctx)
	if err != nil {
		return nil, err
	}
	if err := w.lay(ctx); err != nil {
		return nil, err
	}
	if err := w.takeOwnBack(ctx); err != nil {
		return nil, err
	}
	w.back = true
	p, err := w.propose(ctx)
	if err == nil && lost > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("%d files that were there before are gone by now and are recorded nowhere", lost))
	}
	return p, err
}

// takeOwnBack takes back what changes since the hold began have done to files of the player's, as an exact pin does, where these are
// still as the changes left them.
func (w *pinning) takeOwnBack(ctx context.Context) error {
	since, _, err := sinceHold(ctx, w.lane, w.change.Before)
	if err != nil {
		return err
	}
	done := make(map[string]bool) // what lifting a layer gives back
	for _, f := range w.to.Lifted {
		done[f.Path] = true
	}
	left, was := make(map[string]*plan.Node), make(map[string]*plan.Node)
	match := w.ground.Rules.Matcher()
	for _, c := range since {
		steps, err := change.StepsOf(ctx, w.lane, c)
		if err != nil {
			return err
		}
		for i := range steps {
			s := &steps[i]
			if done[s.Path] || s.KeepsContent() || !match.Kept(s.Path) {
				continue
			}
			if c.What == state.ChangeRepair && s.Before == nil {
				continue // it was missing, and is where it has to be
			}
			if _, newer := left[s.Path]; !newer {
				left[s.Path] = s.After
			}
			was[s.Path] = s.Before
		}
	}
	for path, after := range left {
		is, there := w.have.Get(path)
		if (after == nil) == there || there && !is.SameContent(*after) {
			continue // the player has changed it since
		}
		back := layers.Lifted{Path: path, Once: true}
		if was[path] != nil {
			back.To = *was[path]
		}
		w.to.Lifted = append(w.to.Lifted, back)
	}
	return nil
}

// dropLost leaves out what was there before, is not any more, and is recorded nowhere: a file of nobody's that somebody has taken
// away or changed since.
func (w *pinning) dropLost(ctx context.Context) (int, error) {
	here := make(map[digest.Digest]bool)
	for _, e := range w.have {
		here[e.Digest] = true
	}
	if w.held != nil {
		for _, f := range w.held.Base.Files {
			here[f.Digest] = true
		}
	}
	wanted := slices.DeleteFunc(compose.Contents(w.to.Base), func(d digest.Digest) bool { return here[d] })
	lacks, err := w.lane.Store.Lacks(ctx, wanted)
	if err != nil || len(lacks) == 0 {
		return 0, err
	}
	lost := make(map[string]bool)
	for _, f := range w.to.Base.Files {
		if lacks[f.Digest] {
			lost[f.Path] = true
		}
	}
	w.to.Base = w.to.Base.Without(func(p string) bool { return lost[p] })
	w.to.Manifest = w.to.Base
	return len(lost), nil
}

// UpdatesSince names the updates that came since the hold began and were ended, the newest first.
func UpdatesSince(ctx context.Context, l *lane.Lane) ([]string, error) {
	pin, err := lifted(ctx, l)
	if err != nil {
		return nil, err
	}
	since, _, err := sinceHold(ctx, l, pin)
	var names []string
	for _, c := range since {
		if u := c.Totals.Update; u != "" && !slices.Contains(names, u) {
			names = append(names, u)
		}
	}
	return names, err
}

// rewindHold takes back every change since the hold began, in reverse, that still stands.
func rewindHold(ctx context.Context, l *lane.Lane, pin state.Pin, how Rewinding) (*change.Proposal, error) {
	since, first, err := sinceHold(ctx, l, pin)
	if err != nil {
		return nil, err
	}
	if !first {
		return nil, fmt.Errorf("the history does not reach back to before the hold; end it with --stay or --to BUILD: %w", lane.ErrNothing)
	}
	return rewind(ctx, l, since, state.Change{What: state.ChangeUnpin, Before: pin}, how)
}

// sinceHold lists the changes since a hold began that still stand, the newest first; first says whether the history reaches
// back to the one that began it.
func sinceHold(ctx context.Context, l *lane.Lane, pin state.Pin) (since []*state.Change, first bool, err error) {
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, false, err
	}
	for _, c := range history {
		if c.Undone == 0 && c.What != state.ChangeUndo {
			since = append(since, c)
		}
		if c.UID == pin.First {
			return since, true, nil
		}
	}
	return since, false, nil
}

// Lift plans to lift the hold and leave every file as it is.
func Lift(ctx context.Context, l *lane.Lane) (*change.Proposal, error) {
	pin, err := lifted(ctx, l)
	if err != nil {
		return nil, err
	}
	c := state.Change{What: state.ChangeUnpin, Before: pin, UID: state.NewUID(), Game: l.Game.Name, Lane: l.Name, Made: l.Now()}
	return &change.Proposal{Plan: &plan.Plan{}, Change: c}, nil
}

// stays lifts the hold of a lane that was made with it: nothing was there before.
func stays(ctx context.Context, l *lane.Lane, err error) (*change.Proposal, error) {
	if err != nil {
		return nil, err
	}
	p, err := Lift(ctx, l)
	if err == nil {
		p.Notes = append(p.Notes, "the lane was made with this hold, so there is nothing to go back to: every file stays as it is (as with --stay)")
	}
	return p, err
}

// lifted returns the hold that is to be lifted, if that may be. Its build may be forgotten by now.
func lifted(ctx context.Context, l *lane.Lane) (state.Pin, error) {
	pin, _, err := l.Pin(ctx)
	if err != nil && !errors.Is(err, state.ErrUnknown) {
		return pin, err
	}
	if !pin.Held() {
		return pin, lane.ErrNotHeld
	}
	return pin, nil
}

// madeTheLane reports whether a change is the one that filled the folder of a lane when it was made.
func madeTheLane(ctx context.Context, l *lane.Lane, c *state.Change) (bool, error) {
	if c.What != state.ChangePin || c.Before.Held() || c.After.From.IsZero() || c.After.First != c.UID {
		return false, nil
	}
	raw, err := l.Store.Bytes(ctx, c.After.From.Manifest, manifest.MaxEncoded)
	if err != nil {
		return false, nil
	}
	m, err := manifest.DecodeRecorded(raw)
	if err != nil || len(m.Files) > 0 {
		return false, nil
	}
	return madeOfNothing(ctx, l)
}

// madeOfNothing reports whether a lane that held nothing before it was held is one beside others, and so was made with its hold.
func madeOfNothing(ctx context.Context, l *lane.Lane) (bool, error) {
	lanes, err := l.Home.Lanes(ctx, l.Game.Name)
	return len(lanes) > 1, err
}
