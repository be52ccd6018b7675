package lane

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/store"
)

// ErrComponent is returned for a component that a build does not have.
var ErrComponent = errors.New("the build has no such component")

// composed is what a lane is to hold: a build with its components chosen, and what
// the pin adds to it.
type composed struct {
	build      *game.Build
	base       *manifest.Manifest   // of the build alone
	manifest   *manifest.Manifest   // with what the pin adds
	own        *manifest.Attributes // of the build alone
	attributes *manifest.Attributes
	parts      []feed.Part // of a feed's build; empty if no feed offers it now
	recorded   bool        // build, base and own attributes are in the store
	// ignoresCase says that the lane's folder does.
	ignoresCase bool
	// What the pin adds.
	overlays []*composed              // the builds that files come from
	texts    map[digest.Digest][]byte // content that the pin itself brings
	edited   []string                 // files of the lane alone that it edits
	notes    []string                 // for the player
}

func (c *composed) state() plan.State { return plan.FromManifest(c.manifest, c.attributes) }

// holds reports whether the file is part of the whole: nothing is laid over it.
func (c *composed) holds(f manifest.File) bool {
	is, ok := c.manifest.File(f.Path)
	return ok && is.Digest == f.Digest
}

// layers lists the builds that content comes from.
func (c *composed) layers() []*composed { return append([]*composed{c}, c.overlays...) }

// compose puts a build together. names are the components of a feed's build.
func (l *Lane) compose(ctx context.Context, b *game.Build, names []string) (*composed, error) {
	if b.Components == nil {
		return l.recorded(ctx, b)
	}
	b = b.With(names)
	known, err := l.home.RecordedBuild(ctx, l.Game.Name, b.UID)
	if err == nil {
		known.Feeds = b.Feeds
		c, err := l.recorded(ctx, known)
		if err != nil {
			return nil, err
		}
		c.parts, err = l.parts(known)
		return c, err
	}
	if !errors.Is(err, game.ErrUnknown) {
		return nil, err
	}
	c := &composed{build: b}
	if c.parts, err = l.parts(b); err != nil {
		return nil, err
	}
	return c, c.merge()
}

// merge makes one manifest out of those of the parts.
func (c *composed) merge() error {
	var list []*manifest.Manifest
	for _, p := range c.parts {
		list = append(list, p.Manifest)
	}
	var err error
	if c.base, err = manifest.Merge(list...); err != nil {
		return fmt.Errorf("the components of %s: %w", c.build.Label, err)
	}
	c.manifest = c.base
	b := c.build
	b.Manifest, b.Files, b.Bytes = c.manifest.Digest(), len(c.manifest.Files), c.manifest.Bytes()
	c.own = manifest.NewAttributes()
	c.attributes = c.own
	return nil
}

// parts reads the manifests of the chosen components from the feeds that offer
// the build.
func (l *Lane) parts(b *game.Build) ([]feed.Part, error) {
	if len(b.Feeds) == 0 {
		return nil, nil
	}
	var parts []feed.Part
	for _, p := range b.Parts(b.Chosen) {
		var errs []error
		for _, f := range b.Feeds {
			m, err := f.Manifest(p.Manifest)
			if err == nil {
				parts = append(parts, feed.Part{Part: p, Manifest: m})
				errs = nil
				break
			}
			errs = append(errs, err)
		}
		if len(errs) > 0 {
			return nil, errors.Join(errs...)
		}
	}
	return parts, nil
}

// recorded reads a build that is in the store.
func (l *Lane) recorded(ctx context.Context, b *game.Build) (*composed, error) {
	c := &composed{build: b, recorded: true}
	var err error
	if c.base, err = b.ReadManifest(ctx, l.Store); err != nil {
		return nil, err
	}
	c.manifest = c.base
	var damage *store.DamageError
	if c.own, err = b.ReadAttributes(ctx, l.Store); errors.Is(err, store.ErrMissing) || errors.As(err, &damage) {
		// The content is what counts; dates and modes then stay as they are found.
		l.home.Tell(fmt.Sprintf("the dates and modes of %s are lost and stay as they are: %v", b.Label, err))
		c.own, err = manifest.NewAttributes(), nil
	}
	c.attributes = c.own
	return c, err
}

// adopt records a feed's build in the store and among the game's builds.
func (l *Lane) adopt(ctx context.Context, c *composed, partial bool) error {
	if c.build.Components == nil || c.recorded && (partial || !c.build.Partial) {
		return nil
	}
	b := c.build
	session := l.Store.Begin()
	err := l.describe(ctx, session, b, c.base.Encode(), c.own.Encode())
	if err := errors.Join(err, session.Close()); err != nil {
		return err
	}
	b.Partial = partial
	if err := l.home.AddBuild(ctx, b); err != nil {
		return err
	}
	c.recorded = true
	return nil
}

