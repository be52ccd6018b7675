package compose

import (
	"context"
	"errors"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/state"
)

// Same finds the build of a digest, or one whose files are the same by whatever components it comes to
// them; nil if none of the builds is. content is the digest of the manifest of all of its files, or zero.
// Of a build that was found by its files, components are those that it has them with.
func Same(ctx context.Context, l *lane.Lane, builds []*state.Build, is, content digest.Digest, label string) (b *state.Build, components []string, err error) {
	for _, b := range builds {
		if b.Digest() == is {
			return b, nil, nil
		}
	}
	if content.IsZero() {
		return nil, nil, nil
	}
	for _, b := range builds {
		if b.Manifest == content && !b.Fragment {
			return b, b.Chosen, nil
		}
	}
	// What a feed offers is put together only where its name says that it may be the one.
	for _, b := range builds {
		if b.Label != label || b.Components == nil {
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
			if c.Base.Digest() == content {
				return b, names, nil
			}
		}
	}
	return nil, nil, nil
}
