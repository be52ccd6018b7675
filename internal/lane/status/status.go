package status

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"strings"
	"time"

	"morvant/internal/block"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/guard"
	"morvant/internal/layers"
	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/saves"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// OnlyCompanions reports whether nothing but companions is missing from the lane.
func (s *Status) OnlyCompanions() bool {
	d := s.Drift
	if d == nil || len(d.Missing) == 0 || len(d.Altered)+len(d.Back)+len(d.Lost)+len(d.Harmed) > 0 || d.ExtraCounts && len(d.Extra) > 0 {
		return false
	}
	for _, e := range d.Missing {
		if !slices.ContainsFunc(s.Pin.Companions, func(k state.Companion) bool { return k.Path == e.Path }) {
			return false
		}
	}
	return true
}

// Drift is what differs between a lane and a build, by what each file is.
type Drift struct {
	AsBuilt int
	Altered []plan.Entry // as they are now
	Missing []plan.Entry // as they should be
	Extra   []plan.Entry // files that are not the build's
	Kept    int
	Yielded int // files of the build that rules leave to the player: not checked
	// Unread files have the size that they should have, were touched since they were last
	// read, and are too large to read in passing: nobody knows whether they are as built.
	Unread []plan.Entry
	Odd    []scan.Oddity
	// Back are files that the pin leaves out, and that are there.
	Back []plan.Entry
	// LeftOut counts the files that the pin leaves out, and their bytes.
	LeftOut      int
	LeftOutBytes int64
	// OfMods counts the files that differ by the set of mods that they are of.
	OfMods map[string]int
	// Lost are guarded files that are gone, as they should be, and Harmed those that are not as they
	// were, as they are.
	Lost, Harmed []plan.Entry
	// Unrunnable are files that are as built but for the right to be run, which they have lost.
	Unrunnable []plan.Entry
	// Retimed are files that are as built but for their time of last change, which counts for games that
	// load their files in that order. They are no drift.
	Retimed []plan.Entry
	// ModsChanged are files that are one with a file in a folder that mods are linked from, as in the
	// build, and that were changed there. They are no drift.
	ModsChanged []plan.Entry
	// ExtraCounts says that the pin leaves no room for extra files.
	ExtraCounts bool
	// Ground tells whose files are.
	Ground *compose.Ground
	// Update is the build that the drift leads to, if it looks like one.
	Update *Update
}

// Sure reports whether every file has been read that might differ.
func (d *Drift) Sure() bool { return len(d.Unread) == 0 }

// UnreadBytes adds up the unread files.
func (d *Drift) UnreadBytes() int64 {
	var n int64
	for _, e := range d.Unread {
		n += e.Size
	}
	return n
}

// Any reports whether the lane is known to differ from what it is held to; see Sure.
func (d *Drift) Any() bool {
	return len(d.Altered)+len(d.Missing)+len(d.Unrunnable)+len(d.Back)+len(d.Lost)+len(d.Harmed) > 0 || d.ExtraCounts && len(d.Extra) > 0
}

// Built lists the files of what the lane is held to that are not as they should be.
func (d *Drift) Built() []string {
	var paths []string
	for _, e := range slices.Concat(d.Altered, d.Missing, d.Unrunnable, d.Back) {
		paths = append(paths, e.Path)
	}
	slices.Sort(paths)
	return paths
}

// Status is how a lane stands.
type Status struct {
	Game   *game.Game
	Lane   string
	Dir    string
	Live   bool
	Lanes  int // that the game has
	Pin    state.Pin
	Build  *state.Build // nil if the lane is not held
	Equals *state.Build // of a lane that is not held: the newest build it equals
	Drift  *Drift       // nil if the lane is not held
	Files  int
	Bytes  int64
	Odd    []scan.Oddity     // what is there and cannot be recorded
	Links  map[string]string // that lead out of the folder, and where each leads
	Builds int
	Last   *state.Change // nil if nothing was ever changed
	// Restless are large files that keep changing and are no distributor's.
	Restless []*compose.Restless
	// Doubles are names that differ by letter case only, in a game to which they are one.
	Doubles []scan.Double
	// Hard counts the files with a second name outside of the folder; of HardKnown it is known, most of
	// these in HardFrom, a folder that mods are linked from.
	Hard, HardKnown int
	HardFrom        string
	Looked          time.Time
	Running         bool
	Block           []block.State // of a held lane, and of one that is blocked all the same
	// Waiting is the update that the launcher has waiting, as it calls it; Follower is
	// the lane that is to take it, if that is another one.
	Waiting, Follower string
	// Says is the version that the game itself gives. It is looked for only if its content
	// is that of no known build, or has drifted; empty: none was found.
	Says   string
	SaysBy identify.Evidence
	// Gone are files of the player's that somebody else has taken away; Back is where they can
	// be brought back from, if they are recorded anywhere.
	Gone []state.Gone
	// NoSaves is the newest backup of saves that are all gone, though nobody has put them away; nil: they are not.
	NoSaves *saves.Backup
	Back    *GoneFrom
	// LeftOvers are extra files of a held lane that are just as in other known builds.
	LeftOvers []*LeftOver
	// HalfDone names what an earlier run has begun and the same command goes on with.
	HalfDone []string
	// Tied is how the games stand that this one is tied to.
	Tied []*Tied
	// Tree is what was looked at.
	Tree *scan.Tree
}

