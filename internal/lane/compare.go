package lane

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"morvant/internal/block"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/store"
)

// Drift is what differs between a lane and a build, by what each file is.
type Drift struct {
	AsBuilt int
	Altered []plan.Entry // as they are now
	Missing []plan.Entry // as they should be
	Extra   []plan.Entry // files that are not the build's
	Kept    int
	Yielded int // files of the build that rules leave to the player: nobody has looked at them
	// Unread files were touched since they were last read and are too large to
	// read in passing; they are counted as built.
	Unread []plan.Entry
	Odd    []scan.Oddity
	// ExtraCounts says that the pin leaves no room for extra files.
	ExtraCounts bool
	// Update is the build that the drift leads to, if it looks like one.
	Update *Update
}

// Any reports whether the lane differs from what it is held to.
func (d *Drift) Any() bool {
	return len(d.Altered)+len(d.Missing) > 0 || d.ExtraCounts && len(d.Extra) > 0
}

// Status is how a lane stands.
type Status struct {
	Game    *game.Game
	Lane    string
	Dir     string
	Live    bool
	Lanes   int // that the game has
	Pin     game.Pin
	Build   *game.Build // nil if the lane is not held
	Equals  *game.Build // of a lane that is not held: the newest build it equals
	Drift   *Drift      // nil if the lane is not held
	Files   int
	Bytes   int64
	Odd     []scan.Oddity // what is there and cannot be recorded
	Builds  int
	Last    *game.Change // nil if nothing was ever changed
	Looked  time.Time
	Running bool
	Block   []block.State // of a held lane, and of one that is blocked all the same
	// Waiting is the update that the launcher has waiting, as it calls it; Follower is
	// the lane that is to take it, if that is another one.
	Waiting, Follower string
	// Says is the version that the game itself gives. It is looked for only if its content
	// is that of no known build, or has drifted; empty: none was found.
	Says   string
	SaysBy identify.Evidence
}

// glance is how much a status reads of files that were touched, in bytes: about
// a tenth of a second's worth.
const glance = 128 << 20

