package change

import (
	"context"
	"errors"
	"fmt"

	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/status"
	"morvant/internal/plan"
	"morvant/internal/problem"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// Rewinding says how a change is taken back where the folder has moved on since: where it
// is not as the last change left it.
type Rewinding int

// The ways to take a change back.
const (
	Ask      Rewinding = iota // not at all where the folder looks like another build: a MovedOnError
	Recorded                  // only the files that the change touched
	Whole                     // from what the last change left, so that the folder is as before as a whole
)

// MovedOnError says that a folder is not as the last change left it, and looks like another build.
type MovedOnError struct {
	Change   *state.Change // the last one
	Like     string        // the build that it looks like
	Done, Of int           // files that are as in that build, of those that tell the two apart
}

func (e *MovedOnError) Error() string {
	return fmt.Sprintf("the folder is no longer as %s left it: it looks like %s now (%d of %d files). Undoing only the files of that change would mix two builds", lane.LowerFirst(lane.Describe(e.Change)), e.Like, e.Done, e.Of)
}

// errWhole is returned where only files are known that a change has touched.
var errWhole = problem.New("Morvant does not know the whole folder as it was, because it was not held at a build", "Nothing was changed; without --whole, undo restores only the files that the change touched")

// ProposeUndo plans to take a change back: change number id, or the last that
// still stands if id is 0.
func ProposeUndo(ctx context.Context, l *lane.Lane, id int64, how Rewinding) (*Proposal, *state.Change, error) {
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, nil, err
	}
	c, err := Undoable(history, id)
	if err != nil {
		return nil, nil, err
	}
	// What has followed an update would follow it again.
	after := c.Before
	after.Follow = after.Follow && !c.After.Follow
	p, err := rewind(ctx, l, []*state.Change{c}, state.Change{What: state.ChangeUndo, Undoes: c.ID, Before: c.After, After: after}, how)
	if err == nil && c.Before.Follow && !after.Follow {
		p.Notes = append(p.Notes, "the pin does not follow updates any more")
	}
	return p, c, err
}

// Undoable finds the change to take back. Only the last that stands can be: the
// ones before it are buried under its files.
func Undoable(history []*state.Change, id int64) (*state.Change, error) {
	var last *state.Change
	for _, c := range history {
		switch {
		case c.ID == id && c.Undone != 0:
			return nil, fmt.Errorf("change %d is undone already (by change %d): %w", id, c.Undone, lane.ErrNothing)
		case c.ID == id && last != nil:
			return nil, fmt.Errorf("change %d came later; undo it first: %w", last.ID, lane.ErrNothing)
		case c.ID == id:
			return c, nil
		}
		if c.Undone == 0 && c.What != state.ChangeUndo && last == nil {
			last = c
			if id == 0 {
				return c, nil
			}
		}
	}
	if id != 0 {
		return nil, &state.UnknownError{Kind: "change", Name: fmt.Sprint(id)}
	}
	return nil, lane.ErrNothing
}

// ProposeUnpin plans to end the hold and restore the folder from before it:
// every change since then, in reverse, that still stands.
func ProposeUnpin(ctx context.Context, l *lane.Lane, how Rewinding) (*Proposal, error) {
	pin, err := lifted(ctx, l)
	if err != nil {
		return nil, err
	}
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	var since []*state.Change
	first := false
	for _, c := range history {
		if c.Undone == 0 && c.What != state.ChangeUndo {
			since = append(since, c)
		}
		if c.UID == pin.First {
			first = true
			break
		}
	}
	if !first {
		return nil, fmt.Errorf("the history does not reach back to before the hold; end it with --stay or --to BUILD: %w", lane.ErrNothing)
	}
	return rewind(ctx, l, since, state.Change{What: state.ChangeUnpin, Before: pin}, how)
}

