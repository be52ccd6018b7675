package watch

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/record"
	"morvant/internal/lane/status"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/version"
)

// Followed is what came of an update of a lane whose pin follows updates.
type Followed struct {
	To *state.Build
	// Anew says that the build is the same as before: only what is laid over it had gone.
	Anew     bool
	Recorded bool              // the build was known to nobody, and has been recorded
	Left     []*propose.Misfit // overlays that do not fit any more
	Waits    string            // why it is not done yet; empty: it is done
}

// sketch sums up what is to be told of it.
func (f *Followed) sketch() string {
	if f == nil {
		return ""
	}
	return fmt.Sprintf("%v %v %v", f.To, f.Anew, f.Waits)
}

// FollowUp lays what a pin has beside its build over the build to which the launcher has updated the
// lane, if the pin follows updates. It returns nil where nothing of the kind has happened: what the
// player has changed by hand is drift like any other.
//
// An update to a known build is taken as soon as nobody is at work. One to a build that nobody knows is
// recorded, on doubt, if the game says another version than before, everything has rested for a
// while and no file looks unfinished.
func FollowUp(ctx context.Context, l *lane.Lane) (*Followed, error) {
	pin, held, err := l.Pin(ctx)
	if err != nil || held == nil || !pin.Follow || l.Unfinished != nil || l.Strange != "" {
		return nil, err
	}
	now, err := status.Of(ctx, l, status.Whole)
	if err != nil || !now.Drift.Any() {
		return nil, err
	}
	c, err := compose.OfPin(ctx, l, held, pin)
	if err != nil {
		return nil, err
	}
	u := &following{lane: l, now: now, c: c, laid: laidOver(c)}
	if !u.over() {
		return u.update(ctx)
	}
	if waits, err := u.busy(); err != nil || waits != "" {
		return &Followed{Waits: waits}, err
	}
	p, err := propose.Repair(ctx, l, now.Tree)
	if err != nil {
		return nil, err
	}
	return &Followed{To: held, Anew: true}, change.CarryOut(ctx, l, p)
}

// following is one look at a lane that follows updates and has drifted.
type following struct {
	lane *lane.Lane
	now  *status.Status
	c    *compose.Composed
	laid map[string]digest.Digest
}

// laidOver lists the files that a pin has beside its build.
func laidOver(c *compose.Composed) map[string]digest.Digest {
	laid := make(map[string]digest.Digest)
	for _, f := range c.Manifest.Files {
		if of, built := c.Base.File(f.Path); !built || of.Digest != f.Digest {
			laid[f.Path] = f.Digest
		}
	}
	return laid
}

// over reports whether the build itself stands as it should: of what is laid over it something has
// gone, and the build's own files have come back.
func (u *following) over() bool {
	d := u.now.Drift
	for _, e := range d.Altered {
		of, built := u.c.Base.File(e.Path)
		if _, is := u.laid[e.Path]; !is || !built || of.Digest != e.Digest {
			return false
		}
	}
	for _, e := range d.Missing {
		_, built := u.c.Base.File(e.Path)
		if _, is := u.laid[e.Path]; !is || built {
			return false
		}
	}
	return len(d.Back) == 0 && !(d.ExtraCounts && len(d.Extra) > 0)
}

// stands reports whether a file of those that are laid over the build is still there.
func (u *following) stands(path string) bool {
	want, is := u.laid[path]
	e := u.now.Tree.Entry(path)
	return is && e != nil && e.Kind == scan.File && e.Known && e.Digest == want
}

// touched are the files that differ.
func (u *following) touched() []*scan.Entry {
	var list []*scan.Entry
	for _, e := range slices.Concat(u.now.Drift.Altered, u.now.Drift.Extra) {
		if is := u.now.Tree.Entry(e.Path); is != nil && is.Kind == scan.File {
			list = append(list, is)
		}
	}
	return list
}

// busy says why the folder must not be changed now.
func (u *following) busy() (string, error) {
	if u.now.Running {
		return "the game is running", nil
	}
	at, err := atWork(u.lane, u.touched())
	return strings.Join(at, "; "), err
}

// update takes the update to which the lane has drifted, if it is one.
func (u *following) update(ctx context.Context) (*Followed, error) {
	l := u.lane
	to, err := status.WholeBuildUnder(ctx, l, u.now.Tree, u.now.Tree, u.stands)
	if err != nil {
		return nil, err
	}
	undone, err := undoneFollow(ctx, l)
	if err != nil || undone != "" && to != nil && to.Label == undone {
		return nil, err
	}
	f := &Followed{To: to}
	if to == nil || to.UID == u.now.Build.UID {
		label, waits, err := u.unknown(ctx)
		if label == "" || undone != "" && strings.HasPrefix(label, undone) || waits != "" || err != nil {
			return waiting(waits), err
		}
		s, err := record.Snapshot(ctx, l, record.Wanted{Label: label, Doubt: "it was recorded as it came, and nothing confirms that it is complete"})
		if err != nil {
			return nil, err
		}
		f.To, f.Recorded = s.Build, true
	} else if waits, err := u.busy(); err != nil || waits != "" {
		return waiting(waits), err
	}
	if f.Left, err = propose.Misfits(ctx, l, u.now.Pin, u.now.Build, f.To); err != nil {
		return nil, err
	}
	o := propose.Again(u.now.Pin)
	o.Components, o.FollowsUpdate = nil, true // those that the lane has
	for _, m := range f.Left {
		o.Without = append(o.Without, m.Overlay.Pattern)
	}
	p, err := propose.Pin(ctx, l, f.To, o)
	if err != nil {
		return nil, err
	}
	return f, change.CarryOut(ctx, l, p)
}

// undoneFollow is the label of the build that was followed last, if the player has taken that back since: nobody follows it again
// for them.
func undoneFollow(ctx context.Context, l *lane.Lane) (string, error) {
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil || len(history) == 0 || history[0].What != state.ChangeUndo {
		return "", err
	}
	for _, c := range history {
		if c.ID == history[0].Undoes && c.Before.Follow && c.After.Follow && c.Before.Build != c.After.Build {
			return c.Build, nil
		}
	}
	return "", nil
}

func waiting(why string) *Followed {
	if why == "" {
		return nil
	}
	return &Followed{Waits: why}
}

// unknown says how an update to a build that nobody knows is to be called; empty where it does not look
// like one. waits says what speaks against its being over.
func (u *following) unknown(ctx context.Context) (label, waits string, err error) {
	l := u.lane
	says, by, err := status.SaysLabel(ctx, l)
	changed := slices.ContainsFunc(u.now.Drift.Altered, func(e plan.Entry) bool { return e.Path == by.Source })
	if err != nil || says == "" || !changed || version.Means(says, u.now.Build.Label) {
		return "", "", err
	}
	if waits, err := u.busy(); err != nil || waits != "" {
		return "", waits, err
	}
	touched := u.touched()
	for _, e := range touched {
		if l.Now().Sub(lastTouched(e, l.Now())) < justNow {
			return "", fmt.Sprintf("%s has just changed", e.Path), nil
		}
	}
	if d := u.now.Drift.Update; d != nil && d.HalfDone() {
		return "", halfDone(u.now.Build.Label, d), nil
	}
	empty, err := unfilled(ctx, l, touched)
	if err != nil || len(empty) > 0 {
		return "", strings.Join(empty, "; "), err
	}
	label, err = record.NextLabel(ctx, l, says)
	return label, "", err
}