// describe puts what describes a build into the store.
func (l *Lane) describe(ctx context.Context, session *store.Session, b *game.Build, m, attributes []byte) error {
	var err error
	if b.Manifest, _, err = session.Put(ctx, bytes.NewReader(m), nil); err != nil {
		return err
	}
	if b.Attributes, _, err = session.Put(ctx, bytes.NewReader(attributes), nil); err != nil {
		return err
	}
	note, err := b.EncodeRecord()
	if err != nil {
		return err
	}
	b.Record, err = session.PutNote(ctx, note)
	return err
}

// Choice is which components of a build a lane is to have.
type Choice struct {
	Names  []string // sorted
	Others []string // offered as well
	// Found says that the folder was looked at to find out; else they were named,
	// or are those that the lane is held to.
	Found bool
}

// Choose returns the components of a feed's build that were asked for; if none
// were, those that the lane has. A snapshot has none to choose from.
func (l *Lane) Choose(ctx context.Context, b *game.Build, asked []string) (*Choice, error) {
	if b.Components == nil {
		if len(asked) > 0 {
			return nil, fmt.Errorf("%w: %s is a snapshot, of the whole folder", ErrComponent, b.Label)
		}
		return &Choice{}, nil
	}
	c := &Choice{}
	offered := b.ComponentNames()
	if len(b.Feeds) == 0 {
		offered = b.Chosen // no feed has the rest any more
	}
	switch pin, err := l.home.Pin(ctx, l.Game.Name, l.Name); {
	case err != nil:
		return nil, err
	case len(asked) > 0:
		c.Names = asked
	case len(b.Feeds) == 0:
		c.Names = b.Chosen
	case len(pin.Components) > 0:
		for _, name := range pin.Components {
			if slices.Contains(offered, name) {
				c.Names = append(c.Names, name)
			}
		}
	default:
		if c.Names, err = l.present(ctx, b); err != nil {
			return nil, err
		}
		c.Found = true
	}
	for _, name := range c.Names {
		if !slices.Contains(offered, name) {
			return nil, fmt.Errorf("%w: %s of %s; it has %s", ErrComponent, name, b.Label, strings.Join(offered, ", "))
		}
	}
	required, err := requiredOf(b)
	if err != nil {
		return nil, err
	}
	for _, name := range required {
		if !slices.Contains(c.Names, name) && slices.Contains(offered, name) {
			c.Names = append(c.Names, name)
		}
	}
	slices.Sort(c.Names)
	for _, name := range offered {
		if !slices.Contains(c.Names, name) {
			c.Others = append(c.Others, name)
		}
	}
	return c, nil
}

// requiredOf lists the components that no build of the feed works without.
func requiredOf(b *game.Build) ([]string, error) {
	if len(b.Feeds) == 0 {
		return nil, nil
	}
	d, err := b.Feeds[0].Described()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, c := range d.Components {
		if c.Required {
			names = append(names, c.Name)
		}
	}
	return names, nil
}

// present finds out which components of the build the folder has: those of which,
// in this or another build, at least half of the files stand in their places. An
// empty folder gets all that are not optional.
func (l *Lane) present(ctx context.Context, b *game.Build) ([]string, error) {
	if l.root == nil { // its disk is not there
		return b.ComponentNames(), nil
	}
	tree, err := l.walk(ctx)
	if err != nil {
		return nil, err
	}
	offered, err := l.home.Offered(l.Game.Name)
	if err != nil {
		return nil, err
	}
	there := make(map[string]bool)
	for _, other := range append([]*game.Build{b}, offered...) {
		for _, p := range other.Components {
			if there[p.Name] || !slices.Contains(b.ComponentNames(), p.Name) || len(other.Feeds) == 0 {
				continue
			}
			m, err := other.Feeds[0].Manifest(p.Manifest)
			if err != nil {
				l.home.Tell(fmt.Sprintf("%s is left out: %v", other.Name(), err))
				continue
			}
			there[p.Name] = stands(tree, m)
		}
	}
	var names []string
	for _, name := range b.ComponentNames() {
		if there[name] {
			names = append(names, name)
		}
	}
	return names, nil
}

// stands reports whether at least half of the files have something in their place.
func stands(t *scan.Tree, m *manifest.Manifest) bool {
	n := 0
	for _, f := range m.Files {
		if e := t.Entry(f.Path); e != nil && e.Kind == scan.File {
			n++
		}
	}
	return n > 0 && 2*n >= len(m.Files)
}

// locals lists the files of the lane as places where content may be found.
func (l *Lane) locals(t *scan.Tree) []feed.Local {
	var list []feed.Local
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File || e.Stamp.Size == 0 {
			continue
		}
		local := feed.Local{Path: e.Path, Size: e.Stamp.Size, Open: func() (*os.File, error) { return scan.OpenFile(l.root, e.Path) }}
		if e.Known {
			local.Digest = e.Digest
		}
		list = append(list, local)
	}
	return list
}

