package change

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/record"
	"morvant/internal/lane/status"
	"morvant/internal/layers"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// An update that comes into a held lane is recorded before a change ends it: of content what the change saves anyway. Files that
// were touched within a minute of each other are one wave; what comes within an hour of an update that was ended belongs to it.
const (
	wave     = time.Minute
	oneOf    = time.Hour
	severals = 2 // files from which on changes of the build look like an update
)

// Arrival is an update that has come into a held lane.
type Arrival struct {
	held  *state.Build
	drift *status.Drift
	files []*scan.Entry // that came, the oldest first
	// before is what of it came and was ended not long ago; nil: nothing did.
	before *state.Build
	build  *state.Build // that it is: known, or recorded as it came
	fresh  bool         // it has been recorded now
}

// noteArrival records the update that a change is about to end, if it is one, and notes it with the change.
func (p *Proposal) noteArrival(ctx context.Context, l *lane.Lane) error {
	pin, held, err := l.Pin(ctx)
	if errors.Is(err, state.ErrUnknown) || err == nil && (held == nil || p.Plan.Empty() || l.Remade || p.Change.What == state.ChangeCarry || p.Change.What == state.ChangeKeep) {
		return nil
	}
	if err != nil {
		return err
	}
	if again, err := p.takesUndoBack(ctx, l); err != nil || again {
		return err
	}
	drift, err := status.DriftOf(ctx, l, p.tree, held, pin)
	if err != nil {
		return err
	}
	a, err := ArrivalIn(ctx, l, p.tree, held, drift)
	if err != nil || a == nil || p.takes(a) {
		return err
	}
	if err := a.identify(ctx, l, p.tree, pin); err != nil {
		return err
	}
	p.Change.Totals.Update = a.build.Name()
	p.arrived = a.sentence()
	return nil
}

// takesUndoBack reports whether a change takes an undo back: what that one has brought back came long ago.
func (p *Proposal) takesUndoBack(ctx context.Context, l *lane.Lane) (bool, error) {
	if p.Change.What != state.ChangeUndo {
		return false, nil
	}
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	return err == nil && len(history) > 0 && history[0].What == state.ChangeUndo, err
}

// takes reports whether a change does not end an update, but goes on from it.
func (p *Proposal) takes(a *Arrival) bool {
	return p.composed != nil && !slices.ContainsFunc(a.files, func(e *scan.Entry) bool {
		f, there := p.composed.Base.File(e.Path)
		return !there || f.Digest != e.Digest
	})
}

// ArrivalIn finds out whether what differs from a held build is an update; nil: it is none.
func ArrivalIn(ctx context.Context, l *lane.Lane, t *scan.Tree, held *state.Build, drift *status.Drift) (*Arrival, error) {
	a := &Arrival{held: held, drift: drift}
	program := false
	for _, e := range drift.Altered {
		if a.add(t, e.Path) {
			program = program || l.Game.Program != "" && strings.EqualFold(e.Path, l.Game.Program)
		}
	}
	if len(a.files) == 0 {
		return nil, nil
	}
	again, err := a.goesOn(ctx, l)
	if err != nil || !again && !program && drift.Update == nil && len(a.files) < severals {
		return nil, err
	}
	began := slices.MinFunc(a.files, earlier)
	for _, e := range drift.Extra {
		owner := drift.Ground.Of(e.Path, e.Node)
		is := t.Entry(e.Path)
		if owner.Whose == layers.LeftOver || owner.Whose == layers.Unknown && is != nil && at(is) >= at(began) {
			a.add(t, e.Path)
		}
	}
	slices.SortFunc(a.files, earlier)
	return a, nil
}

// add adds a file that came, unless something that is laid over the build has made way for the build's own.
func (a *Arrival) add(t *scan.Tree, path string) bool {
	e := t.Entry(path)
	if e == nil || e.Kind != scan.File || !e.Known {
		return false
	}
	if p := a.drift.Ground.Sheet.At(path); p.Wants() && p.Layer.Kind() != layers.OfBuild {
		for under := p.Under; under != nil; under = under.Under {
			if under.Wants() && under.Node.Digest == e.Digest {
				return false
			}
		}
	}
	a.files = append(a.files, e)
	return true
}

// at is when a file was last touched, in nanoseconds; what lies in the future, by the clock of another zone, counts as any other.
func at(e *scan.Entry) int64 { return max(e.Stamp.CTime, 0) }

