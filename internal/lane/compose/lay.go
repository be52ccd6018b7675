package compose

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/edit"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/layers"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// First says from what the layers of a pin are laid for the first time.
type First struct {
	Held   *Composed // what the lane is held to before; nil: nothing
	Have   plan.State
	Ground *layers.Ground
}

// Lay lays what a pin has beside its build over the build's files. With first, the pin is being made: what it has to
// know of the folder goes into it, and what the pin before had is lifted.
func (c *Composed) Lay(ctx context.Context, l *lane.Lane, pin *state.Pin, first *First) error {
	over, err := c.layersOf(ctx, l, *pin)
	if err != nil {
		return err
	}
	site := layers.Site{
		Rules: l.Game.Rules(), IgnoresCase: l.IgnoresCase(), Fresh: first != nil,
		Own:     func(p string) ([]byte, error) { return ownText(l, p) },
		Content: func(p string, n plan.Node) ([]byte, error) { return contentOf(ctx, l, c, p, n) },
	}
	covered, err := coveredBy(ctx, l, *pin)
	if err != nil {
		return err
	}
	lay := func() error {
		c.Sheet, err = layers.New(site, c.Base, c.Attributes, c.components(), covered, over...)
		return err
	}
	if err = lay(); err != nil {
		return err
	}
	if first != nil {
		var held *layers.Sheet
		if first.Held != nil {
			held = first.Held.Sheet
		}
		covered = c.Sheet.Covers(held, first.Have, first.Ground)
		if err = lay(); err != nil {
			return err
		}
		pin.Covered, pin.CoveredTimes = putCovered(c.Sheet, covered)
		for i := range pin.Overlays {
			pin.Overlays[i].Covered = digest.Digest{}
		}
		for i, e := range layersOfKind[*layers.Edit](over) {
			pin.Edits[i].Was = e.Was
		}
		if held != nil {
			c.Lifted = layers.Lift(held, c.Sheet, first.Have)
		}
		c.Notes = append(c.Notes, unfit(c.Build, c.mods)...)
	}
	c.Notes = append(c.Notes, c.Sheet.Notes...)
	if c.Manifest, err = c.Sheet.Manifest(); err != nil {
		return fmt.Errorf("what the pin adds to %s: %w", c.Build.Label, err)
	}
	c.Attributes = c.Sheet.Attributes()
	return nil
}

func layersOfKind[L layers.Layer](over []layers.Layer) []L {
	var list []L
	for _, l := range over {
		if is, ok := l.(L); ok {
			list = append(list, is)
		}
	}
	return list
}

// components are the lowest layers.
func (c *Composed) components() []*layers.Component {
	list := []*layers.Component{{Build: c.Build.Name(), Manifest: c.Base}}
	if len(c.Parts) > 1 {
		list = nil
		for _, p := range c.Parts {
			list = append(list, &layers.Component{Build: c.Build.Name(), Part: p.Name, Manifest: p.Manifest})
		}
	}
	return list
}

// layersOf returns the layers of a pin above its build.
func (c *Composed) layersOf(ctx context.Context, l *lane.Lane, pin state.Pin) ([]layers.Layer, error) {
	var over []layers.Layer
	if len(pin.LeaveOut) > 0 {
		over = append(over, &layers.LeftOut{Patterns: pin.LeaveOut})
	}
	if !pin.Links.IsZero() {
		links, err := l.Home.Player.Links(ctx, pin.Links)
		if err == nil {
			links, err = withoutShares(ctx, l, links)
		}
		if err != nil {
			return nil, err
		}
		over = append(over, &layers.Links{To: links})
	}
	c.overlays, c.mods = nil, nil
	for _, o := range pin.Overlays {
		other, err := overlaid(ctx, l, o)
		if err != nil {
			return nil, fmt.Errorf("the overlay of %s: %w", o.Name, err)
		}
		c.overlays = append(c.overlays, other)
		if o.Mod {
			c.mods = append(c.mods, other.Build)
		}
		over = append(over, &layers.Overlay{Of: o.Name, Pattern: o.Pattern, Mods: o.Mod, Named: o.Named || o.Mod, Manifest: other.Manifest, Times: other.Attributes})
	}
	for _, k := range pin.Companions {
		over = append(over, &layers.Companion{Path: k.Path, Text: k.Text})
	}
	for _, e := range pin.Edits {
		over = append(over, &layers.Edit{File: e.File, Find: e.Find, Set: e.Set, Was: e.Was})
	}
	times, err := l.Home.Player.Times(ctx, pin.Times)
	if len(times) > 0 {
		over = append(over, &layers.Times{Of: times})
	}
	return over, err
}

