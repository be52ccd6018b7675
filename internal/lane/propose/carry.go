package propose

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"morvant/internal/digest"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/layers"
	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// Origin is where a player's own files are carried from.
type Origin struct {
	Name  string
	state plan.State        // what it holds
	held  *compose.Composed // what it is held to; nil: nothing
	build *state.Build      // the snapshot that it is; nil: none
	// tree and root are those of a lane or a folder, whose content has yet to go into
	// the store; nil for a snapshot.
	tree  *scan.Tree
	root  *os.Root
	close func() error
	// own says that nothing but the player's own files is in it.
	own bool
}

// ErrWhose is returned where nothing tells a player's own files from the game's.
var ErrWhose = errors.New("nothing tells your own files from the game's")

// Close gives the source back.
func (s *Origin) Close() error {
	if s.close == nil {
		return nil
	}
	return s.close()
}

// FromLane returns another lane of the game as a source.
func FromLane(ctx context.Context, l *lane.Lane, name string) (*Origin, error) {
	if name == l.Name {
		return nil, fmt.Errorf("a lane cannot carry from itself (lane %s)", name)
	}
	o, err := change.Beside(ctx, l, name)
	if err != nil {
		return nil, err
	}
	s := &Origin{Name: "lane " + name, root: o.Root, close: o.Close}
	if s.tree, err = o.Look(ctx, 0); err != nil {
		return nil, errors.Join(err, o.Close())
	}
	s.state = plan.FromTree(s.tree)
	if _, s.held, err = compose.Pinned(ctx, o); err != nil {
		return nil, errors.Join(err, o.Close())
	}
	s.state = plan.FromTree(s.tree)
	return s, nil
}

// FromFolder returns a folder outside as a source.
func FromFolder(ctx context.Context, l *lane.Lane, dir string) (*Origin, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	s := &Origin{Name: dir, root: root, close: root.Close}
	if s.tree, err = l.LookAt(ctx, root, dir); err != nil {
		return nil, errors.Join(err, root.Close())
	}
	s.state = plan.FromTree(s.tree)
	return s, nil
}

// FromBuild returns a snapshot as a source.
func FromBuild(ctx context.Context, l *lane.Lane, b *state.Build) (*Origin, error) {
	if b.Components != nil {
		return nil, fmt.Errorf("%s is a build of a feed, which has no files of yours: %w", b.Label, state.ErrUnknown)
	}
	c, err := compose.Recorded(ctx, l, b)
	if err != nil {
		return nil, err
	}
	return &Origin{Name: b.Name(), state: c.State(), build: b}, nil
}

// FromOwn returns a record of the player's own files of this lane as a source.
func FromOwn(ctx context.Context, l *lane.Lane, o *state.Own) (*Origin, error) {
	s, err := FromBuild(ctx, l, o.Build())
	if err == nil {
		s.Name, s.own = "the record of your own files", true
	}
	return s, err
}

// Conflict is a file that both sides have, and not the same.
type Conflict struct {
	Path        string
	Here, There int64 // bytes
	Newer       bool  // the one there is newer
	HereTime    time.Time
	ThereTime   time.Time
	node        plan.Node
}

// Carrying is what a carry would bring.
type Carrying struct {
	Source    *Origin
	New       []plan.Entry
	Same      int
	Conflicts []Conflict
	Links     []plan.Entry  // that lead out of the folder: they are not carried
	Doubtful  []plan.Entry  // which may be the game's: of a build that nobody knows, or in a snapshot
	Odd       []scan.Oddity // what cannot be carried, for what it is or for its name

	tree     *scan.Tree
	rules    rules.Rules
	patterns []string        // that were asked for
	games    map[string]bool // paths of files of known builds
}

// CompareOwn lists what of the player's own files a source has that this lane does
// not: files under keep rules, and others that are no build's. With patterns, only
// what matches them. Where no build is known, only rules and patterns tell whose a file is.
func CompareOwn(ctx context.Context, l *lane.Lane, s *Origin, patterns []string) (*Carrying, error) {
	if err := (rules.Rules{Keep: patterns}).Check(); err != nil {
		return nil, err
	}
	whose, err := ownersIn(ctx, l, s, patterns)
	if err != nil {
		return nil, err
	}
	c := &Carrying{Source: s, patterns: patterns, games: whose.games, rules: l.Game.Rules()}
	if c.tree, err = l.Look(ctx, 0); err != nil {
		return nil, err
	}
	have := make(map[string]plan.Node)
	here := plan.FromTree(c.tree)
	for _, e := range here {
		have[e.Path] = e.Node
	}
	spelling, taken := l.Spelling(here), make(map[string]bool)
	for _, e := range s.state {
		from := e
		if as := spelling.Of(e.Path); !taken[as] {
			e.Path = as
		}
		taken[e.Path] = true
		is, there := have[e.Path]
		owner := whose.of(from, e.Path)
		switch {
		case owner == notTheirs:
		case owner == doubtful && there && is.SameContent(e.Node):
		case owner == doubtful:
			c.Doubtful = append(c.Doubtful, e)
		case e.LeadsOut() && there && is.Target == e.Target:
			c.Same++
		case e.LeadsOut():
			c.Links = append(c.Links, e)
		case blocked(have, e.Path) || there && is.Kind == plan.Dir:
			l.Meter.Warn(fmt.Sprintf("%s cannot be carried: a file and a folder have the same name", e.Path))
		case !there:
			c.New = append(c.New, e)
		case is.SameContent(e.Node):
			c.Same++
		default:
			c.Conflicts = append(c.Conflicts, Conflict{
				Path: e.Path, Here: is.Size, There: e.Size, Newer: e.MTime > is.MTime, HereTime: is.Time(), ThereTime: e.Time(), node: e.Node,
			})
		}
	}
	slices.SortFunc(c.New, plan.BiggestFirst)
	slices.SortFunc(c.Doubtful, plan.BiggestFirst)
	c.noteOdd(whose, have)
	return c, nil
}

