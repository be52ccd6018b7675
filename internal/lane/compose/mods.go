package compose

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// LayMods notes of each set of mods that is new in a pin which files of the player's it comes to lie over: what
// is there and neither the build's nor owned. Lifting the set brings them back. It says what the sets are not
// meant for.
func LayMods(ctx context.Context, l *lane.Lane, c *Composed, pin *state.Pin, before state.Pin, owned plan.State, tree *scan.Tree) error {
	laid, err := modFiles(ctx, l, before.Overlays)
	if err != nil {
		return err
	}
	match := l.Game.Rules().Matcher()
	for i := range pin.Overlays {
		o := &pin.Overlays[i]
		if !o.Mod {
			continue
		}
		b, err := l.Home.RecordedBuild(ctx, l.Game.Name, o.Build)
		if err != nil {
			return fmt.Errorf("the mods %s: %w", o.Name, err)
		}
		if len(b.Fits) > 0 && !slices.Contains(b.Fits, c.Build.Label) {
			c.Notes = append(c.Notes, fmt.Sprintf("the mods %s are meant for %s, not for %s", b.Label, list(b.Fits), c.Build.Label))
		}
		if !o.Covered.IsZero() {
			continue
		}
		m, err := b.ReadManifest(ctx, l.Store)
		if err != nil {
			return err
		}
		covered := &manifest.Manifest{}
		for _, f := range m.Files {
			e := tree.Entry(f.Path)
			if e == nil || e.Kind != scan.File || !e.Known || e.Digest == f.Digest {
				continue
			}
			if laid[e.Path][e.Digest] {
				continue // of a set that is laid already
			}
			held, is := owned.Get(e.Path)
			built, there := c.Base.File(e.Path)
			// A snapshot has the player's own files as well.
			if !match.Kept(e.Path) && (is && held.Digest == e.Digest || there && built.Digest == e.Digest) {
				continue
			}
			covered.Files = append(covered.Files, manifest.File{Path: f.Path, Size: e.Stamp.Size, Digest: e.Digest})
		}
		if len(covered.Files) > 0 {
			covered.Sort()
			text := covered.Encode()
			o.Covered = c.bring("", text).Digest
		}
	}
	return nil
}

// modFiles lists the contents that sets of mods have at their paths.
func modFiles(ctx context.Context, l *lane.Lane, overlays []state.Overlay) (map[string]map[digest.Digest]bool, error) {
	files := make(map[string]map[digest.Digest]bool)
	for _, o := range overlays {
		if !o.Mod {
			continue
		}
		b, err := l.Home.RecordedBuild(ctx, l.Game.Name, o.Build)
		if err != nil {
			return nil, fmt.Errorf("the mods %s: %w", o.Name, err)
		}
		m, err := b.ReadManifest(ctx, l.Store)
		if err != nil {
			return nil, err
		}
		for _, f := range m.Files {
			if files[f.Path] == nil {
				files[f.Path] = make(map[digest.Digest]bool)
			}
			files[f.Path][f.Digest] = true
		}
	}
	return files, nil
}

func list(names []string) string {
	text := names[0]
	for i, n := range names[1:] {
		if i == len(names)-2 {
			text += " and " + n
		} else {
			text += ", " + n
		}
	}
	return text
}

// LiftMods brings back what sets of mods lay over that are lifted, where the set is still as it was laid and
// nothing else comes there. The files are brought this once, and are no part of any build. What another
// set of the pin still lies over is that one's to bring back.
func LiftMods(ctx context.Context, l *lane.Lane, c *Composed, pin *state.Pin, lifted []state.Overlay, tree *scan.Tree) error {
	match := l.Game.Rules().Matcher()
	for _, o := range lifted {
		if !o.Mod {
			continue
		}
		covered, err := coveredBy(ctx, l, c, o)
		if err != nil {
			return fmt.Errorf("what the mods %s lay over: %w", o.Name, err)
		}
		b, err := l.Home.RecordedBuild(ctx, l.Game.Name, o.Build)
		if err != nil {
			return err
		}
		laid, err := b.ReadManifest(ctx, l.Store)
		if err != nil {
			return err
		}
		// What lies under keep rules goes with the set as well.
		gone := make(map[string]bool)
		for _, f := range laid.Files {
			e := tree.Entry(f.Path)
			if _, under := covered.File(f.Path); !under && c.Mods[f.Path] == "" && match.Kept(f.Path) && e != nil && e.Digest == f.Digest {
				gone[f.Path] = true
				c.edited = append(c.edited, f.Path)
			}
		}
		c.Manifest = c.Manifest.Without(func(p string) bool { return gone[p] })
		back := make(map[string]manifest.File)
		passed := make(map[string][]manifest.File)
		for _, f := range covered.Files {
			is, _ := laid.File(f.Path)
			if by := c.Mods[f.Path]; by != "" {
				passed[by] = append(passed[by], f)
				continue
			}
			e := tree.Entry(f.Path)
			_, built := c.Manifest.File(f.Path)
			if built && !match.Kept(f.Path) || e != nil && (e.Kind != scan.File || e.Digest != is.Digest) {
				continue
			}
			c.edited = append(c.edited, f.Path)
			back[f.Path] = f
		}
		if err := errors.Join(c.lay(back), passOn(ctx, l, c, pin, passed)); err != nil {
			return err
		}
	}
	return nil
}

// coveredBy lists the files of the player's that a set of mods lies over.
func coveredBy(ctx context.Context, l *lane.Lane, c *Composed, o state.Overlay) (*manifest.Manifest, error) {
	if o.Covered.IsZero() {
		return &manifest.Manifest{}, nil
	}
	raw := c.Texts[o.Covered]
	if raw == nil {
		var err error
		if raw, err = l.Store.Bytes(ctx, o.Covered, manifest.MaxEncoded); err != nil {
			return nil, err
		}
	}
	return manifest.Decode(raw)
}

// passOn adds files to what sets of mods lie over, by the names of the sets.
func passOn(ctx context.Context, l *lane.Lane, c *Composed, pin *state.Pin, files map[string][]manifest.File) error {
	for i := range pin.Overlays {
		o := &pin.Overlays[i]
		_, name, _ := strings.Cut(o.Name, "/")
		if !o.Mod || len(files[name]) == 0 {
			continue
		}
		m, err := coveredBy(ctx, l, c, *o)
		if err != nil {
			return err
		}
		for _, f := range files[name] {
			m.Files = append(slices.DeleteFunc(m.Files, func(o manifest.File) bool { return o.Path == f.Path }), f)
		}
		m.Sort()
		o.Covered = c.bring("", m.Encode()).Digest
	}
	return nil
}