func earlier(a, b *scan.Entry) int { return int(min(1, max(-1, at(a)-at(b)))) }

// identify finds the known build that the update is, or records it.
func (a *Arrival) identify(ctx context.Context, l *lane.Lane, t *scan.Tree, pin state.Pin) (err error) {
	c, err := compose.OfPin(ctx, l, a.held, pin)
	if err != nil {
		return err
	}
	laid := func(path string) bool {
		p := c.Sheet.At(path)
		return p.Wants() && p.Layer.Kind() != layers.OfBuild
	}
	if a.build, err = status.WholeBuildUnder(ctx, l, t, t, laid); err != nil || a.build != nil {
		return err
	}
	a.build, err = record.Update(ctx, l, record.Came{
		Held: c, Files: a.files, Tree: t, Before: a.before, Waves: a.waves(), Doubt: a.doubt(), Note: a.note(),
	})
	a.fresh = err == nil
	return err
}

// lastArrival is the update that the last change has ended, if that is not long ago and it was recorded as it came.
func lastArrival(ctx context.Context, l *lane.Lane) (*state.Build, error) {
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil || len(history) == 0 || history[0].Totals.Update == "" || l.Now().Sub(history[0].Made) > oneOf {
		return nil, err
	}
	recorded, err := l.Home.Recorded(ctx, l.Game.Name)
	for _, b := range recorded {
		if b.IsUpdate() && b.Name() == history[0].Totals.Update {
			return b, err
		}
	}
	return nil, err
}

// goesOn finds the update that was ended not long ago, and reports whether what has come now is of it: a file comes again. Where
// one has come with other content, it is another update.
func (a *Arrival) goesOn(ctx context.Context, l *lane.Lane) (again bool, err error) {
	last, err := lastArrival(ctx, l)
	if err != nil || last == nil {
		return false, err
	}
	m, err := last.ReadManifest(ctx, l.Store)
	if err != nil {
		return false, err
	}
	for _, e := range a.files {
		f, had := m.File(e.Path)
		held := a.drift.Ground.Sheet.At(e.Path)
		switch {
		case had && f.Digest == e.Digest:
			again = true
		case had && !(held.Wants() && held.Node.Digest == f.Digest):
			return false, nil
		}
	}
	a.before = last
	return again, nil
}

func (a *Arrival) waves() int {
	n := 1
	for i := 1; i < len(a.files); i++ {
		if time.Duration(at(a.files[i])-at(a.files[i-1])) > wave {
			n++
		}
	}
	return n
}

// doubt says what speaks against its being whole.
func (a *Arrival) doubt() string {
	if u := a.drift.Update; u != nil && u.HalfDone() {
		return fmt.Sprintf("only %d of %d files are as in %s", u.Done, u.Of, u.Build.Label)
	}
	return "it was recorded as it came, and nothing confirms that it is complete"
}

func (a *Arrival) note() string {
	text := fmt.Sprintf("over %s", a.held.Label)
	if u := a.drift.Update; u != nil {
		text += fmt.Sprintf("; looks like %s (%d of %d files)", u.Build.Label, u.Done, u.Of)
	}
	return text
}

// sentence tells of the update in the history.
func (a *Arrival) sentence() string {
	n := len(a.files)
	files := fmt.Sprintf("%d files", n)
	if n == 1 {
		files = "1 file"
	}
	from, to := time.Unix(0, at(a.files[0])), time.Unix(0, at(a.files[n-1]))
	when := from.Format("2006-01-02 15:04")
	if to.Sub(from) >= wave {
		when += to.Format("–15:04")
	}
	waves := ""
	if w := a.waves(); w > 1 {
		waves = fmt.Sprintf(" in %d waves", w)
	}
	is := "it is " + a.build.Name()
	if a.fresh {
		is = "recorded as " + a.build.Name() + ", no known build"
	}
	return fmt.Sprintf("an update had come (%s, %s%s): %s", when, files, waves, is)
}

// Continues names the update that was ended not long ago and has now come again, by what a held lane differs in; empty: none has.
func Continues(ctx context.Context, l *lane.Lane, s *status.Status) (string, error) {
	if s.Drift == nil {
		return "", nil
	}
	a, err := ArrivalIn(ctx, l, s.Tree, s.Build, s.Drift)
	if err != nil || a == nil || a.before == nil {
		return "", err
	}
	return a.before.Name(), nil
}
