package change

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"morvant/internal/apply"
	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/guard"
	"morvant/internal/plan"
	"morvant/internal/problem"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// Ready returns an error if the proposal could not be carried out as things stand:
// the game is running, or a disk has no room.
func Ready(l *lane.Lane, p *Proposal) error {
	if l.Unfinished != nil {
		return l.Unfinished
	}
	if l.Strange != "" {
		return fmt.Errorf("%s: %w: %s", l.Dir, lane.ErrStranger, l.Strange)
	}
	if p.Plan.Empty() {
		return nil
	}
	if err := l.NotRunning(); err != nil {
		return err
	}
	var grow int64
	for _, f := range p.Fetches {
		grow += f.Grow
	}
	if grow > 0 {
		if err := volume.CheckFree(l.Store.Dir(), grow); err != nil {
			return err
		}
	}
	return apply.CheckSpace(l.Dir, p.Plan, p.Shared)
}

// CarryOut carries a proposal out and records it: it fetches what is missing, then
// changes the lane.
func CarryOut(ctx context.Context, l *lane.Lane, p *Proposal) error {
	if err := Ready(l, p); err != nil {
		return err
	}
	if err := backup.Guard(ctx, l, &p.Change); err != nil {
		return err
	}
	if err := p.bring(ctx, l); err != nil {
		return err
	}
	if p.Idle(l) { // no change, and nothing to undo
		p.Block = guard.Follow(ctx, l, &p.Change)
		sayIncomplete(l, p.Block, false)
		return nil
	}
	steps, err := putSteps(ctx, l, p.Plan.Steps)
	if err != nil {
		return err
	}
	p.Change.Steps = steps
	if err := p.noteArrival(ctx, l); err != nil {
		return err
	}
	p.Change.Notes = p.arrived
	memo, err := json.Marshal(&p.Change)
	if err != nil {
		return err
	}
	if err := mayTouch(l, p.Plan); err != nil {
		return err
	}
	// Noted before anything happens, until everything that follows is done.
	if err := l.Home.Begin(ctx, l.Game.Name, l.Name, state.BegunChange, p.Change.UID, json.RawMessage(memo)); err != nil {
		return err
	}
	if !p.Plan.Empty() {
		if err := change(ctx, l, p, memo); err != nil {
			return err
		}
	}
	// The change is made: recording it must not be cut short.
	ctx = context.WithoutCancel(ctx)
	if err := recordChange(ctx, l, &p.Change); err != nil {
		return err
	}
	if err := l.WriteMarkerAs(ctx, false); err != nil {
		return err
	}
	if !p.Plan.Empty() {
		if err := apply.Finish(l.Root); err != nil {
			return err
		}
		if err := remember(ctx, l, p); err != nil {
			return err
		}
	}
	p.Block, err = afterwards(ctx, l, &p.Change, false)
	return err
}

// bring brings the content that the change needs into the store.
func (p *Proposal) bring(ctx context.Context, l *lane.Lane) error {
	if p.composed != nil {
		for _, of := range p.composed.Sources() {
			if of.Unseen() {
				continue // when its content is known
			}
			if err := compose.Register(ctx, l, of, true); err != nil {
				return err
			}
		}
		if err := compose.StoreTexts(ctx, l, p.composed.Texts()); err != nil {
			return err
		}
	}
	if p.prepare != nil {
		if err := p.prepare(ctx); err != nil {
			return err
		}
	}
	for _, f := range p.Fetches {
		if _, err := compose.RunFetch(ctx, l, f.composed, f.Plan, f.only, p.tree); err != nil {
			return err
		}
	}
	if err := p.learn(ctx, l); err != nil {
		return err
	}
	return p.keepWhatNobodyHas(ctx, l)
}

// learn puts the digests of content that has come in the place of what stood for them in the plan, and records the
// builds that it is of.
func (p *Proposal) learn(ctx context.Context, l *lane.Lane) error {
	if p.composed == nil {
		return nil
	}
	for _, layer := range p.composed.Sources() {
		layer.Learn(l)
		if err := compose.Register(ctx, l, layer, true); err != nil {
			return err
		}
	}
	for i := range p.Plan.Steps {
		if n := p.Plan.Steps[i].After; n != nil && n.Digest.IsUnseen() {
			seen := *n
			seen.Digest = l.Home.Aliases.Own(n.Digest)
			p.Plan.Steps[i].After = &seen
			if seen.Digest.IsUnseen() {
				return fmt.Errorf("the content of %s: %w", p.Plan.Steps[i].Path, store.ErrMissing)
			}
		}
	}
	return nil
}

