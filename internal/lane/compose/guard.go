package compose

import (
	"context"

	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/plan"
)

// GuardedFiles are files of the player's as they have to be.
type GuardedFiles struct {
	Manifest   *manifest.Manifest
	Attributes *manifest.Attributes
}

// Guarded reads the record of the lane's guarded files, as far as guard rules still are about them.
func Guarded(ctx context.Context, l *lane.Lane) (*GuardedFiles, error) {
	g := &GuardedFiles{Manifest: &manifest.Manifest{}, Attributes: manifest.NewAttributes()}
	if len(l.Base.Guard) == 0 {
		return g, nil
	}
	o, err := l.Home.Player.Guarded(ctx, l.Game.Name, l.Name)
	if err != nil || o == nil {
		return g, err
	}
	b := o.Build()
	m, err := b.ReadManifest(ctx, l.Store)
	if err != nil {
		return nil, err
	}
	set := l.Base.Rules().Set(l.Base.Guard)
	g.Manifest = m.Without(func(p string) bool { return !set.Match(p) })
	g.Attributes, err = b.ReadAttributes(ctx, l.Store)
	return g, err
}

// State is what the folder has to hold of them.
func (g *GuardedFiles) State() plan.State { return plan.FromManifest(g.Manifest, g.Attributes) }

// Guard makes guarded files part of what is composed, which may then change them.
func (c *Composed) Guard(g *GuardedFiles) {
	c.guarded = make(map[string]plan.Node)
	for _, e := range g.State() {
		if e.Kind == plan.File {
			c.guarded[e.Path] = e.Node
		}
	}
}