// overlaid puts together the build that an overlay is of.
func overlaid(ctx context.Context, l *lane.Lane, o state.Overlay) (*Composed, error) {
	b, err := l.Home.RecordedBuild(ctx, l.Game.Name, o.Build)
	if errors.Is(err, state.ErrUnknown) {
		b, err = offered(l, o)
	}
	if err == nil {
		err = game.FindOffers(l.Home, b)
	}
	if err != nil {
		return nil, err
	}
	return Of(ctx, l, b, o.Components)
}

// offered finds the build of an overlay among what the feeds offer.
func offered(l *lane.Lane, o state.Overlay) (*state.Build, error) {
	list, err := l.Home.Offered(l.Game.Name)
	if err != nil {
		return nil, err
	}
	for _, b := range list {
		if b.Digest() == o.Digest {
			return b.With(o.Components), nil
		}
	}
	return nil, &state.UnknownError{Kind: "build", Name: o.Name}
}

// unfit says which sets of mods are not meant for a build.
func unfit(b *state.Build, mods []*state.Build) []string {
	var notes []string
	for _, m := range mods {
		if len(m.Fits) > 0 && !slices.Contains(m.Fits, b.Label) {
			notes = append(notes, fmt.Sprintf("the mods %s are meant for %s, not for %s", m.Label, list(m.Fits), b.Label))
		}
	}
	return notes
}

func list(names []string) string {
	last := len(names) - 1
	if last == 0 {
		return names[0]
	}
	return strings.Join(names[:last], ", ") + " and " + names[last]
}

// coveredBy lists the files of the player's on which overlays of a pin lie. Earlier versions noted them with each overlay.
func coveredBy(ctx context.Context, l *lane.Lane, pin state.Pin) (map[string]plan.Node, error) {
	all := make(map[string]plan.Node)
	var a *manifest.Attributes
	read := func(d digest.Digest, decode func([]byte) error) error {
		raw, err := l.Store.Bytes(ctx, d, manifest.MaxEncoded)
		if err == nil {
			err = decode(raw)
		}
		if err != nil {
			return fmt.Errorf("what the overlays lie over: %w", err)
		}
		return nil
	}
	if !pin.CoveredTimes.IsZero() {
		if err := read(pin.CoveredTimes, func(raw []byte) (err error) { a, err = manifest.DecodeAttributes(raw); return err }); err != nil {
			return nil, err
		}
	}
	for _, d := range pin.CoveredLists() {
		var m *manifest.Manifest
		if err := read(d, func(raw []byte) (err error) { m, err = manifest.Decode(raw); return err }); err != nil {
			return nil, err
		}
		for _, e := range plan.FromManifest(m, a) {
			if _, lower := all[e.Path]; !lower && e.Kind == plan.File {
				all[e.Path] = e.Node
			}
		}
	}
	return all, nil
}

// putCovered has the sheet bring the list of what is covered, with its times, and names both.
func putCovered(s *layers.Sheet, covered map[string]plan.Node) (list, times digest.Digest) {
	if len(covered) == 0 {
		return list, times
	}
	m, a := &manifest.Manifest{}, manifest.NewAttributes()
	for p, n := range covered {
		m.Files = append(m.Files, manifest.File{Path: p, Size: n.Size, Digest: n.Digest})
		if n.MTime != 0 {
			a.Files[p] = manifest.Attribute{Mode: n.Mode, MTime: n.Time()}
		}
	}
	m.Sort()
	return s.Bring(m.Encode()).Digest, s.Bring(a.Encode()).Digest
}

// StoreTexts puts the content that a pin itself brings into the store.
func StoreTexts(ctx context.Context, l *lane.Lane, texts map[digest.Digest][]byte) error {
	if len(texts) == 0 {
		return nil
	}
	session := l.Store.Begin()
	var errs []error
	for _, text := range texts {
		_, _, err := session.Put(ctx, bytes.NewReader(text), nil)
		errs = append(errs, err)
	}
	return errors.Join(append(errs, session.Close())...)
}

