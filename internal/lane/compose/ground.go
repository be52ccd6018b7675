package compose

import (
	"context"
	"slices"
	"sync"

	"morvant/internal/game"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/layers"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/state"
)

// Ground is what tells whose the files of a folder are.
type Ground struct {
	*layers.Ground
	Known []identify.Known
}

// GroundOf gathers what tells whose the files of have are, where c is held; c may be nil. Files of components that the
// build optional has, if it is not nil, and the folder was not given are not the game's: the player may have added them.
func GroundOf(ctx context.Context, l *lane.Lane, c *Composed, have plan.State, optional *state.Build) (*Ground, error) {
	var odd []string // what is as it is wanted, or the player's by a rule, needs no build to tell whose it is
	match := l.Game.Rules().Matcher()
	for _, e := range have {
		if e.Kind != plan.File || e.Digest.IsZero() || match.Kept(e.Path) && (c == nil || c.Sheet.Kept(e.Path)) {
			continue
		}
		if p := c.At(e.Path); !p.Wants() || !p.Node.SameContent(e.Node) {
			odd = append(odd, e.Path)
		}
	}
	return groundAt(ctx, l, c, odd, optional)
}

// GroundAt is GroundOf for single paths.
func GroundAt(ctx context.Context, l *lane.Lane, c *Composed, paths []string) (*Ground, error) {
	return groundAt(ctx, l, c, paths, nil)
}

func groundAt(ctx context.Context, l *lane.Lane, c *Composed, paths []string, optional *state.Build) (*Ground, error) {
	g := &Ground{Ground: &layers.Ground{Rules: l.Game.Rules(), Known: layers.NewIndex(l.Game.Rules(), slices.Values(paths))}}
	if c != nil {
		g.Sheet = c.Sheet
	}
	if g.Ground.Known.Empty() {
		return g, nil
	}
	k, err := knownOf(ctx, l.Home, l.Store, l.Game, nil, nil)
	if err != nil {
		return nil, err
	}
	if g.Known, err = k.on(ctx, paths); err != nil {
		return nil, err
	}
	all := sync.OnceValues(func() ([]identify.Known, error) { return k.all(ctx) })
	mixed := slices.ContainsFunc(g.Known, func(k identify.Known) bool { return k.Build.Components != nil })
	g.Theirs = make(map[string]bool)
	for i, k := range g.Known {
		for _, p := range k.Parts {
			sure := k.Build.Components != nil
			m := p.Manifest
			if !sure && mixed && len(m.Files) > 0 {
				whole, err := all()
				if err != nil {
					return nil, err
				}
				m = gamesOwn(whole[i].Parts[0].Manifest, whole)
			}
			g.Ground.Known.Add(i, sure, m)
			if optional != nil && optional.Components != nil && optional.Same(k.Build) {
				for _, f := range p.Manifest.Files {
					g.Theirs[g.Rules.Fold(f.Path)] = true
				}
			}
		}
	}
	if optional != nil && len(optional.Feeds) > 0 {
		for _, c := range optional.Components {
			if _, err := optional.Feeds[0].Manifest(c.Manifest); err != nil {
				game.TellLeftOut(l.Home, optional, err)
				break
			}
		}
	}
	return g, nil
}

// gamesOwn lists what of a snapshot is the game's, where builds with components tell: what it has besides theirs is the
// player's. If they are not most of it, nobody can say.
func gamesOwn(m *manifest.Manifest, known []identify.Known) *manifest.Manifest {
	theirs := make(map[string]bool)
	for _, k := range known {
		if k.Build.Components == nil {
			continue
		}
		for _, p := range k.Parts {
			if slices.ContainsFunc(p.Manifest.Files, func(f manifest.File) bool { is, there := m.File(f.Path); return !there || is.Digest != f.Digest }) {
				continue
			}
			for _, f := range p.Manifest.Files {
				theirs[f.Path] = true
			}
		}
	}
	if 2*len(theirs) < len(m.Files) {
		return m
	}
	return m.Without(func(p string) bool { return !theirs[p] })
}

// At returns what is wanted at a path, and by which layer; nil: no layer is about it.
func (c *Composed) At(path string) *layers.Piece {
	if c == nil || c.Sheet == nil {
		return nil
	}
	return c.Sheet.At(path)
}

// Builds are those that an owner names.
func (g *Ground) Builds(o layers.Owner) []*state.Build {
	var list []*state.Build
	for _, i := range o.Builds {
		list = append(list, g.Known[i].Build)
	}
	return list
}
