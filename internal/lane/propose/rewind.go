package propose

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
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

// MovedOnError says that a folder is not as the last change left it: it looks like another build, or files have changed that
// the change did not touch.
type MovedOnError struct {
	Change   *state.Change // the last one
	Like     string        // the build that it looks like; empty: none that is known
	Done, Of int           // files that are as in that build, of those that tell the two apart
	Build    string        // that it is held to
	Beside   []string      // files that differ from that, and that the change did not touch
}

func (e *MovedOnError) Error() string {
	left := "the folder is no longer as " + lane.LowerFirst(lane.Describe(e.Change)) + " left it"
	if e.Like != "" {
		return fmt.Sprintf("%s: it looks like %s now (%d of %d files). Undoing only the files of that change would mix two builds", left, e.Like, e.Done, e.Of)
	}
	const few = 3
	differ := " differ"
	switch n := len(e.Beside) - few; {
	case n > 0:
		differ = fmt.Sprintf(" and %d more differ", n)
	case len(e.Beside) == 1:
		differ = " differs"
	}
	return fmt.Sprintf("%s: %s%s from %s, so an update may have come. Undoing only the files of that change would make a mix that never was", left, strings.Join(e.Beside[:min(few, len(e.Beside))], ", "), differ, e.Build)
}

func movedOn(last *state.Change, held *state.Build, drift *status.Drift, beside []string) *MovedOnError {
	e := &MovedOnError{Change: last, Build: held.Label, Beside: beside}
	if u := drift.Update; u != nil {
		e.Like, e.Done, e.Of = u.Build.Label, u.Done, u.Of
	}
	return e
}

// errWhole is returned where only files are known that a change has touched.
var errWhole = problem.New("Morvant does not know the whole folder as it was, because it was not held at a build", "Nothing was changed; without --whole, undo restores only the files that the change touched")