// noteOdd notes what cannot be carried, of what is the player's.
func (c *Carrying) noteOdd(whose *owners, have map[string]plan.Node) {
	if c.Source.tree == nil {
		return
	}
	for _, o := range c.Source.tree.Odd {
		switch {
		case !whose.named(o.Path):
		case o.Target == "":
			c.Odd = append(c.Odd, o)
		case have[o.Path].Target != o.Target: // of a folder that lanes share, say
			c.Links = append(c.Links, plan.Entry{Path: o.Path, Node: plan.Node{Kind: plan.Link, Target: o.Target}})
		}
	}
}

// WithDoubtful takes what may be the game's for the player's, too: they say so.
func (c *Carrying) WithDoubtful() {
	c.New, c.Doubtful = append(c.New, c.Doubtful...), nil
	slices.SortFunc(c.New, plan.BiggestFirst)
}

// owners tells whose the files of a source are.
type owners struct {
	ground *layers.Ground
	match  *rules.Matcher
	only   *rules.Set      // what was asked for by patterns; nil: nothing was
	games  map[string]bool // paths of files that are surely the game's
	own    bool            // nothing but the player's is in it
	// rules says that no build is known, and only they tell whose a file is; unclear that the source may hold a build that
	// nobody knows, for its program or more than one other file is in no build: what no build has may be that one's.
	rules, unclear bool
}

type carried int

const (
	notTheirs carried = iota
	theirs
	doubtful // it may be the game's
)

// ownersIn finds out what tells whose the files of a source are.
func ownersIn(ctx context.Context, l *lane.Lane, s *Origin, patterns []string) (*owners, error) {
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return nil, err
	}
	known = slices.DeleteFunc(known, func(k identify.Known) bool { return s.build != nil && k.Build.Manifest == s.build.Manifest })
	_, held, err := compose.Pinned(ctx, l)
	if err != nil {
		return nil, err
	}
	sure := slices.DeleteFunc(slices.Clone(known), func(k identify.Known) bool { return k.Build.Components == nil })
	w := &owners{match: l.Game.Rules().Matcher(), own: s.own, games: identify.Paths(sure, l.Game.Rules().Fold)}
	for _, e := range slices.Concat(held.Owned(), s.held.Owned()) {
		if e.Kind != plan.Dir && !w.match.Kept(e.Path) {
			w.games[l.Game.Rules().Fold(e.Path)] = true
		}
	}
	if len(patterns) > 0 {
		w.only = l.Game.Rules().Set(patterns)
	}
	w.rules = len(w.games)+len(known) == 0 && w.only == nil && !s.own
	if w.rules && len(l.Game.Keep) == 0 {
		return nil, ErrWhose
	}
	w.ground = &layers.Ground{Rules: l.Game.Rules(), Known: layers.NewIndex(l.Game.Rules(), func(yield func(string) bool) {
		for _, e := range s.state {
			if !yield(e.Path) {
				return
			}
		}
	})}
	if s.held != nil {
		w.ground.Sheet = s.held.Sheet
	}
	for i, k := range known {
		for _, p := range k.Parts {
			w.ground.Known.Add(i, k.Build.Components != nil, p.Manifest)
		}
	}
	odd := 0
	for _, e := range s.state {
		if e.Kind != plan.File || !w.games[l.Game.Rules().Fold(e.Path)] && !w.ground.Known.Any(e.Path) || w.ground.Of(e.Path, e.Node).Whose != layers.Unknown {
			continue
		}
		odd++
		w.unclear = w.unclear || odd > 1 || e.Path == l.Game.Program || strings.EqualFold(path.Ext(e.Path), ".exe")
	}
	return w, nil
}

// named reports whether a rule or a pattern names a path as the player's.
func (w *owners) named(path string) bool {
	if w.match.Scratch(path) {
		return false
	}
	if w.only != nil { // be it at the place of a file of the game
		return w.only.Match(path)
	}
	return w.match.Kept(path)
}

