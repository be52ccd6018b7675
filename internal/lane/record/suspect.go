package record

import (
	"context"
	"errors"

	"morvant/internal/damage"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// emptiedFrom is how many bytes a file of a game must have held for it to count as damage that it is empty: some are flags.
const emptiedFrom = 1 << 10

// suspects looks for what no update does: files that have become empty or zeros, as placeholders of a sync program and
// downloads that were cut off are, and most of the game gone at once. Files of the player's and scratch do not count.
func suspects(ctx context.Context, l *lane.Lane, t *scan.Tree, builds []*state.Build) (string, error) {
	d, m, err := sinceGood(ctx, l, builds)
	if err != nil || d == nil {
		return "", err
	}
	err = d.Compare(ctx, l.Root, m, t, Theirs(l))
	return d.String(), err
}

// Theirs are the files that do not count: the player's, and scratch.
func Theirs(l *lane.Lane) func(string) bool {
	match := l.Game.Rules().Matcher()
	return func(p string) bool { return match.Kept(p) || match.Scratch(p) }
}

// SinceGood begins a comparison with the last good state of the lane; nil: there is none, or it cannot be read, which others say.
func SinceGood(ctx context.Context, l *lane.Lane) (*damage.Found, *manifest.Manifest, error) {
	builds, err := l.Home.Recorded(ctx, l.Game.Name)
	if err != nil {
		return nil, nil, err
	}
	return sinceGood(ctx, l, builds)
}

func sinceGood(ctx context.Context, l *lane.Lane, builds []*state.Build) (*damage.Found, *manifest.Manifest, error) {
	good, err := lastGood(ctx, l, builds)
	if err != nil || good == nil {
		return nil, nil, err
	}
	m, err := good.ReadManifest(ctx, l.Store)
	if err != nil {
		return nil, nil, nil
	}
	return damage.Since(good.Label, emptiedFrom), m, nil
}

// lastGood is the build that the lane is held to, else the newest snapshot without a doubt.
func lastGood(ctx context.Context, l *lane.Lane, builds []*state.Build) (*state.Build, error) {
	if _, b, err := l.Pin(ctx); b != nil || err != nil && !errors.Is(err, state.ErrUnknown) {
		return b, err
	}
	var good *state.Build
	for _, b := range builds {
		if b.Channel == "" && !b.Fragment && b.Doubt == "" && (good == nil || b.Made.After(good.Made)) {
			good = b
		}
	}
	return good, nil
}