// How much a status reads of files that were touched, in bytes.
const (
	Glance = 256 << 20 // about a quarter of a second's worth; the largest files beyond it stay unread
	Whole  = 0         // all of it
)

// Of looks at the lane, answering from what is remembered as far as it can. Of files that
// were touched since they were last read it reads as much as read says.
func Of(ctx context.Context, l *lane.Lane, read int64) (*Status, error) {
	s := &Status{Game: l.Game, Lane: l.Name, Dir: l.Dir, Live: l.Live, Looked: l.Now()}
	lanes, err := l.Home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	s.Lanes = len(lanes)
	if s.Waiting, err = Waiting(l); err != nil {
		l.Meter.Warn(err.Error())
	}
	for _, o := range lanes {
		if o.Follows && o.Name != l.Name {
			s.Follower = strings.TrimPrefix(s.Follower+" or "+o.Name, " or ")
		}
	}
	if s.Pin, s.Build, err = l.Pin(ctx); err != nil {
		return nil, err
	}
	tree, err := l.Glance(ctx, read)
	if err != nil {
		return nil, err
	}
	if err := s.look(ctx, l, tree); err != nil {
		return nil, err
	}
	builds, err := l.Home.Builds(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	for _, b := range builds {
		if !b.Fragment { // files for overlays and sets of mods are no builds
			s.Builds++
		}
	}
	s.Tied, s.HalfDone = tied(ctx, l, s.Build), l.Waiting
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	if len(history) > 0 {
		s.Last = history[0]
	}
	if s.NoSaves, err = backup.Vanished(ctx, l); err != nil {
		l.Meter.Warn(err.Error())
	}
	s.Running = errors.Is(l.NotRunning(), lane.ErrRunning)
	if s.Block, err = guard.States(ctx, l); err != nil {
		return nil, err
	}
	if s.Pin.Open || s.Build == nil {
		s.Block = slices.DeleteFunc(s.Block, func(b block.State) bool { return b.Broke == block.NotSet })
	}
	if s.Build != nil {
		return s, s.held(ctx, l)
	}
	return s, s.like(ctx, l, builds)
}

// look says what is in the folder.
func (s *Status) look(ctx context.Context, l *lane.Lane, tree *scan.Tree) (err error) {
	s.Tree, s.Odd = tree, slices.Concat(tree.Odd, tree.Unread)
	s.Links = plan.FromTree(tree).Links()
	s.Doubles = l.Doubles(tree)
	if s.Restless, err = compose.FindRestless(ctx, l, tree); err != nil {
		return err
	}
	s.Hard, s.HardKnown, s.HardFrom = tree.Outside(l.Game.ModsFrom)
	for i := range tree.Entries {
		if e := &tree.Entries[i]; e.Kind == scan.File {
			s.Files++
			s.Bytes += e.Stamp.Size
		}
	}
	return s.missed(ctx, l)
}

// held says how a held lane differs from what it is held to.
func (s *Status) held(ctx context.Context, l *lane.Lane) (err error) {
	if s.Drift, err = DriftOf(ctx, l, s.Tree, s.Build, s.Pin); err != nil {
		return err
	}
	s.LeftOvers = LeftOvers(s.Drift.Ground, s.Drift.Extra)
	switch {
	case s.Drift.Any():
		s.Says, s.SaysBy, err = SaysLabel(ctx, l)
	case s.Build.Doubt != "" && s.Drift.Sure():
		err = reassure(ctx, l, s)
	}
	return err
}

// like finds the build that a lane which is not held is the same as, or else what the game says of itself.
func (s *Status) like(ctx context.Context, l *lane.Lane, builds []*state.Build) (err error) {
	if lane.AllRead(s.Tree) {
		d := s.Tree.Manifest().Digest()
		if i := slices.IndexFunc(builds, func(b *state.Build) bool { return b.Manifest == d && !b.Fragment }); i >= 0 {
			s.Equals = builds[i]
			return nil
		}
		// A feed's build, or a snapshot with other files of the player's.
		if s.Equals, err = WholeBuild(ctx, l, s.Tree, s.Tree); err != nil || s.Equals != nil {
			return err
		}
	}
	s.Says, s.SaysBy, err = SaysLabel(ctx, l)
	return err
}

// Tied is how another game stands.
type Tied struct {
	Game  string
	Build string // label; empty: it is not held
	Same  bool   // both are held at builds of the same label
	Err   error  // why nobody knows
}

// tied says how the games stand that the lane's is tied to.
func tied(ctx context.Context, l *lane.Lane, held *state.Build) []*Tied {
	if !l.Live {
		return nil
	}
	var list []*Tied
	for _, name := range l.Base.Tied() {
		t := &Tied{Game: name}
		if t.Build, t.Err = heldAt(ctx, l.Home, name); t.Err == nil {
			t.Same = t.Build != "" && held != nil && held.Label == t.Build
		}
		list = append(list, t)
	}
	return list
}

// heldAt returns the label of the build that the live lane of a game is held at; empty: it is not held.
func heldAt(ctx context.Context, home *game.Home, name string) (string, error) {
	if _, err := home.Load(name); err != nil {
		return "", err
	}
	live, err := home.LiveLane(ctx, name)
	if err != nil {
		return "", err
	}
	pin, err := home.Pin(ctx, name, live)
	if err != nil || !pin.Held() {
		return "", err
	}
	b, err := home.RecordedBuild(ctx, name, pin.Build)
	if err != nil {
		return "", err
	}
	return b.Label, nil
}

// reassure takes the doubt from the held build if a build that is known from elsewhere is the same.
func reassure(ctx context.Context, l *lane.Lane, s *Status) error {
	b, err := WholeBuild(ctx, l, s.Tree, s.Tree)
	if err != nil || b == nil || b.Doubt != "" {
		return err
	}
	return l.Home.Trust(ctx, s.Build)
}

// Waiting returns the update that the launcher has waiting, as it calls it; empty if
// none is known.
func Waiting(l *lane.Lane) (string, error) {
	for _, w := range l.Game.Waiting {
		if label, err := w.Update(guard.Outside(l)); label != "" || err != nil {
			return label, err
		}
	}
	return "", nil
}

// DriftOf compares the tree with a build: it is what a repair would have to do.
func DriftOf(ctx context.Context, l *lane.Lane, tree *scan.Tree, b *state.Build, pin state.Pin) (*Drift, error) {
	c, err := compose.OfPin(ctx, l, b, pin)
	if err != nil {
		return nil, err
	}
	c.YieldLinks(tree)
	have := plan.FromTree(tree)
	rules := compose.Rules(l, c)
	match := rules.Matcher()
	want := l.Spelling(have).State(c.Content()) // times and modes are no drift
	d := &Drift{Odd: slices.Concat(tree.Odd, tree.Unread), ExtraCounts: pin.Clean}
	for i := range have {
		e := tree.Entry(have[i].Path)
		if e == nil || e.Kind != scan.File || e.Known {
			continue
		}
		if n, ok := want.Get(e.Path); ok && n.Kind == plan.File && n.Size == e.Stamp.Size {
			have[i].Digest = n.Digest
			if pin.Exact || !match.Kept(e.Path) {
				d.Unread = append(d.Unread, have[i])
			}
		}
	}
	leftOut := l.Spelling(have).Paths(c.Out())
	p, err := plan.Make(plan.Request{Have: have, Want: want, Owned: want, Rules: rules, Clean: pin.Clean, Exact: pin.Exact, LeftOut: leftOut})
	if err != nil {
		return nil, err
	}
	d.AsBuilt, d.Kept, d.Extra = p.Same-len(d.Unread), p.Kept, p.Extra
	d.Yielded = compose.Yielded(l, c, p)
	out := make(map[string]bool)
	for _, p := range leftOut {
		out[p] = true
	}
	for _, f := range c.Sheet.LeftOut {
		d.LeftOut++
		d.LeftOutBytes += f.Size
	}
	changed := c.ModsChanged(tree)
	for i := range p.Steps {
		s := &p.Steps[i]
		switch {
		case changed[s.Path] && s.Places():
			d.ModsChanged = append(d.ModsChanged, plan.Entry{Path: s.Path, Node: *s.Before})
		case s.Places() && s.Displaces():
			d.Altered = append(d.Altered, plan.Entry{Path: s.Path, Node: *s.Before})
		case s.Places():
			d.Missing = append(d.Missing, plan.Entry{Path: s.Path, Node: *s.After})
		case s.Displaces() && out[s.Path]:
			d.Back = append(d.Back, plan.Entry{Path: s.Path, Node: *s.Before})
		case s.Displaces():
			d.Extra = append(d.Extra, plan.Entry{Path: s.Path, Node: *s.Before})
		}
	}
	d.attributes(l, c, have, match)
	for _, e := range slices.Concat(d.Altered, d.Missing) {
		if p := c.Sheet.At(e.Path); p != nil && p.Layer.Kind() == layers.OfMods {
			if d.OfMods == nil {
				d.OfMods = make(map[string]int)
			}
			d.OfMods[strings.TrimPrefix(p.Layer.(*layers.Overlay).Of, state.ModsLine+"/")]++
		}
	}
	if err := d.guard(ctx, l, tree); err != nil {
		return nil, err
	}
	for _, list := range [][]plan.Entry{d.Lost, d.Harmed, d.Altered, d.Missing, d.Extra, d.Back, d.Retimed, d.Unrunnable, d.ModsChanged} {
		slices.SortFunc(list, plan.BiggestFirst)
	}
	if d.Ground, err = compose.GroundOf(ctx, l, c, have, b); err != nil {
		return nil, err
	}
	d.Update, err = towards(ctx, l, tree, d, c.Base, b)
	return d, err
}

// runByName says that what can be run goes by its name on this system, and no mode has a right for it.
const runByName = runtime.GOOS == "windows"

// attributes finds the files that a pin's target has with the same content and another time, or with the right to be run that
// they have lost.
func (d *Drift) attributes(l *lane.Lane, c *compose.Composed, have plan.State, match *rules.Matcher) {
	if len(c.Attributes.Files) == 0 {
		return
	}
	want := l.Spelling(have).State(c.State())
	for _, e := range have {
		is, there := want.Get(e.Path)
		if !there || match.Kept(e.Path) || match.Scratch(e.Path) {
			continue
		}
		if compose.Retimed(l, is, e.Node) {
			d.Retimed = append(d.Retimed, e)
		}
		if !runByName && e.Kind == plan.File && is.SameContent(e.Node) && is.Mode&0o111 != 0 && e.Mode != 0 && e.Mode&0o111 == 0 && !l.Traits().NoModes {
			d.Unrunnable = append(d.Unrunnable, e)
		}
	}
}

// guard finds the guarded files that are not as they have to be.
func (d *Drift) guard(ctx context.Context, l *lane.Lane, tree *scan.Tree) error {
	g, err := compose.Guarded(ctx, l)
	if err != nil {
		return err
	}
	for _, e := range g.State() {
		if e.Kind != plan.File {
			continue
		}
		switch is := tree.Entry(e.Path); {
		case is == nil || is.Kind != scan.File:
			d.Lost = append(d.Lost, e)
		case is.Known && is.Digest != e.Digest, !is.Known && is.Stamp.Size != e.Size:
			d.Harmed = append(d.Harmed, plan.Entry{Path: is.Path, Node: plan.Node{Kind: plan.File, Size: is.Stamp.Size, Digest: is.Digest}})
		}
	}
	return nil
}

// Verify reads every byte of the build's files and compares. The tree is what it
// read, for a repair.
func Verify(ctx context.Context, l *lane.Lane, b *state.Build, pin state.Pin) (*Drift, *scan.Tree, error) {
	c, err := compose.OfPin(ctx, l, b, pin)
	if err != nil {
		return nil, nil, err
	}
	tree, err := l.Walk(ctx)
	if err != nil {
		return nil, nil, err
	}
	match := compose.Rules(l, c).Matcher() // mods under keep rules are checked
	guard := l.Base.Rules().Set(l.Base.Guard)
	beside := func(e *scan.Entry) bool {
		return (!c.Sheet.At(e.Path).Wants() || !pin.Exact && match.Kept(e.Path)) && !guard.Match(e.Path)
	}
	err = l.Read(ctx, tree, scan.Request{
		Sink: scan.Hash(), Skip: func(e *scan.Entry) bool { return e.Known && beside(e) }, Task: "Verifying", Spare: beside,
	})
	if err != nil {
		return nil, nil, err
	}
	d, err := DriftOf(ctx, l, tree, b, pin)
	return d, tree, err
}

// Sure reports whether every file of a held lane has been read that might differ.
func (s *Status) Sure() bool { return s.Drift == nil || s.Drift.Sure() }

// Trouble reports whether the lane has drifted or its block is broken.
func (s *Status) Trouble() bool {
	return s.Drift != nil && s.Drift.Any() || slices.ContainsFunc(s.Block, func(b block.State) bool { return !b.Holds })
}
