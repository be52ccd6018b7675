package lane

import (
	"context"

	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// noteGone notes which of the player's files were there at the last look and are not any more, and
// which are back. Morvant's own changes are remembered without a look, and take nothing away here.
func (l *Lane) noteGone(ctx context.Context, t *scan.Tree) error {
	noted, err := l.Home.Player.Gone(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	var back []string
	for _, g := range noted {
		if t.Entry(g.Path) != nil {
			back = append(back, g.Path)
		}
	}
	lost := l.Cache.Lost(l.CacheKey(), t)
	match := l.Game.Rules().Matcher()
	var gone []state.Gone
	var built *manifest.Manifest
	for _, f := range lost {
		switch {
		case match.Scratch(f.Path):
			continue
		case match.Kept(f.Path):
		default:
			if built == nil {
				if built, err = l.built(ctx); err != nil {
					return err
				}
			}
			if _, is := built.File(f.Path); is || len(built.Files) == 0 {
				continue
			}
		}
		gone = append(gone, state.Gone{Path: f.Path, Bytes: f.Size, Noticed: l.Now()})
	}
	return l.Home.Player.SetGone(ctx, l.Game.Name, l.Name, gone, back)
}

// built is the manifest of the build that the lane is held to; an empty one if it is held to none.
func (l *Lane) built(ctx context.Context) (*manifest.Manifest, error) {
	_, b, err := l.Pin(ctx)
	if err != nil || b == nil {
		return &manifest.Manifest{}, err
	}
	return b.ReadManifest(ctx, l.Store)
}
