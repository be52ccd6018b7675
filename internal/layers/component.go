package layers

import (
	"morvant/internal/manifest"
	"morvant/internal/plan"
)

// Component is a part of a build, or all of it.
type Component struct {
	Build    string // "snapshot/1.1.1"
	Part     string // empty: the build has none
	Manifest *manifest.Manifest
}

func (c *Component) Kind() Kind { return OfBuild }

func (c *Component) ID() string { return string(OfBuild) + " " + c.Name() }

func (c *Component) Name() string {
	if c.Part == "" {
		return c.Build
	}
	return c.Part + " of " + c.Build
}

// Lay does nothing: the files of a build lie beneath everything.
func (c *Component) Lay(*Sheet) error { return nil }

func (c *Component) Lift(_ *Piece, is plan.Node, _ *Piece, _ *Sheet) Lifted { return Lifted{To: is} }
