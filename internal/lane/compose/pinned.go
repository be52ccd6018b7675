package compose

import (
	"context"
	"errors"

	"morvant/internal/lane"
	"morvant/internal/plan"
	"morvant/internal/state"
)

// Pinned returns the pin in force and what it holds the lane to; nil: nothing. A build that has been forgotten holds
// nothing.
func Pinned(ctx context.Context, l *lane.Lane) (state.Pin, *Composed, error) {
	pin, b, err := l.Pin(ctx)
	if errors.Is(err, state.ErrUnknown) {
		return pin, nil, nil
	}
	if err != nil || b == nil {
		return pin, nil, err
	}
	c, err := OfPin(ctx, l, b, pin)
	return pin, c, err
}

// Owned is State without the links that lead out, which are the player's whatever the pin is, and without
// the files of the player's that the pin edits: they are the player's still.
func (c *Composed) Owned() plan.State {
	if c == nil {
		return nil
	}
	m, a := c.Manifest, *c.Attributes
	a.Links = nil
	if c.Sheet != nil {
		players := c.Sheet.Players()
		m = m.Without(func(p string) bool { return players[p] })
	}
	return plan.FromManifest(m, &a)
}

// HeldState returns what the lane is held to; nothing if that cannot be told now.
func HeldState(ctx context.Context, l *lane.Lane) (plan.State, error) {
	_, held, err := Pinned(ctx, l)
	if err != nil && ctx.Err() == nil {
		return nil, nil
	}
	return held.Owned(), err
}

// OfPin puts together the build that a pin holds the lane to, and what the pin
// adds to it.
func OfPin(ctx context.Context, l *lane.Lane, b *state.Build, pin state.Pin) (*Composed, error) {
	c, err := Of(ctx, l, b, pin.Components)
	if err != nil {
		return nil, err
	}
	return c, c.Lay(ctx, l, &pin, nil)
}
