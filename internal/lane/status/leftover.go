package status

import (
	"context"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/state"
)

// LeftOver is what is in a folder of another build than the one it is held at.
type LeftOver struct {
	Build *state.Build // the newest that has these files just so
	Files []plan.Entry // the biggest first
	// Sure says that a feed, or a component, has them: so they are the game's. Otherwise only
	// snapshots do, at least two.
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

// enough is how many recorded states must have a file for it to be left over, where no feed has it.
const enough = 2

// LeftOvers finds out which of the extra files of a folder are just as in another known build. Files
// of any component of the held build are not among them: the player may have added it.
func LeftOvers(ctx context.Context, l *lane.Lane, held *state.Build, extra []plan.Entry) ([]*LeftOver, error) {
	if !slices.ContainsFunc(extra, func(e plan.Entry) bool { return e.Kind == plan.File && !e.Digest.IsZero() }) {
		return nil, nil
	}
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return nil, err
	}
	type file struct {
		path string
		is   digest.Digest
	}
	fold := l.Game.Rules().Fold
	wanted := make(map[file]bool, len(extra))
	for _, e := range extra {
		wanted[file{fold(e.Path), e.Digest}] = true
	}
	has := make(map[file][]*state.Build)
	theirs := make(map[string]bool)
	each(known, func(b *state.Build, f manifest.File) {
		key := file{fold(f.Path), f.Digest}
		if held.Components != nil && held.Same(b) {
			theirs[key.path] = true
		}
		if wanted[key] {
			has[key] = append(has[key], b)
		}
	})
	of := make(map[*state.Build]*LeftOver)
	var list []*LeftOver
	for _, e := range extra {
		key := file{fold(e.Path), e.Digest}
		builds := has[key]
		if e.Kind != plan.File || len(builds) == 0 || theirs[key.path] {
			continue
		}
		sure := slices.ContainsFunc(builds, func(b *state.Build) bool { return b.Components != nil })
		states := make(map[digest.Digest]bool)
		for _, b := range builds {
			states[b.Manifest] = true
		}
		if !sure && len(states) < enough {
			continue
		}
		o := of[builds[0]]
		if o == nil || o.Sure != sure {
			o = &LeftOver{Build: builds[0], Sure: sure}
			of[builds[0]] = o
			list = append(list, o)
		}
		o.Files = append(o.Files, e)
	}
	return list, nil
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
