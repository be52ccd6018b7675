package compose

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/edit"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// ErrOverlay is returned for an overlay that brings nothing.
var ErrOverlay = errors.New("the overlay has no files")

// Add lays what a pin brings beside its build over the build's files: overlays,
// companions, edits. fresh says that the pin is being made: then an edit must find its
// value. Later the player may have taken the line out of a file of theirs, which must
// not keep anything else from working.
func Add(ctx context.Context, l *lane.Lane, c *Composed, pin state.Pin, fresh bool) error {
	c.ignoresCase = l.IgnoresCase()
	c.leaveOut(l, pin.LeaveOut)
	files := make(map[string]manifest.File)
	if len(pin.Overlays) > 0 {
		c.Attributes = c.Attributes.Clone()
	}
	if pin.Links != (digest.Digest{}) {
		links, err := l.Home.Player.Links(ctx, pin.Links)
		if err != nil {
			return err
		}
		if links, err = withoutShares(ctx, l, links); err != nil {
			return err
		}
		c.setLinks(links)
	}
	spelling := c.Spelling()
	for _, o := range pin.Overlays {
		if err := overlay(ctx, l, c, o, spelling, files); err != nil {
			return err
		}
	}
	for _, k := range pin.Companions {
		p := spelling.Of(k.Path)
		files[p] = c.bring(p, []byte(k.Text))
	}
	if err := c.lay(files); err != nil {
		return err
	}
	for _, e := range pin.Edits {
		if err := setValue(ctx, l, c, e, fresh); err != nil {
			return err
		}
	}
	times, err := l.Home.Player.Times(ctx, pin.Times)
	c.setTimes(times)
	return err
}