// CheckLeaveOut returns an error for a pattern that fits no file of a build.
func CheckLeaveOut(l *lane.Lane, c *Composed, patterns []string) error {
	if err := (rules.Rules{Keep: patterns}).Check(); err != nil {
		return err
	}
	for _, p := range patterns {
		match := l.Game.Rules().Set([]string{p})
		if !slices.ContainsFunc(c.Base.Files, func(f manifest.File) bool { return match.Match(f.Path) }) {
			return fmt.Errorf("%w: no file of %s matches \"%s\"", state.ErrLeaveOut, c.Build.Label, p)
		}
	}
	return nil
}

// CheckAdditions returns an error for something that could not be kept as the pin
// says.
func CheckAdditions(pin state.Pin, r rules.Rules) error {
	if err := (rules.Rules{Keep: slices.Concat(pin.Keep, pin.LeaveOut)}).Check(); err != nil {
		return err
	}
	match := r.Matcher()
	for i, k := range pin.Companions {
		if err := k.Check(); err != nil {
			return err
		}
		if match.Scratch(k.Path) {
			return fmt.Errorf("%w: %s is under a scratch rule, and a pin changes nothing there", state.ErrCompanion, k.Path)
		}
		if slices.ContainsFunc(pin.Companions[:i], func(o state.Companion) bool { return o.Path == k.Path }) {
			return fmt.Errorf("%w: %s is named twice", state.ErrCompanion, k.Path)
		}
	}
	for _, e := range pin.Edits {
		if err := e.Check(); err != nil {
			return err
		}
		if match.Scratch(e.File) {
			return fmt.Errorf("%w: %s is under a scratch rule, and a pin changes nothing there", state.ErrEdit, e.File)
		}
	}
	return nil
}

// contentOf reads a small file of a build: from the store, from the lane if it is as
// built there, or from a feed, since what is planned depends on it.
func contentOf(ctx context.Context, l *lane.Lane, c *Composed, p string, n plan.Node) ([]byte, error) {
	content, err := l.Store.Bytes(ctx, n.Digest, edit.MaxSize)
	if !errors.Is(err, store.ErrMissing) {
		return content, err
	}
	if there, err := ownText(l, p); err == nil && digest.Of(there) == n.Digest {
		return there, nil
	}
	tree, lookErr := l.Look(ctx, 0)
	if lookErr != nil {
		return nil, lookErr
	}
	for _, of := range c.Sources() {
		if is, ok := of.Base.File(p); !ok || is.Digest != n.Digest || len(of.Parts) == 0 {
			continue
		}
		only := map[digest.Digest]bool{n.Digest: true}
		p, err := PlanFetch(ctx, l, of, only, tree)
		if err == nil {
			_, err = RunFetch(ctx, l, of, p, only, tree)
		}
		if err != nil {
			return nil, err
		}
		return l.Store.Bytes(ctx, l.Home.Aliases.Own(n.Digest), edit.MaxSize)
	}
	return nil, err
}

// ownText reads a file of the lane.
func ownText(l *lane.Lane, path string) ([]byte, error) {
	info, err := l.Root.Lstat(filepath.FromSlash(path))
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > edit.MaxSize {
		return nil, fmt.Errorf("%w: it is not a text file of a usual size for settings", edit.ErrMatches)
	}
	f, err := scan.OpenFile(l.Root, path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, edit.MaxSize))
}

// Rules returns the rules by which what is composed is reached: what is named on purpose comes also where a keep rule
// would leave it alone.
func Rules(l *lane.Lane, c *Composed) rules.Rules {
	r := l.Game.Rules()
	if c != nil {
		if c.Sheet != nil {
			r.Except, r.Leave = c.Sheet.Exceptions(c.Lifted)
		}
		r.Except = append(r.Except, slices.Collect(maps.Keys(c.guarded))...)
	}
	return r
}

// Yielded counts the files of a build that rules leave to the player, out of those that a
// plan has left to them. What a snapshot holds of the player's own files, by the rules of the
// game itself, is no such file.
func Yielded(l *lane.Lane, c *Composed, p *plan.Plan) int {
	if c == nil || len(p.Yielded) == 0 {
		return 0
	}
	if c.Build.Components != nil {
		return len(p.Yielded)
	}
	own, n := l.Base.Rules().Matcher(), 0
	for _, path := range p.Yielded {
		if !own.Kept(path) && !own.Scratch(path) {
			n++
		}
	}
	return n
}
