package status

import (
	"context"
	"slices"

	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/state"
)

// GoneFrom is a record that holds files of the player's which are gone.
type GoneFrom struct {
	Own   *state.Own   // a record of the player's own files; nil: it is a snapshot
	Build *state.Build // the snapshot
	Files int          // of those that are gone
}

// missed fills in which of the player's files are gone. Files of a feed's build are none of them.
func (s *Status) missed(ctx context.Context, l *lane.Lane) error {
	gone, err := l.Home.Player.Gone(ctx, l.Game.Name, l.Name)
	if err != nil || len(gone) == 0 {
		return err
	}
	match := l.Game.Rules().Matcher()
	var known []identify.Known
	if slices.ContainsFunc(gone, func(g state.Gone) bool { return !match.Kept(g.Path) }) {
		if known, err = compose.Known(ctx, l.Home, l.Store, l.Game); err != nil {
			return err
		}
	}
	var back []string
	s.Gone = slices.DeleteFunc(gone, func(g state.Gone) bool {
		for _, k := range known {
			for _, p := range k.Parts {
				if _, is := p.Manifest.File(g.Path); is && len(k.Build.Feeds) > 0 && !match.Kept(g.Path) {
					back = append(back, g.Path)
					return true
				}
			}
		}
		return false
	})
	if err := l.Home.Player.SetGone(ctx, l.Game.Name, l.Name, nil, back); err != nil || len(s.Gone) == 0 {
		return err
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
