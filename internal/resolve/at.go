package resolve

import (
	"context"
	"slices"
	"time"

	"morvant/internal/game"
	"morvant/internal/ref"
	"morvant/internal/state"
)

// near is how close a neighbour must be for a moment to be in doubt: clocks differ, and so does the
// time at which players get an update.
const near = 48 * time.Hour

// At returns the build that was current at a moment: the newest one of a line that is not younger.
// line may be empty, for the usual one.
func At(ctx context.Context, h *game.Home, name, line string, when time.Time) (Found, error) {
	builds, err := h.Builds(ctx, name)
	if err != nil {
		return Found{}, err
	}
	r := ref.Ref{Kind: ref.Day, Day: when, Name: "@" + when.Format(time.DateOnly)}
	if line == "" {
		if line, err = usualLine(h, name, nil, r); err != nil {
			return Found{}, err
		}
	}
	builds = slices.DeleteFunc(builds, func(b *state.Build) bool {
		return b.Fragment || b.IsUpdate() || b.Line() != line && !(line == state.SnapshotLine && b.RecordedHere())
	})
	if builds, _, err = ofOneFeed(h, name, line, builds, nil); err != nil {
		return Found{}, err
	}
	var found Found
	for _, b := range builds { // the newest first
		switch {
		case b.Made.After(when):
			found.Later = b
		case found.Build == nil:
			found.Build = b
		case found.Earlier == nil:
			found.Earlier = b
		}
	}
	switch {
	case found.Build != nil:
		return found, nil
	case found.Later != nil:
		return Found{}, &TooEarlyError{Ref: r, Oldest: found.Later}
	}
	return Found{}, &state.UnknownError{Kind: "build", Name: r.String()}
}

// Close returns the neighbour of the build that a moment is so close to that it may be meant; nil: none.
func (f Found) Close(when time.Time) *state.Build {
	switch {
	case f.Later != nil && f.Later.Made.Sub(when) < near:
		return f.Later
	case f.Earlier != nil && when.Sub(f.Made) < near:
		return f.Earlier
	}
	return nil
}