// Status looks at the lane, answering from what is remembered as far as it can.
func (l *Lane) Status(ctx context.Context) (*Status, error) {
	s := &Status{Game: l.Game, Lane: l.Name, Dir: l.Dir, Live: l.Live, Looked: l.now()}
	lanes, err := l.home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	s.Lanes = len(lanes)
	if s.Waiting, err = l.Waiting(); err != nil {
		l.meter.Warn(err.Error())
	}
	for _, o := range lanes {
		if o.Follows && o.Name != l.Name {
			s.Follower = o.Name
		}
	}
	if s.Pin, s.Build, err = l.Pin(ctx); err != nil {
		return nil, err
	}
	tree, err := l.Look(ctx, glance)
	if err != nil {
		return nil, err
	}
	s.Odd = tree.Odd
	for i := range tree.Entries {
		if e := &tree.Entries[i]; e.Kind == scan.File {
			s.Files++
			s.Bytes += e.Stamp.Size
		}
	}
	builds, err := l.home.Builds(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	s.Builds = len(builds)
	history, err := l.home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	if len(history) > 0 {
		s.Last = history[0]
	}
	s.Running = errors.Is(l.notRunning(), ErrRunning)
	if s.Block, err = l.BlockStates(ctx); err != nil {
		return nil, err
	}
	if s.Pin.Open || s.Build == nil {
		s.Block = slices.DeleteFunc(s.Block, func(b block.State) bool { return b.Broke == block.NotSet })
	}
	if s.Build != nil {
		if s.Drift, err = l.drift(ctx, tree, s.Build, s.Pin); err == nil && s.Drift.Any() {
			s.Says, s.SaysBy, err = l.SaysLabel(ctx)
		}
		return s, err
	}
	if known(tree) {
		d := tree.Manifest().Digest()
		if i := slices.IndexFunc(builds, func(b *game.Build) bool { return b.Manifest == d }); i >= 0 {
			s.Equals = builds[i]
		}
	}
	if s.Equals == nil {
		s.Says, s.SaysBy, err = l.SaysLabel(ctx)
	}
	return s, err
}

// Waiting returns the update that the launcher has waiting, as it calls it; empty if
// none is known.
func (l *Lane) Waiting() (string, error) {
	for _, w := range l.Game.Waiting {
		if label, err := w.Update(l.outside()); label != "" || err != nil {
			return label, err
		}
	}
	return "", nil
}

// drift compares the tree with a build: it is what a repair would have to do.
func (l *Lane) drift(ctx context.Context, tree *scan.Tree, b *game.Build, pin game.Pin) (*Drift, error) {
	c, err := l.composedOf(ctx, b, pin)
	if err != nil {
		return nil, err
	}
	have := plan.FromTree(tree)
	want := l.spelling(have).State(plan.FromManifest(c.manifest, nil)) // times and modes are no drift
	d := &Drift{Odd: tree.Odd, ExtraCounts: pin.Clean}
	for i := range tree.Entries {
		e := &tree.Entries[i]
		if e.Kind != scan.File || e.Known {
			continue
		}
		if n, ok := want.Get(e.Path); ok && n.Kind == plan.File && n.Size == e.Stamp.Size {
			have[i].Digest = n.Digest
			d.Unread = append(d.Unread, have[i])
		}
	}
	p, err := plan.Make(plan.Request{Have: have, Odd: tree.Odd, Want: want, Owned: want, Rules: l.rules(c), Clean: pin.Clean, Exact: pin.Exact})
	if err != nil {
		return nil, err
	}
	d.AsBuilt, d.Kept, d.Extra = p.Same, p.Kept, p.Extra
	d.Yielded = l.yielded(c, p)
	for i := range p.Steps {
		s := &p.Steps[i]
		switch {
		case s.Places() && s.Displaces():
			d.Altered = append(d.Altered, plan.Entry{Path: s.Path, Node: *s.Before})
		case s.Places():
			d.Missing = append(d.Missing, plan.Entry{Path: s.Path, Node: *s.After})
		case s.Displaces():
			d.Extra = append(d.Extra, plan.Entry{Path: s.Path, Node: *s.Before})
		}
	}
	for _, list := range [][]plan.Entry{d.Altered, d.Missing, d.Extra} {
		slices.SortFunc(list, plan.BiggestFirst)
	}
	d.Update, err = l.towards(ctx, tree, d, c.base, b)
	return d, err
}

// Verify reads every byte of the build's files and compares. The tree is what it
// read, for a repair.
func (l *Lane) Verify(ctx context.Context, b *game.Build, pin game.Pin) (*Drift, *scan.Tree, error) {
	c, err := l.composedOf(ctx, b, pin)
	if err != nil {
		return nil, nil, err
	}
	tree, err := l.walk(ctx)
	if err != nil {
		return nil, nil, err
	}
	match := l.Game.Rules().Matcher()
	spelling := c.spelling()
	err = l.read(ctx, tree, scan.Request{
		Sink: scan.Hash(),
		Skip: func(e *scan.Entry) bool {
			_, built := c.manifest.File(spelling.Of(e.Path))
			return e.Known && (!built || !pin.Exact && match.Kept(e.Path))
		},
		Task: "Verifying",
	})
	if err != nil {
		return nil, nil, err
	}
	d, err := l.drift(ctx, tree, b, pin)
	return d, tree, err
}

// Side is one side of a comparison.
type Side struct {
	Label    string
	Manifest *manifest.Manifest
	Choice   *Choice   // of a feed's build
	composed *composed // nil: the folder as it is now
}

// BuildSide returns a build as a side of a comparison, of a feed's build the
// components asked for or, if none are, those that the lane has.
func (l *Lane) BuildSide(ctx context.Context, b *game.Build, asked []string) (*Side, error) {
	choice, err := l.Choose(ctx, b, asked)
	if err != nil {
		return nil, err
	}
	c, err := l.compose(ctx, b, choice.Names)
	if err != nil {
		return nil, err
	}
	return &Side{Label: b.Label, Manifest: c.manifest, Choice: choice, composed: c}, nil
}

// HereSide returns the folder as it is now as a side of a comparison.
func (l *Lane) HereSide(ctx context.Context) (*Side, error) {
	t, err := l.Look(ctx, 0)
	if err != nil {
		return nil, err
	}
	return &Side{Label: game.Here, Manifest: t.Manifest()}, nil
}

// Difference is what changes from one side to another.
type Difference struct {
	From, To *Side
	Build    *manifest.Changes // the build's files
	Kept     *manifest.Changes // the player's own files
}

// Compare lists what changes from a to b, the player's own files apart from the
// others. Scratch files do not count, nor does letter case where the folder ignores it:
// then a is spelled as b.
func (l *Lane) Compare(a, b *Side) *Difference {
	if l.ignoresCase() {
		as := *a
		as.Manifest = plan.SpellingOf(plan.FromManifest(b.Manifest, nil)).State(plan.FromManifest(a.Manifest, nil)).Manifest()
		a = &as
	}
	match := l.Game.Rules().Matcher()
	scratch := func(p string) bool { return match.Scratch(p) }
	ours := func(p string) bool { return scratch(p) || match.Kept(p) }
	theirs := func(p string) bool { return scratch(p) || !match.Kept(p) }
	d := &Difference{From: a, To: b, Build: manifest.Compare(a.Manifest.Without(ours), b.Manifest.Without(ours)), Kept: &manifest.Changes{}}
	if !a.fromFeed() && !b.fromFeed() {
		d.Kept = manifest.Compare(a.Manifest.Without(theirs), b.Manifest.Without(theirs))
	}
	return d
}

// fromFeed reports whether the side is a feed's build, which says nothing about
// the player's own files.
func (s *Side) fromFeed() bool { return s.composed != nil && s.composed.build.Components != nil }

// ErrNotFetched is returned for content that is known and not on this computer yet.
var ErrNotFetched = errors.New("not fetched yet")

// Cost plans the fetch that would bring all of a side here; empty if nothing would
// have to come.
func (l *Lane) Cost(ctx context.Context, s *Side) (*feed.Plan, error) {
	if s.composed == nil || len(s.composed.parts) == 0 {
		return nil, nil
	}
	lacks, err := l.Store.Lacks(ctx, contents(s.Manifest))
	if err != nil || len(lacks) == 0 {
		return nil, err
	}
	tree, err := l.Look(ctx, 0)
	if err != nil {
		return nil, err
	}
	return l.planFetch(ctx, s.composed, nil, tree)
}

// maxText bounds a text file that is compared line by line, in bytes.
const maxText = 16 << 20

// Text returns the content of a file on one side, empty if it is not there.
func (l *Lane) Text(ctx context.Context, s *Side, p string) (text []byte, found bool, err error) {
	f, ok := s.Manifest.File(p)
	if !ok {
		return nil, false, nil
	}
	if f.Size > maxText {
		return nil, true, fmt.Errorf("%s is larger than the %d MB that can be compared by line", p, maxText>>20)
	}
	if s.composed != nil {
		text, err = l.Store.Bytes(ctx, f.Digest, maxText)
		if errors.Is(err, store.ErrMissing) && s.fromFeed() {
			err = fmt.Errorf("%s of %s: %w", p, s.Label, ErrNotFetched)
		}
		return text, true, err
	}
	file, err := scan.OpenFile(l.root, p)
	if err != nil {
		return nil, true, err
	}
	defer file.Close()
	text, err = io.ReadAll(io.LimitReader(file, maxText))
	if err == nil && digest.Of(text) != f.Digest {
		err = fmt.Errorf("%s: %w", p, scan.ErrUnstable)
	}
	return text, true, err
}