// ProposeLift plans to lift the hold and leave every file as it is.
func ProposeLift(ctx context.Context, l *lane.Lane) (*Proposal, error) {
	pin, err := lifted(ctx, l)
	if err != nil {
		return nil, err
	}
	c := state.Change{What: state.ChangeUnpin, Before: pin, UID: state.NewUID(), Game: l.Game.Name, Lane: l.Name, Made: l.Now()}
	return &Proposal{Plan: &plan.Plan{}, Change: c, tree: &scan.Tree{}}, nil
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

// rewind plans to take back changes, given the newest first.
func rewind(ctx context.Context, l *lane.Lane, changes []*state.Change, c state.Change, how Rewinding) (*Proposal, error) {
	tree, err := l.Glance(ctx, 0)
	if err != nil {
		return nil, err
	}
	want := plan.FromTree(tree)
	if l.Remade {
		// The folder is empty: what is taken back is taken back from what it held.
		_, held, err := compose.Pinned(ctx, l)
		if err != nil {
			return nil, err
		}
		want = held.Owned()
		if want == nil {
			return nil, fmt.Errorf("the folder was gone: %w", lane.ErrNotHeld)
		}
	}
	spelling := l.Spelling(want)
	taken := make([][]plan.Step, len(changes))
	for i, was := range changes {
		list, err := steps(ctx, l, was)
		if err != nil {
			return nil, err
		}
		taken[i] = spelling.Steps(list)
	}
	note := ""
	if n := moved(l, want, taken); n > 0 && !l.Remade {
		left := lane.LowerFirst(lane.Describe(changes[0]))
		note = fmt.Sprintf("1 file is no longer as %s left it", left)
		if n != 1 {
			note = fmt.Sprintf("%d files are no longer as %s left them", n, left)
		}
		if how == Whole {
			note += "; later changes are lost"
		} else {
			note += "; files that it did not touch stay as they are"
		}
		if want, err = movedOn(ctx, l, tree, want, changes[0], c.After, how); err != nil {
			return nil, err
		}
	}
	for _, list := range taken {
		want = plan.Rewind(want, list)
	}
	p, err := propose(ctx, l, target{want: want, exact: true, links: true, tree: tree}, c)
	if err == nil && note != "" {
		p.Notes = append(p.Notes, note)
	}
	return p, err
}

// moved counts the files of the game that are not as changes, given the newest first, have left them.
func moved(l *lane.Lane, have plan.State, changes [][]plan.Step) int {
	left := make(map[string]*plan.Node)
	for _, list := range changes {
		for i := range list {
			if _, newer := left[list[i].Path]; !newer {
				left[list[i].Path] = list[i].After
			}
		}
	}
	match := l.Game.Rules().Matcher()
	n := 0
	for p, was := range left {
		if match.Kept(p) || match.Scratch(p) || was != nil && was.Kind == plan.Dir {
			continue
		}
		switch is, there := have.Get(p); {
		case was == nil && there && is.Kind != plan.Dir, was != nil && (!there || !was.SameContent(is)):
			n++
		}
	}
	return n
}

// movedOn decides what changes are taken back from, where the folder is no longer as the last one left
// it: from what it is, or from the build that it is held to, now or once they are taken back.
func movedOn(ctx context.Context, l *lane.Lane, tree *scan.Tree, have plan.State, last *state.Change, after state.Pin, how Rewinding) (plan.State, error) {
	pin, b, err := l.Pin(ctx)
	if err == nil && b == nil && after.Held() {
		pin = after
		b, err = l.Home.RecordedBuild(ctx, l.Game.Name, pin.Build)
	}
	switch {
	case err != nil:
		return nil, err
	case how == Whole && b == nil:
		return nil, errWhole
	case how == Whole:
		to, err := repaired(ctx, l, tree, b, pin)
		if err != nil {
			return nil, err
		}
		p, err := plan.Make(to.request(l))
		if err != nil {
			return nil, err
		}
		return plan.Forward(have, p.Steps), nil
	case how == Recorded || b == nil:
		return have, nil
	}
	drift, err := status.DriftOf(ctx, l, tree, b, pin)
	if err == nil && drift.Update != nil {
		u := drift.Update
		err = &MovedOnError{Change: last, Like: u.Build.Label, Done: u.Done, Of: u.Of}
	}
	return have, err
}

// Leads names the known build that the folder will be after a proposal, as a whole; nil if it will
// be none.
func Leads(ctx context.Context, l *lane.Lane, p *Proposal) (*state.Build, error) {
	after := &scan.Tree{}
	for _, e := range plan.Forward(plan.FromTree(p.tree), p.Plan.Steps) {
		if e.Kind == plan.File {
			after.Entries = append(after.Entries, scan.Entry{Path: e.Path, Kind: scan.File, Digest: e.Digest, Known: !e.Digest.IsZero(), Stamp: scan.Stamp{Size: e.Size}})
		}
	}
	return status.WholeBuild(ctx, l, after, after)
}
