package upkeep

import (
	"context"
	"errors"
	"time"

	"morvant/internal/game"
	"morvant/internal/state"
)

// TakeIn brings a state that is older than its store up to it: it lists again the builds that the store describes and the state
// does not know, and returns how many. What else the store has beyond the state is dropped by no trim for OlderKept.
func TakeIn(ctx context.Context, home *game.Home, now time.Time) (builds int, err error) {
	s, _, err := alone(ctx, home)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	if err := s.Adopt(ctx); err != nil {
		return 0, err
	}
	if builds, err = findBuilds(ctx, home, s); err != nil {
		return builds, err
	}
	if err := home.SetFact(ctx, state.FactOlder, now.UTC().Format(time.RFC3339Nano)); err != nil {
		return builds, err
	}
	if err := home.Outgrow(ctx, *home.Older); err != nil {
		return builds, err
	}
	home.Older = nil
	return builds, nil
}

// OlderKept is for how long nothing that was in the store before an older state came back is dropped for not being known.
const OlderKept = 30 * 24 * time.Hour

// errOlder keeps a trim from going by a state that is older than the store.
var errOlder = errors.New("the state of this home is older than its store, so Morvant does not know what is needed")

// unknownSince returns the time before which packs were written that an older state may not know; zero: it knows them all.
func unknownSince(ctx context.Context, home *game.Home, now time.Time) (time.Time, error) {
	if home.Older != nil {
		return time.Time{}, errOlder
	}
	text, err := home.Fact(ctx, state.FactOlder)
	if err != nil || text == "" {
		return time.Time{}, err
	}
	at, err := time.Parse(time.RFC3339Nano, text)
	if err != nil || now.Sub(at) > OlderKept {
		return time.Time{}, home.SetFact(ctx, state.FactOlder, "")
	}
	return at, nil
}
