package compose

import (
	"context"
	"errors"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/state"
)

// Sought says which build is meant: by its digest, by the digest of the manifest of all of its files, or of those but the
// player's own, which are zero where they are not known.
type Sought struct {
	Is, Content, Games digest.Digest
	Keep               []string // by which rules the player's own are left out of Games
	Label              string
}

// Same finds the build that is meant, or one whose files are the same by whatever components it comes to
// them; nil if none of the builds is. Of a build that was found by its files, components are those that it has them with.
func Same(ctx context.Context, l *lane.Lane, builds []*state.Build, q Sought) (b *state.Build, components []string, err error) {
	for _, b := range builds {
		if b.Digest() == q.Is {
			return b, nil, nil
		}
	}
	if q.Content.IsZero() {
		return nil, nil, nil
	}
	for _, b := range builds {
		if b.Manifest == q.Content && !b.Fragment {
			return b, b.Chosen, nil
		}
	}
	own := l.Game.Rules().Set(q.Keep)
	fits := func(m *manifest.Manifest) bool {
		return m.Digest() == q.Content || !q.Games.IsZero() && m.Without(own.Match).Digest() == q.Games
	}
	// What a feed offers, and what has files of the player's, is put together only where its name says that it may be the one.
	for _, b := range builds {
		if b.Label != q.Label || b.Fragment {
			continue
		}
		choice, err := Choose(ctx, l, b, nil)
		if err != nil {
			return nil, nil, err
		}
		for _, names := range [][]string{b.ComponentNames(), choice.Names} {
			c, err := Of(ctx, l, b, names)
			if errors.Is(err, ErrNotOffered) {
				continue
			}
			if err != nil {
				return nil, nil, err
			}
			if fits(c.Base) {
				return b, names, nil
			}
		}
	}
	return nil, nil, nil
}
