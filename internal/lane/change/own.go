package change

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
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// Origin is where a player's own files are carried from.
type Origin struct {
	Name  string
	state plan.State             // what it holds
	built func(path string) bool // nil: which of it is a build's is not known
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
	o, err := Beside(ctx, l, name)
	if err != nil {
		return nil, err
	}
	s := &Origin{Name: "lane " + name, root: o.Root, close: o.Close}
	if s.tree, err = o.Look(ctx, 0); err != nil {
		return nil, errors.Join(err, o.Close())
	}
	s.state = plan.FromTree(s.tree)
	_, owned, err := compose.Pinned(ctx, o)
	if err != nil {
		return nil, errors.Join(err, o.Close())
	}
	if len(owned) > 0 {
		s.built = has(owned)
	}
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
	return &Origin{Name: b.Name(), state: c.State()}, nil
}

// FromOwn returns a record of the player's own files of this lane as a source.
func FromOwn(ctx context.Context, l *lane.Lane, o *state.Own) (*Origin, error) {
	s, err := FromBuild(ctx, l, o.Build())
	if err == nil {
		s.Name, s.own = "the record of your own files", true
	}
	return s, err
}

func has(s plan.State) func(string) bool {
	paths := make(map[string]bool, len(s))
	for _, e := range s {
		paths[e.Path] = true
	}
	return func(p string) bool { return paths[p] }
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
	theirs, err := gamesPaths(ctx, l)
	if err != nil {
		return nil, err
	}
	nobodys := len(theirs) == 0 && len(patterns) == 0 && !s.own && s.built == nil
	if nobodys && len(l.Game.Keep) == 0 {
		return nil, ErrWhose
	}
	c := &Carrying{Source: s, patterns: patterns, games: theirs, rules: l.Game.Rules()}
	if c.tree, err = l.Look(ctx, 0); err != nil {
		return nil, err
	}
	have := make(map[string]plan.Node)
	here := plan.FromTree(c.tree)
	for _, e := range here {
		have[e.Path] = e.Node
	}
	match, only := l.Game.Rules().Matcher(), l.Game.Rules().Set(patterns)
	spelling, taken := l.Spelling(here), make(map[string]bool)
	for _, e := range s.state {
		from := e.Path
		if as := spelling.Of(from); !taken[as] {
			e.Path = as
		}
		taken[e.Path] = true
		if e.Kind == plan.Dir || match.Scratch(e.Path) || len(patterns) > 0 && !only.Match(e.Path) {
			continue
		}
		// What is asked for by a pattern is the player's, be it at the place of a file of the game.
		if !match.Kept(e.Path) && len(patterns) == 0 && (nobodys || theirs[c.rules.Fold(e.Path)] || s.built != nil && s.built(from)) {
			continue
		}
		is, there := have[e.Path]
		switch {
		case e.LeadsOut() && there && is.Target == e.Target:
			c.Same++
		case e.LeadsOut():
			c.Links = append(c.Links, e)
		case blocked(have, e.Path) || there && is.Kind == plan.Dir:
			l.Meter.Warn(fmt.Sprintf("%s cannot be carried: a file and a folder have the same name", e.Path))
		case !there:
			c.New = append(c.New, e)
		case is.Kind == e.Kind && is.Digest == e.Digest && is.Target == e.Target:
			c.Same++
		default:
			c.Conflicts = append(c.Conflicts, Conflict{
				Path: e.Path, Here: is.Size, There: e.Size, Newer: e.MTime > is.MTime, HereTime: is.Time(), ThereTime: e.Time(), node: e.Node,
			})
		}
	}
	slices.SortFunc(c.New, plan.BiggestFirst)
	if s.tree != nil {
		for _, o := range s.tree.Odd {
			wanted := only.Match(o.Path) || len(patterns) == 0 && match.Kept(o.Path)
			if !wanted || match.Scratch(o.Path) {
				continue
			}
			if o.Target != "" { // of a folder that lanes share, say
				if have[o.Path].Target == o.Target {
					continue
				}
				c.Links = append(c.Links, plan.Entry{Path: o.Path, Node: plan.Node{Kind: plan.Link, Target: o.Target}})
				continue
			}
			c.Odd = append(c.Odd, o)
		}
	}
	return c, nil
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

// gamesPaths lists the paths of what this lane is held to, and of what the feeds
// offer; where there is neither, of all snapshots. What stands there is not the
// player's, unless a keep rule says so.
func gamesPaths(ctx context.Context, l *lane.Lane) (map[string]bool, error) {
	paths, fold := make(map[string]bool), l.Game.Rules().Fold
	_, owned, err := compose.Pinned(ctx, l)
	if err != nil {
		return nil, err
	}
	for _, e := range owned {
		paths[fold(e.Path)] = true
	}
	offered, err := l.Home.Offered(l.Game.Name)
	if err != nil {
		return nil, err
	}
	for _, b := range offered {
		parts, err := compose.OfferedParts(b)
		if err != nil {
			game.TellLeftOut(l.Home, b, err)
			continue
		}
		for _, p := range parts {
			for _, f := range p.Manifest.Files {
				paths[fold(f.Path)] = true
			}
		}
	}
	if len(paths) > 0 {
		return paths, nil
	}
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return nil, err
	}
	for _, k := range known {
		for _, p := range k.Parts {
			for _, f := range p.Manifest.Files {
				paths[fold(f.Path)] = true
			}
		}
	}
	return paths, nil
}

// Take says which of the conflicts the source wins.
type Take string

// What wins a conflict.
const (
	TakeMine   Take = "mine"
	TakeNewer  Take = "newer"
	TakeTheirs Take = "theirs"
)

// ProposeCarry plans to bring what a comparison has found.
func ProposeCarry(ctx context.Context, l *lane.Lane, c *Carrying, take Take) (*Proposal, error) {
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
	to := target{want: plan.FromTree(c.tree).Over(bring), exact: true, tree: c.tree}
	if c.Source.tree != nil {
		to.promised = wanted
		to.prepare = func(ctx context.Context) error { return putFrom(ctx, l, c.Source, wanted) }
	}
	p, err := propose(ctx, l, to, state.Change{What: state.ChangeCarry, Build: c.Source.Name, Before: pin, After: pin})
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
