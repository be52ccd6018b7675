package watch

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"morvant/internal/block"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/status"
	"morvant/internal/plan"
	"morvant/internal/process"
	"morvant/internal/scan"
)

// Mending is what came of bringing a lane back to its build.
type Mending struct {
	Done bool // it is as it should be, but for what is left
	// Err says why it could not be done, and AtWork why it was not tried: somebody is
	// writing to the lane just now. Either way it is tried again.
	Err    error
	AtWork []string
	// Left are files that come back again and again, and the block if that does; they are left
	// alone until there has been peace for a while. By says who may be behind it.
	Left      []string
	LeftBlock bool
	// Kept is the update that is left alone as a whole, where something of it had to be brought back for that.
	Kept string
	By   string
	// Stayed are files that have come and that nobody knows: they may be the player's.
	Stayed []plan.Entry
}

// waits reports whether something is still to be done.
func (m *Mending) waits() bool {
	return m != nil && (m.Err != nil || len(m.AtWork) > 0 || len(m.Left) > 0 || m.LeftBlock)
}

// sketch sums up what is to be told of it.
func (m *Mending) sketch() string {
	if m == nil {
		return ""
	}
	return fmt.Sprintf("%v %v %v %v %v", m.Done, m.Err, len(m.AtWork) > 0, m.Left, m.LeftBlock)
}

// The third time that the same files come back within an hour is a fight, which nobody wins.
const (
	fightTimes = 2 // that they have been brought back before
	fightSpan  = time.Hour
)

// theBlock stands for the block among what has been brought back.
const theBlock = ""

// mender brings a lane back, and remembers how often it had to.
type mender struct {
	back   map[string][]time.Time // what was brought back, and when
	seeded bool
}

// mend brings the lane back and sets the block again. quiet says that nothing has changed for a
// moment.
func (m *mender) mend(ctx context.Context, l *lane.Lane, s *status.Status, quiet bool) *Mending {
	out := &Mending{}
	if out.AtWork, out.Err = midWrite(l, s, quiet); out.Err != nil || len(out.AtWork) > 0 {
		return out
	}
	if out.Err = m.seed(ctx, l); out.Err != nil {
		return out
	}
	// An update is fought or left as a whole: half of it would be a mix that Morvant has made.
	again := drifted(s)
	update := ""
	if update, out.Err = change.Continues(ctx, l, s); out.Err != nil {
		return out
	}
	if m.fought(update, l.Now()) && update != "" || slices.ContainsFunc(again, func(p string) bool { return m.fought(p, l.Now()) }) {
		out.Left, again = again, nil
	}
	blockBroken := slices.ContainsFunc(s.Block, func(b block.State) bool {
		return !b.Holds && b.Prepared == "" // what is beside a path nobody touches
	})
	out.LeftBlock = blockBroken && m.fought(theBlock, l.Now())
	if len(out.Left) > 0 || out.LeftBlock {
		out.By = whoWrites(l)
	}
	if len(out.Left) > 0 && !m.whole(ctx, l, out) || len(again) == 0 && (!blockBroken || out.LeftBlock) {
		return out
	}
	err := guard.Loosen(ctx, l)
	switch {
	case err != nil:
	case len(again) > 0:
		var p *change.Proposal
		if p, err = propose.Repair(ctx, l, nil); err == nil {
			err = change.CarryOut(ctx, l, p) // which sees to the block as well
			update = p.Change.Totals.Update
		}
	default:
		err = guard.Block(ctx, l)
	}
	out.Err = errors.Join(err, guard.Tighten(context.WithoutCancel(ctx), l))
	if out.Done = out.Err == nil; !out.Done {
		return out
	}
	if blockBroken {
		again = append(again, theBlock)
	}
	if len(again) > 0 && update != "" {
		again = append(again, update)
	}
	for _, p := range again {
		m.back[p] = append(m.back[p], l.Now())
	}
	return out
}

// whole brings an update that is left alone back as a whole: what of it has been mended before comes back. It reports whether
// the update stands, or that is not known.
func (m *mender) whole(ctx context.Context, l *lane.Lane, out *Mending) bool {
	p, err := propose.Keep(ctx, l)
	if errors.Is(err, propose.ErrNoArrival) || err == nil && p.Plan.Empty() {
		return true
	}
	if err == nil {
		err = guard.Loosen(ctx, l)
	}
	if err == nil {
		out.Kept = p.Change.Build
		err = errors.Join(change.CarryOut(ctx, l, p), guard.Tighten(context.WithoutCancel(ctx), l))
	}
	out.Err = err
	return err == nil
}