// keepWhatNobodyHas brings what the lane has of the build into the store, where it could not be fetched again: the
// feed has manifests alone, the account does not own it, or the distributor lists it no more.
func (p *Proposal) keepWhatNobodyHas(ctx context.Context, l *lane.Lane) error {
	if p.composed == nil || p.tree == nil {
		return nil
	}
	only := make(map[digest.Digest]bool)
	for _, part := range p.composed.Parts {
		published := part.ID == "" && !part.Layout.IsZero()
		listed := part.ID != "" && !part.NotOwned && p.composed.Build.ID != ""
		if published || listed {
			continue
		}
		for _, f := range part.Manifest.Files {
			only[f.Digest] = true
		}
	}
	lacks, err := l.Store.Lacks(ctx, slices.Collect(maps.Keys(only)))
	if err != nil || len(lacks) == 0 {
		return err
	}
	session := l.Store.Begin()
	err = l.Read(ctx, p.tree, scan.Request{Sink: session.Put, Task: "Keeping what cannot be fetched", Skip: func(e *scan.Entry) bool {
		return e.Kind != scan.File || !e.Known || !lacks[e.Digest]
	}})
	if err := errors.Join(err, session.Close()); err != nil {
		return err
	}
	whole, err := l.Store.Lacks(ctx, compose.Contents(p.composed.Base))
	if err != nil || len(whole) > 0 {
		return err
	}
	return compose.Register(ctx, l, p.composed, false)
}

// change brings the folder to what the proposal wants. After an error it is as before,
// and the note of the change is gone, unless it could not be taken back.
func change(ctx context.Context, l *lane.Lane, p *Proposal, memo json.RawMessage) error {
	over := func(err error) error {
		ctx := context.WithoutCancel(ctx)
		return errors.Join(err, l.WriteMarkerAs(ctx, false), l.Home.End(ctx, l.Game.Name, l.Name, state.BegunChange))
	}
	if err := l.WriteMarkerAs(ctx, true); err != nil {
		return over(err)
	}
	others := &elsewhere{}
	if p.Shared > 0 {
		others = otherLanes(ctx, l)
	}
	defer others.close()
	by, err := lane.Origin(ctx, l)
	if err != nil {
		return over(err)
	}
	report, err := apply.Do(ctx, apply.Job{
		ID: p.Change.UID, By: by, Root: l.Root, Dir: l.Dir, Plan: p.Plan, Tree: p.tree, Store: l.Store, Memo: memo, Meter: l.Meter, Now: l.Now,
		Elsewhere: others.open, Shared: p.Shared, Names: l.Names(),
	})
	sentences := sentences(context.WithoutCancel(ctx), l, report)
	for _, text := range sentences {
		l.Meter.Warn(text)
	}
	p.Change.Notes = notesOf(p.arrived, sentences)
	var unfinished *apply.UnfinishedError
	switch {
	case errors.As(err, &unfinished):
		return err
	case err != nil:
		return over(err)
	}
	return nil
}

// notesOf joins what the history says of a change.
func notesOf(arrived string, sentences []string) string {
	if arrived != "" {
		sentences = append([]string{arrived}, sentences...)
	}
	return strings.Join(sentences, "; ")
}

// afterwards does what follows a change of the lane, and then ends it. The change itself
// stands, whatever comes of that; why the block is incomplete is returned. What fails and may succeed later is left to the next
// command, once.
func afterwards(ctx context.Context, l *lane.Lane, c *state.Change, again bool) (block, err error) {
	block = guard.Follow(ctx, l, c)
	later := block != nil && !again && !guard.Lasting(block)
	if sayIncomplete(l, block, later); later {
		return block, nil
	}
	afterPin(ctx, l, c)
	return block, l.Home.End(ctx, l.Game.Name, l.Name, state.BegunChange)
}

// sayIncomplete says why a block is incomplete, if it is.
func sayIncomplete(l *lane.Lane, err error, later bool) {
	switch {
	case err == nil:
	case later:
		l.Meter.Warn(fmt.Sprintf("the block is incomplete: %v; the next command tries again", err))
	default:
		l.Meter.Warn(fmt.Sprintf("the block is incomplete: %v; see %s", err, problem.ShowBlock))
	}
}

