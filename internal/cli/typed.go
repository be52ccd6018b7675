package cli

import (
	"errors"

	"morvant/internal/catalogue"
	"morvant/internal/exchange"
	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/pinfile"
	"morvant/internal/publish"
	"morvant/internal/ref"
	"morvant/internal/rules"
	"morvant/internal/state"
)

// mistyped reports whether an error is about what was typed: a name, a date, a pattern. What stands
// in files that others wrote is none of that.
func mistyped(err error) bool {
	for _, theirs := range []error{game.ErrSettings, feed.ErrHostile, feed.ErrCopy, exchange.ErrHostile, exchange.ErrFormat, catalogue.ErrFormat, pinfile.ErrFormat, publish.ErrLeftOver} {
		if errors.Is(err, theirs) {
			return false
		}
	}
	for _, typed := range []error{ref.ErrForm, state.ErrName, rules.ErrPattern} {
		if errors.Is(err, typed) {
			return true
		}
	}
	return false
}