// planFetch finds out what has to be fetched for a build, from the first of its
// feeds that can say so. only limits it to these contents; nil: everything.
func (l *Lane) planFetch(ctx context.Context, c *composed, only map[digest.Digest]bool, t *scan.Tree) (*feed.Plan, error) {
	var errs []error
	for _, f := range c.build.Feeds {
		p, err := f.Plan(ctx, feed.Request{Store: l.Store, Parts: c.parts, Only: only, Local: l.locals(t), Owner: fetchOwner(l.Game.Name)}, l.feed)
		if err == nil {
			if !c.recorded {
				for _, program := range p.Programs() {
					c.own.Files[program] = manifest.Attribute{Mode: 0o755}
					if f, ok := c.base.File(program); ok && c.holds(f) {
						c.attributes.Files[program] = manifest.Attribute{Mode: 0o755}
					}
				}
			}
			return p, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		errs = append(errs, fmt.Errorf("feed %s: %w", f.Name, err))
	}
	return nil, errors.Join(errs...)
}

// runFetch carries out a fetch; when its feed fails, the next one that offers the
// build goes on.
func (l *Lane) runFetch(ctx context.Context, c *composed, p *feed.Plan, only map[digest.Digest]bool, t *scan.Tree) (*feed.Fetched, error) {
	// Noted until all of it is here, so that no trim takes away what has come so far.
	if err := l.noteFetch(ctx, p); err != nil {
		return nil, err
	}
	result, err := p.Run(ctx, l.feed)
	if err == nil {
		err = l.home.End(ctx, l.Game.Name, "", game.BegunFetch)
	}
	if err == nil || ctx.Err() != nil {
		return result, errors.Join(err, ctx.Err())
	}
	at := slices.Index(c.build.Feeds, p.Feed)
	if at < 0 || at+1 >= len(c.build.Feeds) {
		return result, err
	}
	rest := *c.build
	rest.Feeds = c.build.Feeds[at+1:]
	l.meter.Warn(fmt.Sprintf("the feed %s fails (%v); going on with %s", p.Feed.Name, err, rest.Feeds[0].Name))
	next := *c
	next.build = &rest
	q, planErr := l.planFetch(ctx, &next, only, t)
	if planErr != nil {
		return result, errors.Join(err, planErr)
	}
	return l.runFetch(ctx, &next, q, only, t)
}

// noteFetch notes which chunks a fetch is about.
func (l *Lane) noteFetch(ctx context.Context, p *feed.Plan) error {
	var list []byte
	for _, d := range p.Pieces() {
		list = append(list, d[:]...)
	}
	session := l.Store.Begin()
	d, _, err := session.Put(ctx, bytes.NewReader(list), nil)
	if err = errors.Join(err, session.Close()); err != nil {
		return err
	}
	return l.home.Begin(ctx, l.Game.Name, "", game.BegunFetch, game.NewUID(), game.Fetch{Chunks: d, Since: l.now(), Owner: fetchOwner(l.Game.Name)})
}

func fetchOwner(name string) string { return "fetch-" + name }

// Fetch is a fetch that has been planned and not carried out.
type Fetch struct {
	Build  *game.Build
	Choice *Choice
	Plan   *feed.Plan

	composed *composed
	tree     *scan.Tree
}

// ProposeFetch plans to bring all content of a build into the store.
func (l *Lane) ProposeFetch(ctx context.Context, b *game.Build, asked []string) (*Fetch, error) {
	choice, err := l.Choose(ctx, b, asked)
	if err != nil {
		return nil, err
	}
	c, err := l.compose(ctx, b, choice.Names)
	if err != nil {
		return nil, err
	}
	f := &Fetch{Build: c.build, Choice: choice, composed: c, Plan: &feed.Plan{}}
	if b.Components == nil {
		return f, nil
	}
	lacks, err := l.Store.Lacks(ctx, contents(c.manifest))
	if err != nil || len(lacks) == 0 && c.recorded {
		return f, err
	}
	if len(c.build.Feeds) == 0 {
		return nil, fmt.Errorf("%s: %w", b.Label, ErrNotOffered)
	}
	if f.tree, err = l.Look(ctx, 0); err != nil {
		return nil, err
	}
	f.Plan, err = l.planFetch(ctx, c, nil, f.tree)
	return f, err
}

// ErrNotOffered is returned where content is missing that no feed offers.
var ErrNotOffered = errors.New("not all of it is on this computer, and no feed offers it any more")

func contents(m *manifest.Manifest) []digest.Digest {
	list := make([]digest.Digest, len(m.Files))
	for i, f := range m.Files {
		list[i] = f.Digest
	}
	slices.SortFunc(list, func(a, b digest.Digest) int { return slices.Compare(a[:], b[:]) })
	return slices.Compact(list)
}

// Fetch carries out a fetch: the whole build is in the store afterwards.
func (l *Lane) Fetch(ctx context.Context, f *Fetch) (*feed.Fetched, error) {
	if f.Build.Components == nil {
		return &feed.Fetched{}, nil
	}
	if err := l.adopt(ctx, f.composed, true); err != nil {
		return nil, err
	}
	result := &feed.Fetched{}
	if !f.Plan.Empty() {
		var err error
		if result, err = l.runFetch(ctx, f.composed, f.Plan, nil, f.tree); err != nil {
			return result, err
		}
	}
	return result, l.adopt(ctx, f.composed, false)
}