// mayTouch returns an error if a file that has to leave its place cannot be moved: what
// can be known before anything is changed.
func mayTouch(l *lane.Lane, p *plan.Plan) error {
	folders := make(map[string]bool)
	for i := range p.Steps {
		s := &p.Steps[i]
		if !s.Displaces() && !s.Places() {
			continue
		}
		if s.Displaces() && volume.Immutable(l.Root, s.Path) {
			return fmt.Errorf("%s: %w", s.Path, lane.ErrImmutable)
		}
		dir := path.Dir(s.Path)
		if !folders[dir] {
			folders[dir] = true
			full := filepath.Join(l.Dir, filepath.FromSlash(dir))
			if volume.Immutable(l.Root, dir) {
				return fmt.Errorf("the folder %s: %w", full, lane.ErrImmutable)
			}
			if info, err := l.Root.Lstat(dir); err == nil && info.IsDir() && !volume.Writable(full) && !volume.Owned(full) {
				return fmt.Errorf("the folder %s %w", full, game.ErrProtected)
			}
			if same, err := volume.SameDisk(full, l.Dir); err == nil && !same {
				return fmt.Errorf("%s: %w", full, lane.ErrMounted)
			}
		}
	}
	return nil
}

// unsettable takes the steps out of a plan that only set times or modes which this user
// may not set, and says so.
func unsettable(l *lane.Lane, p *Proposal) {
	first := ""
	n := 0
	p.Plan.Steps = slices.DeleteFunc(p.Plan.Steps, func(s plan.Step) bool {
		if !s.KeepsContent() || s.After.Kind != plan.File || volume.MaySet(l.Root, s.Path) {
			return false
		}
		if n++; n == 1 {
			first = s.Path
		}
		return true
	})
	switch {
	case n == 1:
		why := "belongs to another user"
		if volume.Immutable(l.Root, first) {
			why = "is immutable"
		}
		p.Notes = append(p.Notes, fmt.Sprintf("the date or mode of %s stays as it is: the file %s", first, why))
	case n > 1:
		p.Notes = append(p.Notes, fmt.Sprintf("the dates or modes of %d files, such as %s, stay as they are: they belong to another user or are immutable", n, first))
	}
}

// recordChange records a change in the home, and in the folder for a home that goes back in time.
func recordChange(ctx context.Context, l *lane.Lane, c *state.Change) error {
	if err := repeats(ctx, l, c); err != nil {
		return err
	}
	if err := recordHere(ctx, l, c); err != nil {
		return err
	}
	return tellFolder(ctx, l, c)
}

// recordHere records a change, and whether the lane follows updates from now on: it
// does if nothing holds it, or the pin says so.
func recordHere(ctx context.Context, l *lane.Lane, c *state.Change) error {
	if err := l.Home.RecordChange(ctx, c); err != nil {
		return err
	}
	lanes, err := l.Home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(lanes, func(o *state.Lane) bool { return o.Name == l.Name })
	follows := !c.After.Held() || c.After.Follow
	if i < 0 || lanes[i].Follows == follows {
		return nil
	}
	is := lanes[i]
	is.Follows = follows
	return l.Home.SetLane(ctx, l.Game.Name, l.Name, is.LaneState)
}

func putSteps(ctx context.Context, l *lane.Lane, steps []plan.Step) (digest.Digest, error) {
	session := l.Store.Begin()
	d, _, err := session.Put(ctx, bytes.NewReader(plan.EncodeSteps(steps)), nil)
	return d, errors.Join(err, session.Close())
}

// remember notes the content of the files that were just written, so that the
// next look need not read them. The new files are looked at only once the clock
// has moved on, so that a touch from then on shows.
func remember(ctx context.Context, l *lane.Lane, p *Proposal) error {
	timer := time.NewTimer(scan.ChangeClock())
	defer timer.Stop()
	<-timer.C
	looked := l.Now()
	t := p.tree // what the change did not touch is as it was seen before
	for i := range p.Plan.Steps {
		s := &p.Plan.Steps[i]
		e := scan.Entry{Path: s.Path, Kind: scan.File}
		if n := s.After; n != nil && n.Kind == plan.File {
			mode, stamp, err := scan.Look(l.Root, s.Path)
			if err == nil && mode.IsRegular() && stamp.Size == n.Size && (n.MTime == 0 || stamp.MTime == n.MTime) {
				e.Stamp, e.Digest, e.Looked, e.Known = stamp, n.Digest, looked, true
			}
		}
		t.Put(e)
	}
	return l.Cache.Remember(ctx, l.CacheKey(), t)
}
