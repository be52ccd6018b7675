package status

import (
	"context"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/layers"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/state"
)

// GoneFrom is a record that holds files of the player's which are gone.
type GoneFrom struct {
	Own   *state.Own   // a record of the player's own files; nil: it is a snapshot
	Build *state.Build // the snapshot
	Files int          // of those that are gone
}

// missed fills in which of the player's files are gone. Those of any known build, of an update or of something that the pin has
// beside its build are none of them.
func (s *Status) missed(ctx context.Context, l *lane.Lane) error {
	gone, err := l.Home.Player.Gone(ctx, l.Game.Name, l.Name)
	if err != nil || len(gone) == 0 {
		return err
	}
	_, held, err := compose.Pinned(ctx, l)
	if err != nil {
		return err
	}
	var there plan.State
	for _, g := range gone {
		there = append(there, plan.Entry{Path: g.Path, Node: plan.Node{Kind: plan.File, Size: g.Bytes, Digest: digest.Of([]byte(g.Path))}})
	}
	ground, err := compose.GroundOf(ctx, l, held, there, nil)
	if err != nil {
		return err
	}
	match := l.Game.Rules().Matcher()
	var back []string
	s.Gone = slices.DeleteFunc(gone, func(g state.Gone) bool {
		wanted := held != nil && held.Sheet.At(g.Path).Wants()
		if wanted && (held.Sheet.At(g.Path).Layer.Kind() != layers.OfBuild || !match.Kept(g.Path)) || !match.Kept(g.Path) && ground.Ground.Known.Any(g.Path) {
			back = append(back, g.Path)
			return true
		}
		return false
	})
	if !l.Passive {
		if err := l.Home.Player.SetGone(ctx, l.Game.Name, l.Name, nil, back); err != nil {
			return err
		}
	}
	if len(s.Gone) == 0 {
		return nil
	}
	return s.findGone(ctx, l)
}

// findGone looks for the record that holds the most of what is gone, the newest first.
func (s *Status) findGone(ctx context.Context, l *lane.Lane) error {
	var best *GoneFrom
	consider := func(m *manifest.Manifest, from GoneFrom) {
		for _, g := range s.Gone {
			if _, is := m.File(g.Path); is {
				from.Files++
			}
		}
		if from.Files > 0 && (best == nil || from.Files > best.Files) {
			best = &from
		}
	}
	list, err := l.Home.Player.Owned(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	for _, o := range list {
		if m, err := o.Build().ReadManifest(ctx, l.Store); err == nil {
			consider(m, GoneFrom{Own: o})
		}
	}
	builds, err := l.Home.Recorded(ctx, l.Game.Name)
	if err != nil {
		return err
	}
	for _, b := range builds {
		if b.Channel != "" {
			continue
		}
		if m, err := b.ReadManifest(ctx, l.Store); err == nil {
			consider(m, GoneFrom{Build: b})
		}
	}
	s.Back = best
	return nil
}