// of says whose an entry of the source is, which has the path as here.
func (w *owners) of(e plan.Entry, as string) carried {
	switch {
	case e.Kind == plan.Dir || w.match.Scratch(as):
		return notTheirs
	case w.named(as), w.own && w.only == nil:
		return theirs
	case w.only != nil || w.rules:
		return notTheirs
	}
	switch o := w.ground.Of(e.Path, e.Node); {
	case o.Whose == layers.Player:
		return theirs
	case o.Whose == layers.Layers || o.Whose == layers.LeftOver && o.Sure || w.games[w.ground.Rules.Fold(as)]:
		return notTheirs
	case w.unclear || w.ground.Known.Any(as):
		return doubtful
	}
	return theirs
}

// blocked reports whether something that is no folder stands where the path needs one.
func blocked(have map[string]plan.Node, p string) bool {
	for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
		if n, ok := have[dir]; ok && n.Kind != plan.Dir {
			return true
		}
	}
	return false
}

// Take says which of the conflicts the source wins.
type Take string

// What wins a conflict.
const (
	TakeMine   Take = "mine"
	TakeNewer  Take = "newer"
	TakeTheirs Take = "theirs"
)

// Carry plans to bring what a comparison has found.
func Carry(ctx context.Context, l *lane.Lane, c *Carrying, take Take) (*change.Proposal, error) {
	bring := make(map[string]plan.Node)
	for _, e := range c.New {
		bring[e.Path] = e.Node
	}
	for _, k := range c.Conflicts {
		if take == TakeTheirs || take == TakeNewer && k.Newer {
			bring[k.Path] = k.node
		}
	}
	wanted := make(map[digest.Digest]bool)
	for _, n := range bring {
		if n.Kind == plan.File {
			wanted[n.Digest] = true
		}
	}
	pin, err := l.Home.Pin(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	to := change.Target{Want: plan.FromTree(c.tree).Over(bring), Exact: true, Tree: c.tree}
	if c.Source.tree != nil {
		to.Promised = wanted
		to.Prepare = func(ctx context.Context) error { return putFrom(ctx, l, c.Source, wanted) }
	}
	p, err := change.Propose(ctx, l, to, state.Change{What: state.ChangeCarry, Build: c.Source.Name, Before: pin, After: pin})
	if err != nil {
		return nil, err
	}
	p.Keep = c.keep(l, bring)
	p.Brought, p.Stayed = len(bring), len(c.New)+len(c.Conflicts)-len(bring)
	return p, nil
}

// keep lists the keep rules by which what is brought is the player's from now on: the patterns that
// were asked for, unless they take most of the game; else folders that hold no file of the game, and
// single files.
func (c *Carrying) keep(l *lane.Lane, bring map[string]plan.Node) []string {
	match := l.Game.Rules().Matcher()
	others := make(map[string]bool) // of the game, and not brought
	for p := range c.games {
		if _, brought := bring[p]; !brought {
			others[p] = true
		}
	}
	clear := func(pattern string) bool {
		set := c.set(pattern)
		for p := range others {
			if set.Match(p) {
				return false
			}
		}
		return true
	}
	var list []string
	for _, p := range slices.Sorted(maps.Keys(bring)) {
		if match.Kept(p) || slices.ContainsFunc(list, func(r string) bool { return c.set(r).Match(p) }) {
			continue
		}
		rule := rules.Literal(p)
		for _, r := range c.patterns {
			if c.set(r).Match(p) && c.narrow(r) {
				rule = r
			}
		}
		if top, _, in := strings.Cut(p, "/"); in && len(c.patterns) == 0 && clear(rules.Literal(top)+"/**") {
			rule = rules.Literal(top) + "/**"
		}
		list = append(list, rule)
	}
	return list
}

// set returns the set of one pattern.
func (c *Carrying) set(pattern string) *rules.Set { return c.rules.Set([]string{pattern}) }

// narrow reports whether a pattern takes no more than half of the game's own files.
func (c *Carrying) narrow(pattern string) bool {
	set, n := c.set(pattern), 0
	for p := range c.games {
		if set.Match(p) {
			n++
		}
	}
	return 2*n <= len(c.games)
}

// putFrom puts the files of a source into the store.
func putFrom(ctx context.Context, l *lane.Lane, s *Origin, bring map[digest.Digest]bool) error {
	lacks, err := l.Store.Lacks(ctx, slices.Collect(maps.Keys(bring)))
	if err != nil || len(lacks) == 0 {
		return err
	}
	bring = lacks
	tree := &scan.Tree{Entries: slices.Clone(s.tree.Entries)}
	session := l.Store.Begin()
	err = tree.Read(ctx, s.root, scan.Request{
		Sink: session.Put, Task: "Reading", Meter: l.Meter, Now: l.Now,
		Skip: func(e *scan.Entry) bool { return !bring[e.Digest] },
	})
	if err = errors.Join(err, session.Close()); err != nil {
		return err
	}
	for i := range tree.Entries {
		e, was := &tree.Entries[i], &s.tree.Entries[i]
		if bring[was.Digest] && e.Digest != was.Digest {
			return fmt.Errorf("%s of %s: %w", e.Path, strings.TrimSpace(s.Name), scan.ErrUnstable)
		}
	}
	return nil
}
