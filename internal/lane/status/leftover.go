package status

import (
	"morvant/internal/identify"
	"morvant/internal/lane/compose"
	"morvant/internal/layers"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/state"
)

// LeftOver is what is in a folder of another build than the one it is held at.
type LeftOver struct {
	Build *state.Build // the newest that has these files just so
	Files []plan.Entry // the biggest first
	// Sure says that a feed, or a component, has them: so they are the game's. A snapshot may have files
	// of the player's.
	Sure bool
}

// Bytes adds up the files.
func (o *LeftOver) Bytes() int64 {
	var n int64
	for _, e := range o.Files {
		n += e.Size
	}
	return n
}

// LeftOvers groups files that are just as in another known build by the newest that has them.
func LeftOvers(g *compose.Ground, files []plan.Entry) []*LeftOver {
	of := make(map[*state.Build]*LeftOver)
	var list []*LeftOver
	for _, e := range files {
		owner := g.Of(e.Path, e.Node)
		if owner.Whose != layers.LeftOver {
			continue
		}
		b := g.Builds(owner)[0]
		o := of[b]
		if o == nil || o.Sure != owner.Sure {
			o = &LeftOver{Build: b, Sure: owner.Sure}
			of[b] = o
			list = append(list, o)
		}
		o.Files = append(o.Files, e)
	}
	return list
}

// each visits the files of known builds, the newest build first.
func each(known []identify.Known, visit func(*state.Build, manifest.File)) {
	for _, k := range known {
		for _, p := range k.Parts {
			for _, f := range p.Manifest.Files {
				visit(k.Build, f)
			}
		}
	}
}