// leaveOut takes files out of the build.
func (c *Composed) leaveOut(l *lane.Lane, patterns []string) {
	if len(patterns) == 0 {
		return
	}
	match := l.Game.Rules().Set(patterns)
	for _, f := range c.Manifest.Files {
		if match.Match(f.Path) {
			c.LeftOut = append(c.LeftOut, f)
		}
	}
	c.Manifest = c.Manifest.Without(match.Match)
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

// Was finds the values that edits of the player's own files replace.
func Was(ctx context.Context, l *lane.Lane, c *Composed, edits []state.Edit) ([]state.Edit, error) {
	edits = slices.Clone(edits)
	for i := range edits {
		e := &edits[i]
		if _, built := c.Manifest.File(c.Spelling().Of(e.File)); built || e.Was != nil || l.Root == nil {
			continue
		}
		content, err := ownText(l, e.File)
		if err != nil {
			continue // said where it is edited
		}
		d := edit.Parse(content)
		if v, err := d.Find(ctx, e.Find, 1); err == nil {
			e.Was = &v.Texts[0]
		}
	}
	return edits, nil
}

// Restore sets back the values that edits replaced in files of the player's own, where they are
// still as the edit set them. The files are changed this once, and are no part of any build.
func Restore(ctx context.Context, l *lane.Lane, c *Composed, edits []state.Edit) error {
	for _, e := range edits {
		e.File = c.Spelling().Of(e.File)
		if _, built := c.Base.File(e.File); built || e.Was == nil {
			continue
		}
		var content []byte
		if f, there := c.Manifest.File(e.File); there && c.Texts[f.Digest] != nil {
			content = c.Texts[f.Digest] // by another edit
		} else {
			var err error
			if content, err = ownText(l, e.File); errors.Is(err, fs.ErrNotExist) {
				continue
			} else if err != nil {
				return err
			}
		}
		d := edit.Parse(content)
		v, err := d.Find(ctx, e.Find, 1)
		if err != nil || v.Texts[0] != e.Set {
			continue // the player has changed it since
		}
		c.edited = append(c.edited, e.File)
		if err := c.lay(map[string]manifest.File{e.File: c.bring(e.File, d.With(v, []string{*e.Was}))}); err != nil {
			return err
		}
	}
	return nil
}

// bring adds content that comes from the pin itself, not from a build.
func (c *Composed) bring(path string, content []byte) manifest.File {
	if c.Texts == nil {
		c.Texts = make(map[digest.Digest][]byte)
	}
	d := digest.Of(content)
	c.Texts[d] = content
	return manifest.File{Path: path, Size: int64(len(content)), Digest: d}
}

// Spelling returns how the build spells its paths; nil where letter case counts.
func (c *Composed) Spelling() *plan.Spelling {
	if !c.ignoresCase {
		return nil
	}
	return plan.SpellingOf(plan.FromManifest(c.Manifest, nil))
}

// lay puts files over those there are.
func (c *Composed) lay(files map[string]manifest.File) error {
	if len(files) == 0 {
		return nil
	}
	spelling := c.Spelling()
	over := &manifest.Manifest{}
	covered := make(map[string]bool)
	for _, f := range files {
		f.Path = spelling.Of(f.Path)
		covered[f.Path] = true
		over.Files = append(over.Files, f)
	}
	under := c.Manifest.Without(func(p string) bool { return covered[p] })
	over.Sort()
	var err error
	if c.Manifest, err = manifest.Merge(under, over); err != nil {
		return fmt.Errorf("what the pin adds to %s: %w", c.Build.Label, err)
	}
	return nil
}

// overlay adds the files of an overlay; those of an earlier one give way.
func overlay(ctx context.Context, l *lane.Lane, c *Composed, o state.Overlay, spelling *plan.Spelling, files map[string]manifest.File) error {
	b, err := l.Home.RecordedBuild(ctx, l.Game.Name, o.Build)
	if errors.Is(err, state.ErrUnknown) {
		b, err = offered(ctx, l, o)
	}
	if err != nil {
		return fmt.Errorf("the overlay of %s: %w", o.Name, err)
	}
	if err := game.FindOffers(l.Home, b); err != nil {
		return err
	}
	other, err := Of(ctx, l, b, o.Components)
	if err != nil {
		return err
	}
	match := l.Game.Rules().Set([]string{o.Pattern})
	found := 0
	for _, f := range other.Manifest.Files {
		if !match.Match(f.Path) {
			continue
		}
		found++
		from := f.Path
		f.Path = spelling.Of(f.Path)
		if was, twice := files[f.Path]; twice && was.Digest != f.Digest {
			c.Notes = append(c.Notes, fmt.Sprintf("two overlays have %s; the later one, of %s, wins", f.Path, o.Name))
		}
		files[f.Path] = f
		if delete(c.Mods, f.Path); o.Mod {
			if c.Mods == nil {
				c.Mods = make(map[string]string)
			}
			c.Mods[f.Path] = b.Label
		}
		if a, ok := other.Attributes.Files[from]; ok {
			c.Attributes.Files[f.Path] = a
		}
	}
	if found == 0 {
		return fmt.Errorf("%w: %s has nothing that matches %s", ErrOverlay, o.Name, o.Pattern)
	}
	c.overlays = append(c.overlays, other)
	return nil
}

// offered finds the build of an overlay among what the feeds offer.
func offered(ctx context.Context, l *lane.Lane, o state.Overlay) (*state.Build, error) {
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

// maxEdited bounds a file that an edit is made in, in bytes.
const maxEdited = edit.MaxSize

// setValue sets a value in a file of the build, or in one that only the lane has.
func setValue(ctx context.Context, l *lane.Lane, c *Composed, e state.Edit, fresh bool) error {
	e.File = c.Spelling().Of(e.File)
	f, built := c.Manifest.File(e.File)
	var content []byte
	var err error
	switch {
	case built && c.Texts[f.Digest] != nil:
		content = c.Texts[f.Digest]
	case built:
		content, err = contentOf(ctx, l, c, f)
	default:
		content, err = ownText(l, e.File)
		if errors.Is(err, fs.ErrNotExist) {
			c.Notes = append(c.Notes, e.File+" is not there yet; a repair sets the value once it is")
			return nil
		}
	}
	if err != nil {
		return fmt.Errorf("%w: %s: %w", state.ErrEdit, e.File, err)
	}
	d := edit.Parse(content)
	v, err := d.Find(ctx, e.Find, 1)
	if err != nil && !built && !fresh {
		c.Notes = append(c.Notes, fmt.Sprintf("%s no longer has the line that the pin edits", e.File))
		return nil
	}
	if !built {
		c.edited = append(c.edited, e.File)
	}
	if err != nil {
		return fmt.Errorf("%w: %s: %w", state.ErrEdit, e.File, err)
	}
	return c.lay(map[string]manifest.File{e.File: c.bring(e.File, d.With(v, []string{e.Set}))})
}

// contentOf reads a small file of a build: from the store, from the lane if it is as
// built there, or from a feed, since what is planned depends on it.
func contentOf(ctx context.Context, l *lane.Lane, c *Composed, f manifest.File) ([]byte, error) {
	content, err := l.Store.Bytes(ctx, f.Digest, maxEdited)
	if !errors.Is(err, store.ErrMissing) {
		return content, err
	}
	if there, err := ownText(l, f.Path); err == nil && digest.Of(there) == f.Digest {
		return there, nil
	}
	tree, lookErr := l.Look(ctx, 0)
	if lookErr != nil {
		return nil, lookErr
	}
	for _, layer := range c.Layers() {
		if is, ok := layer.Base.File(f.Path); !ok || is.Digest != f.Digest || len(layer.Parts) == 0 {
			continue
		}
		only := map[digest.Digest]bool{f.Digest: true}
		p, err := PlanFetch(ctx, l, layer, only, tree)
		if err != nil {
			return nil, err
		}
		if _, err := RunFetch(ctx, l, layer, p, only, tree); err != nil {
			return nil, err
		}
		return l.Store.Bytes(ctx, f.Digest, maxEdited)
	}
	return nil, err
}

// ownText reads a file of the lane.
func ownText(l *lane.Lane, path string) ([]byte, error) {
	info, err := l.Root.Lstat(filepath.FromSlash(path))
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > maxEdited {
		return nil, fmt.Errorf("%w: it is not a text file of a usual size for settings", edit.ErrMatches)
	}
	f, err := scan.OpenFile(l.Root, path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, maxEdited))
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
		if match.Kept(k.Path) || match.Scratch(k.Path) {
			return fmt.Errorf("%w: %s is under a keep or scratch rule, and a pin changes nothing there", state.ErrCompanion, k.Path)
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

// Rules returns the rules that a pin's target is reached by: an edit is made also
// where a keep rule would leave the file alone.
func Rules(l *lane.Lane, c *Composed) rules.Rules {
	r := l.Game.Rules()
	r.Leave = l.Leave
	if c != nil {
		r.Except = slices.Concat(c.edited, slices.Collect(maps.Keys(c.guarded)), slices.Collect(maps.Keys(c.Mods)))
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
