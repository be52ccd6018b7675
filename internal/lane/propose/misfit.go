package propose

import (
	"context"
	"fmt"

	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/state"
)

// Misfit is an overlay that does not fit over a build as it did over the one before.
type Misfit struct {
	Overlay state.Overlay
	Build   *state.Build
	Paths   []string // files that it replaced, and that the build does not have
}

func (m *Misfit) String() string {
	list := m.Paths[0]
	if n := len(m.Paths) - 1; n > 0 {
		list += fmt.Sprintf(" and %d more", n)
	}
	return fmt.Sprintf("The overlay %s of %s is not laid over %s: it replaces %s, which %s does not have.", m.Overlay.Pattern, m.Overlay.Name, m.Build.Label, list, m.Build.Label)
}

// Misfits finds the overlays of a pin that would bring files which another build has no more: what the
// player wanted replaced lies elsewhere now, or is gone.
func Misfits(ctx context.Context, l *lane.Lane, pin state.Pin, before, after *state.Build) ([]*Misfit, error) {
	if before == nil || len(pin.Overlays) == 0 {
		return nil, nil
	}
	was, err := compose.Of(ctx, l, before, pin.Components)
	if err != nil {
		return nil, err
	}
	choice, err := compose.Choose(ctx, l, after, nil)
	if err != nil {
		return nil, err
	}
	is, err := compose.Of(ctx, l, after, choice.Names)
	if err != nil {
		return nil, err
	}
	var list []*Misfit
	for _, o := range pin.Overlays {
		laid, err := compose.Of(ctx, l, before, pin.Components)
		if err != nil {
			return nil, err
		}
		if err := laid.Lay(ctx, l, &state.Pin{Overlays: []state.Overlay{o}}, nil); err != nil {
			return nil, err
		}
		m := &Misfit{Overlay: o, Build: after}
		for _, f := range laid.Manifest.Files {
			old, replaced := was.Base.File(f.Path)
			if _, there := is.Base.File(f.Path); replaced && old.Digest != f.Digest && !there {
				m.Paths = append(m.Paths, f.Path)
			}
		}
		if len(m.Paths) > 0 {
			list = append(list, m)
		}
	}
	return list, nil
}
