package compose

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/alias"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/feed/fetch"
	"morvant/internal/feed/listing"
	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/layers"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// ErrComponent is returned for a component that a build does not have.
var ErrComponent = errors.New("the build has no such component")

// Composed is what a lane is to hold: a build with its components chosen, and what
// the pin adds to it.
type Composed struct {
	Build      *state.Build
	Base       *manifest.Manifest   // of the build alone
	Manifest   *manifest.Manifest   // with what the pin adds
	Own        *manifest.Attributes // of the build alone
	Attributes *manifest.Attributes
	Parts      []fetch.Part // of a feed's build; empty if no feed offers it now
	Recorded   bool         // build, base and own attributes are in the store
	// What the pin adds.
	Sheet    *layers.Sheet
	Lifted   []layers.Lifted      // what becomes of what an earlier pin had beside its build
	overlays []*Composed          // the builds that files come from
	also     []*Composed          // see From
	mods     []*state.Build       // those of them that are sets of mods
	guarded  map[string]plan.Node // files of the player's that are to be as they were
	scratch  map[string]plan.Node // folders that a scratch rule is about and the game may need
	Notes    []string             // for the player
}

// State is what the folder is to hold.
func (c *Composed) State() plan.State {
	var want plan.State
	if c.Sheet == nil {
		want = plan.FromManifest(c.Manifest, c.Attributes)
	} else {
		want = c.Sheet.Want(c.Manifest, c.Lifted)
	}
	return want.Over(c.guarded).With(c.scratch)
}

// Out lists the paths of files that are left out.
func (c *Composed) Out() []string {
	if c == nil || c.Sheet == nil {
		return nil
	}
	return c.Sheet.Out()
}

// Content is State without times and modes that are to be set.
func (c *Composed) Content() plan.State {
	return plan.FromManifest(c.Manifest, &manifest.Attributes{Links: c.Attributes.Links})
}

// holds reports whether the file is part of the whole: nothing is laid over it.
func (c *Composed) holds(f manifest.File) bool {
	is, ok := c.Manifest.File(f.Path)
	return ok && is.Digest == f.Digest
}

// Texts are contents that the layers themselves bring.
func (c *Composed) Texts() map[digest.Digest][]byte {
	if c.Sheet == nil {
		return nil
	}
	return c.Sheet.Texts
}

// From has content that the build has in common with others also come from where theirs does.
func (c *Composed) From(others ...*Composed) { c.also = append(c.also, others...) }