// seed fills in what an earlier run has brought back lately.
func (m *mender) seed(ctx context.Context, l *lane.Lane) error {
	if m.seeded {
		return nil
	}
	m.back, m.seeded = make(map[string][]time.Time), true
	paths, times, at, err := change.LastRepair(ctx, l)
	for _, p := range paths {
		m.back[p] = slices.Repeat([]time.Time{at}, times)
	}
	return err
}

// fought reports whether something comes back again and again.
func (m *mender) fought(p string, now time.Time) bool {
	m.back[p] = slices.DeleteFunc(m.back[p], func(t time.Time) bool { return now.Sub(t) > fightSpan })
	return len(m.back[p]) >= fightTimes
}

// drifted lists the files that differ.
func drifted(s *status.Status) []string {
	if s.Drift == nil || !s.Drift.Any() {
		return nil
	}
	list := slices.Concat(s.Drift.Altered, s.Drift.Missing, s.Drift.Unrunnable, s.Drift.Lost, s.Drift.Harmed)
	if s.Drift.ExtraCounts {
		list = append(list, s.Drift.Extra...)
	}
	var paths []string
	for _, e := range list {
		paths = append(paths, e.Path)
	}
	slices.Sort(paths)
	return paths
}

// justNow is how long ago a file may have been touched that may still be written to.
const justNow = 30 * time.Second

// lastTouched is when a file was last touched. A time that lies in the future is of another clock, or time zone, and says nothing.
func lastTouched(e *scan.Entry, now time.Time) time.Time {
	var last time.Time
	for _, ns := range []int64{e.Stamp.CTime, e.Stamp.MTime} {
		if t := time.Unix(0, ns); t.After(last) && !t.After(now) {
			last = t
		}
	}
	return last
}

// midWrite says what shows that somebody is writing to the lane at this moment.
func midWrite(l *lane.Lane, s *status.Status, quiet bool) ([]string, error) {
	if !quiet {
		return []string{"it changes all the time"}, nil
	}
	if s.Drift == nil {
		return nil, nil
	}
	var fresh []*scan.Entry
	for _, e := range slices.Concat(s.Drift.Altered, s.Drift.Extra) {
		if is := s.Tree.Entry(e.Path); is != nil {
			fresh = append(fresh, is)
		}
	}
	list, err := openFiles(l, fresh)
	if err != nil || len(list) > 0 {
		return list, err
	}
	fresh = slices.DeleteFunc(fresh, func(e *scan.Entry) bool {
		return l.Now().Sub(lastTouched(e, l.Now())) > justNow
	})
	return unfilled(context.Background(), l, fresh)
}

// Busy says what shows that somebody is at work in the lane: what runs from its folder, but for those that are passed over by
// process, and who is writing to it.
func Busy(l *lane.Lane, s *status.Status, passed map[int]bool) ([]string, error) {
	running, err := process.In(l.Dir)
	if err != nil {
		return nil, err
	}
	var list []string
	for _, r := range running {
		if !passed[r.PID] {
			list = append(list, named(r)+" runs")
		}
	}
	at, err := atWork(l, nil)
	if err != nil {
		return nil, err
	}
	writing, err := midWrite(l, s, true)
	return slices.Concat(list, at, writing), err
}

// Sketch sums up how a lane stands, to be compared: where two are the same, nothing has changed in between.
func Sketch(s *status.Status) string { return sketch(s) }

// whoWrites says who may be writing to the lane: who has a file of it open, or the launcher.
func whoWrites(l *lane.Lane) string {
	if open, err := process.Writing(l.Dir, nil); err == nil && len(open) > 0 && open[0].By.PID != 0 {
		return named(open[0].By)
	}
	if list, err := process.Named(l.Game.Launcher); err == nil && len(list) > 0 {
		return named(list[0])
	}
	return ""
}

func named(r process.Running) string {
	return fmt.Sprintf("%s (process %d)", filepath.Base(r.Path), r.PID)
}

// stayed lists the files beside the build that were not there before.
func stayed(before, now *status.Status) []plan.Entry {
	if before == nil || before.Drift == nil || now.Drift == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(now.Drift.Extra), func(e plan.Entry) bool {
		return slices.ContainsFunc(before.Drift.Extra, func(o plan.Entry) bool { return strings.EqualFold(o.Path, e.Path) })
	})
}