// Undo plans to take a change back: change number id, or the last that
// still stands if id is 0.
func Undo(ctx context.Context, l *lane.Lane, id int64, how Rewinding) (*change.Proposal, *state.Change, error) {
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, nil, err
	}
	c, err := Undoable(history, id)
	if err != nil {
		return nil, nil, err
	}
	if made, err := madeTheLane(ctx, l, c); err != nil || made {
		return nil, nil, errors.Join(err, ErrMadeLane)
	}
	undo := state.Change{What: state.ChangeUndo, Undoes: c.ID, Before: c.After, After: c.Before}
	forgotten := false
	if undo.After.Held() {
		if _, err := l.Home.RecordedBuild(ctx, l.Game.Name, undo.After.Build); errors.Is(err, state.ErrUnknown) {
			forgotten, undo.After = true, state.Pin{}
		} else if err != nil {
			return nil, nil, err
		}
	}
	p, err := rewind(ctx, l, []*state.Change{c}, undo, how)
	if err == nil && forgotten {
		p.Notes = append(p.Notes, "the build that it was held to before has been forgotten, so it is not held any more")
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
		if c.Undone == 0 && c.What != state.ChangeUndo && last == nil && !idle(c) {
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

// rewind plans to take back changes, given the newest first.
func rewind(ctx context.Context, l *lane.Lane, changes []*state.Change, c state.Change, how Rewinding) (*change.Proposal, error) {
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
		list, err := change.StepsOf(ctx, l, was)
		if err != nil {
			return nil, err
		}
		taken[i] = spelling.Steps(list)
	}
	note := ""
	if !l.Remade {
		if want, note, err = takenFrom(ctx, l, tree, want, taken, changes[0], c.After, how); err != nil {
			return nil, err
		}
	}
	for _, list := range taken {
		want = plan.Rewind(want, list)
	}
	p, err := change.Propose(ctx, l, change.Target{Want: want, Exact: true, Links: true, Tree: tree}, c)
	if err == nil && note != "" {
		p.Notes = append(p.Notes, note)
	}
	return p, err
}

// takenFrom decides what changes are taken back from, given the newest first: from what the folder is, or from the build that
// it is held to, now or once they are taken back. Where files differ from what the last one left, the note says so.
func takenFrom(ctx context.Context, l *lane.Lane, tree *scan.Tree, have plan.State, taken [][]plan.Step, last *state.Change, after state.Pin, how Rewinding) (plan.State, string, error) {
	touched, left := leftBy(l, taken)
	n := 0
	for p, was := range left {
		switch is, there := have.Get(p); {
		case was == nil && there && is.Kind != plan.Dir, was != nil && (!there || !was.SameContent(is)):
			n++
		}
	}
	pin, b, err := l.Pin(ctx)
	held := b != nil
	if err == nil && !held && after.Held() {
		pin = after
		b, err = l.Home.RecordedBuild(ctx, l.Game.Name, pin.Build)
	}
	if err != nil && !errors.Is(err, state.ErrUnknown) { // it is forgotten
		return nil, "", err
	}
	var drift *status.Drift
	var update *change.Arrival
	var beside []string
	if b != nil {
		if drift, err = status.DriftOf(ctx, l, tree, b, pin); err != nil {
			return nil, "", err
		}
		if update, err = change.ArrivalIn(ctx, l, tree, b, drift); err != nil {
			return nil, "", err
		}
		if held { // else nobody knows what the rest of the folder was
			beside = slices.DeleteFunc(drift.Built(), func(p string) bool { return touched[p] })
		}
	}
	if n+len(beside) == 0 {
		return have, "", nil
	}
	switch {
	case how == Whole && b == nil:
		return nil, "", errWhole
	case how == Whole:
		to, err := repaired(ctx, l, tree, b, pin)
		if err != nil {
			return nil, "", err
		}
		p, err := plan.Make(to.Request(l))
		if err != nil {
			return nil, "", err
		}
		return plan.Forward(have, p.Steps), noLonger(n+len(beside), last) + "; later changes are lost", nil
	case how == Ask && (len(beside) > 0 || update != nil && (held || drift.Update != nil)):
		if len(beside) == 0 {
			beside = drift.Built()
		}
		return nil, "", movedOn(last, b, drift, beside)
	}
	return have, noLonger(n, last) + "; files that it did not touch stay as they are", nil
}

// idle reports whether a change has changed nothing, which earlier versions recorded all the same.
func idle(c *state.Change) bool {
	return c.Steps == digest.Of(plan.EncodeSteps(nil)) && c.Before.Same(c.After)
}

// leftBy says which paths changes touched, given the newest first, and how they left those that are the game's.
func leftBy(l *lane.Lane, changes [][]plan.Step) (touched map[string]bool, left map[string]*plan.Node) {
	touched, left = make(map[string]bool), make(map[string]*plan.Node)
	match := l.Game.Rules().Matcher()
	for _, list := range changes {
		for i := range list {
			s := &list[i]
			if _, newer := left[s.Path]; newer || touched[s.Path] {
				continue
			}
			touched[s.Path] = !s.KeepsContent()
			if !match.Kept(s.Path) && !match.Scratch(s.Path) && (s.After == nil || s.After.Kind != plan.Dir) {
				left[s.Path] = s.After
			}
		}
	}
	return touched, left
}

func noLonger(n int, last *state.Change) string {
	if n == 1 {
		return "1 file is no longer as " + lane.LowerFirst(lane.Describe(last)) + " left it"
	}
	return fmt.Sprintf("%d files are no longer as %s left them", n, lane.LowerFirst(lane.Describe(last)))
}

// Leads names the known build that the folder will be after a proposal, as a whole; nil if it will
// be none.
func Leads(ctx context.Context, l *lane.Lane, p *change.Proposal) (*state.Build, error) {
	after := &scan.Tree{}
	for _, e := range p.Leaves() {
		if e.Kind == plan.File {
			after.Entries = append(after.Entries, scan.Entry{Path: e.Path, Kind: scan.File, Digest: e.Digest, Known: !e.Digest.IsZero(), Stamp: scan.Stamp{Size: e.Size}})
		}
	}
	return status.WholeBuild(ctx, l, after, after)
}