// Offering finds builds that feeds offer and that have some of the content that is missing.
func Offering(ctx context.Context, l *lane.Lane, missing map[digest.Digest]bool) ([]*Composed, error) {
	offered, err := KnownOf(ctx, l.Home, l.Store, l.Game, func(b *state.Build) bool { return len(b.Feeds) > 0 })
	if err != nil {
		return nil, err
	}
	found := make(map[digest.Digest]bool)
	var list []*Composed
	for _, k := range offered {
		var names []string
		for _, p := range k.Parts {
			has := false
			for _, f := range p.Manifest.Files {
				if missing[f.Digest] && !found[f.Digest] {
					found[f.Digest], has = true, true
				}
			}
			if has {
				names = append(names, p.Name)
			}
		}
		if len(names) == 0 {
			continue
		}
		c, err := Of(ctx, l, k.Build, names)
		if err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	return list, nil
}

// Sources lists the builds that content comes from.
func (c *Composed) Sources() []*Composed { return slices.Concat([]*Composed{c}, c.overlays, c.also) }

// Of puts a build together. names are the components of a feed's build.
func Of(ctx context.Context, l *lane.Lane, b *state.Build, names []string) (*Composed, error) {
	if b.Components == nil {
		return Recorded(ctx, l, b)
	}
	b = b.With(names)
	known, err := l.Home.RecordedBuild(ctx, l.Game.Name, b.UID)
	if err == nil {
		known.Feeds = b.Feeds
		c, err := Recorded(ctx, l, known)
		if err != nil {
			return nil, err
		}
		c.Parts, err = parts(ctx, l, known)
		return c, err
	}
	if !errors.Is(err, state.ErrUnknown) {
		return nil, err
	}
	c := &Composed{Build: b}
	if b.Channel == state.ImportedLine {
		return c, c.imported(ctx, l)
	}
	if c.Parts, err = parts(ctx, l, b); err != nil {
		return nil, err
	}
	if l.Root != nil && slices.ContainsFunc(c.Parts, func(p fetch.Part) bool { return alias.Unseen(p.Manifest) }) {
		// Which of a distributor's files are those of the lane is known once those have been read.
		if _, err := l.Glance(ctx, 0); err != nil {
			return nil, err
		}
		for i := range c.Parts {
			c.Parts[i].Manifest = l.Home.Aliases.Manifest(c.Parts[i].Manifest)
		}
	}
	if len(c.Parts) < len(names) {
		return nil, fmt.Errorf("%s of %s: %w", strings.Join(names, ", "), b.Label, ErrNotOffered)
	}
	return c, c.merge()
}

// imported composes a choice of the components of a build that was imported.
func (c *Composed) imported(ctx context.Context, l *lane.Lane) error {
	list, err := importedParts(ctx, l.Store, c.Build, c.Build.Chosen)
	if err != nil {
		return err
	}
	for _, p := range list {
		c.Parts = append(c.Parts, fetch.Part{Part: catalogue.Part{Name: p.Name}, Manifest: p.Manifest})
	}
	if err := c.merge(); err != nil {
		return err
	}
	c.Parts = nil
	whole, err := l.Home.HeldWhole(ctx, c.Build)
	if err != nil || whole == nil {
		return err
	}
	known, err := whole.ReadAttributes(ctx, l.Store)
	if err != nil {
		return err
	}
	for _, f := range c.Base.Files {
		if a, ok := known.Files[f.Path]; ok {
			c.Own.Files[f.Path] = a
		}
	}
	return nil
}

// importedParts reads components of a build that was imported.
func importedParts(ctx context.Context, s *store.Store, b *state.Build, names []string) ([]identify.Part, error) {
	var list []identify.Part
	for _, p := range b.Parts(names) {
		raw, err := s.Bytes(ctx, p.Manifest, manifest.MaxEncoded)
		if err != nil {
			return nil, fmt.Errorf("%s of %s: %w", p.Name, b.Label, err)
		}
		m, err := manifest.DecodeRecorded(raw)
		if err != nil {
			return nil, fmt.Errorf("%s of %s: %w", p.Name, b.Label, err)
		}
		list = append(list, identify.Part{Name: p.Name, Manifest: m})
	}
	return list, nil
}

// merge makes one manifest out of those of the parts.
func (c *Composed) merge() error {
	var list []*manifest.Manifest
	for _, p := range c.Parts {
		list = append(list, p.Manifest)
	}
	var err error
	if path, i, j, found := manifest.Shared(list...); found {
		return &feed.SharedError{Build: c.Build.Label, Path: path, A: c.Parts[i].Name, B: c.Parts[j].Name}
	}
	if c.Base, err = manifest.Merge(list...); err != nil {
		return fmt.Errorf("the components of %s: %w", c.Build.Label, err)
	}
	c.Manifest = c.Base
	b := c.Build
	b.Manifest, b.Files, b.Bytes = c.Manifest.Digest(), len(c.Manifest.Files), c.Manifest.Bytes()
	c.Own = manifest.NewAttributes()
	c.Attributes = c.Own
	return nil
}

// parts reads the manifests of the chosen components from the feeds that offer
// the build.
func parts(ctx context.Context, l *lane.Lane, b *state.Build) ([]fetch.Part, error) {
	if len(b.Feeds) == 0 {
		return nil, nil
	}
	var parts []fetch.Part
	for _, p := range b.Parts(b.Chosen) {
		var errs []error
		for _, f := range b.Feeds {
			m, err := f.Manifest(p.Manifest)
			if errors.Is(err, feed.ErrNotTold) {
				if err = f.Bring(ctx, []listing.Wanted{{Build: b.ID, Part: p}}, l.Feed); err == nil {
					m, err = f.Manifest(p.Manifest)
				}
			}
			if err == nil {
				parts = append(parts, fetch.Part{Part: p, Manifest: m})
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

// Recorded reads a build that is in the store.
func Recorded(ctx context.Context, l *lane.Lane, b *state.Build) (*Composed, error) {
	c := &Composed{Build: b, Recorded: true}
	var err error
	if c.Base, err = b.ReadManifest(ctx, l.Store); err != nil {
		return nil, err
	}
	c.Manifest = c.Base
	var damage *store.DamageError
	if c.Own, err = b.ReadAttributes(ctx, l.Store); errors.Is(err, store.ErrMissing) || errors.As(err, &damage) {
		// The content is what counts; dates and modes then stay as they are found.
		l.Home.Tell(fmt.Sprintf("the dates and modes of %s are lost and stay as they are: %v", b.Label, err))
		c.Own, err = manifest.NewAttributes(), nil
	}
	if err != nil {
		return nil, err
	}
	c.Attributes, c.scratch = c.Own, make(map[string]plan.Node)
	match := l.Game.Rules().Matcher()
	for p := range c.Own.Dirs {
		if match.Scratch(p) {
			c.scratch[p] = plan.Node{Kind: plan.Dir}
		}
	}
	if len(c.Own.Links) > 0 {
		links, err := withoutShares(ctx, l, c.Own.Links)
		if err != nil {
			return nil, err
		}
		a := *c.Own
		a.Links, c.Attributes = links, &a
	}
	return c, nil
}

// Register records a feed's build in the store and among the game's builds.
func Register(ctx context.Context, l *lane.Lane, c *Composed, partial bool) error {
	if c.Build.Components == nil || c.Recorded && (partial || !c.Build.Partial) {
		return nil
	}
	b := c.Build
	session := l.Store.Begin()
	err := Describe(ctx, l, session, b, c.Base.Encode(), c.Own.Encode())
	if err := errors.Join(err, session.Close()); err != nil {
		return err
	}
	b.Partial = partial
	if err := l.Home.AddBuild(ctx, b); err != nil {
		return err
	}
	c.Recorded = true
	return nil
}

// Describe puts what describes a build into the store.
func Describe(ctx context.Context, l *lane.Lane, session *store.Session, b *state.Build, m, attributes []byte) error {
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

// Learn puts the digests of content that has come in the place of what stood for them. It is to be called when
// a fetch from a distributor is done.
func (c *Composed) Learn(l *lane.Lane) {
	known := l.Home.Aliases
	same := c.Manifest == c.Base
	c.Base = known.Manifest(c.Base)
	if c.Manifest = known.Manifest(c.Manifest); same {
		c.Manifest = c.Base
	}
	for i := range c.Parts {
		c.Parts[i].Manifest = known.Manifest(c.Parts[i].Manifest)
	}
	if !c.Recorded {
		c.Build.Manifest = c.Base.Digest()
	}
}

// Unseen reports whether the build has content that nobody here has seen.
func (c *Composed) Unseen() bool { return alias.Unseen(c.Base) }

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
func Choose(ctx context.Context, l *lane.Lane, b *state.Build, asked []string) (*Choice, error) {
	if b.Components == nil {
		if len(asked) > 0 {
			return nil, fmt.Errorf("%w: %s is a snapshot of the whole folder, without components", ErrComponent, b.Label)
		}
		return &Choice{}, nil
	}
	c := &Choice{}
	offered := b.ComponentNames()
	imported := b.Channel == state.ImportedLine
	if len(b.Feeds) == 0 && !imported {
		offered = b.Chosen // no feed has the rest any more
	}
	switch pin, err := l.Home.Pin(ctx, l.Game.Name, l.Name); {
	case err != nil:
		return nil, err
	case len(asked) > 0:
		c.Names = asked
	case len(b.Feeds) == 0 && !imported:
		c.Names = b.Chosen
	case len(pin.Components) > 0:
		for _, name := range pin.Components {
			if slices.Contains(offered, name) {
				c.Names = append(c.Names, name)
			}
		}
	case imported:
		c.Names = offered
	default:
		if c.Names, err = present(ctx, l, b); err != nil {
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

// ChooseOnly is Choose; with only, it takes the components that were asked for and no others, be
// they required.
func ChooseOnly(ctx context.Context, l *lane.Lane, b *state.Build, names []string, only bool) (*Choice, error) {
	if !only {
		return Choose(ctx, l, b, names)
	}
	if b.Components == nil {
		return nil, fmt.Errorf("%w: %s is a snapshot of the whole folder, without components", ErrComponent, b.Label)
	}
	c := &Choice{Names: slices.Sorted(slices.Values(names))}
	offered := b.ComponentNames()
	for _, name := range c.Names {
		if !slices.Contains(offered, name) {
			return nil, fmt.Errorf("%w: %s of %s; it has %s", ErrComponent, name, b.Label, strings.Join(offered, ", "))
		}
	}
	return c, nil
}

// requiredOf lists the components that no build of the feed works without.
func requiredOf(b *state.Build) ([]string, error) {
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
func present(ctx context.Context, l *lane.Lane, b *state.Build) ([]string, error) {
	if l.Root == nil { // its disk is not there
		return b.ComponentNames(), nil
	}
	tree, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	offered, err := l.Home.Offered(l.Game.Name)
	if err != nil {
		return nil, err
	}
	there := make(map[string]bool)
	for _, other := range append([]*state.Build{b}, offered...) {
		for _, p := range other.Components {
			if there[p.Name] || !slices.Contains(b.ComponentNames(), p.Name) || len(other.Feeds) == 0 {
				continue
			}
			m, err := other.Feeds[0].Manifest(p.Manifest)
			if err != nil {
				game.TellLeftOut(l.Home, other, err)
				continue
			}
			there[p.Name] = Stands(tree, m)
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

// Stands reports whether at least half of the files have something in their place.
func Stands(t *scan.Tree, m *manifest.Manifest) bool {
	n := 0
	for _, f := range m.Files {
		if e := t.Entry(f.Path); e != nil && e.Kind == scan.File {
			n++
		}
	}
	return n > 0 && 2*n >= len(m.Files)
}
