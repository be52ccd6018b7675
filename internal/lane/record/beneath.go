package record

import (
	"context"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/layers"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// beneath takes the sets of mods that are laid out of what is recorded: what lies beneath them takes their place, and the sets are
// named. Files of a set that have been changed by hand are recorded as they are. It changes nothing where something that lies beneath
// is in no store.
func beneath(ctx context.Context, l *lane.Lane, t *scan.Tree) (sets []string, err error) {
	pin, held, err := compose.Pinned(ctx, l)
	if err != nil || held == nil {
		return nil, err
	}
	for _, o := range pin.Overlays {
		if o.Mod {
			sets = append(sets, strings.TrimPrefix(o.Name, state.ModsLine+"/"))
		}
	}
	if len(sets) == 0 {
		return nil, nil
	}
	put := make(map[string]plan.Node) // what takes the place of a file of a set
	var wanted []digest.Digest
	for _, p := range held.Sheet.Pieces() {
		e := t.Entry(p.Path)
		if p.Layer.Kind() != layers.OfMods || e == nil || e.Digest != p.Node.Digest {
			continue
		}
		at := p.Under
		for at != nil && at.Layer.Kind() == layers.OfMods {
			at = at.Under
		}
		put[e.Path] = plan.Node{}
		if at.Wants() {
			put[e.Path] = at.Node
			wanted = append(wanted, at.Node.Digest)
		}
	}
	lacks, err := l.Store.Lacks(ctx, wanted)
	if err != nil || len(lacks) > 0 {
		if len(lacks) > 0 {
			l.Meter.Warn("what lies beneath the laid mods is not in the store, so the snapshot has the mods in it")
		}
		return nil, err
	}
	kept := t.Entries[:0]
	for i := range t.Entries {
		e := t.Entries[i]
		n, of := put[e.Path]
		switch {
		case of && n.Kind == "":
			continue
		case of:
			e.Digest, e.Stamp.Size, e.Other, e.Names = n.Digest, n.Size, manifest.Other{}, 1
			if a, known := held.Own.Files[e.Path]; known && !a.MTime.IsZero() {
				e.Mode, e.Stamp.MTime = a.Mode, a.MTime.UnixNano()
			}
		}
		kept = append(kept, e)
	}
	t.Entries = kept
	return sets, nil
}
