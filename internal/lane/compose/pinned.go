package compose

import (
	"context"
	"errors"
	"slices"

	"morvant/internal/lane"
	"morvant/internal/plan"
	"morvant/internal/state"
)

// Pinned returns the pin in force and the state of its build. A build that has
// been forgotten owns nothing.
func Pinned(ctx context.Context, l *lane.Lane) (state.Pin, plan.State, error) {
	pin, b, err := l.Pin(ctx)
	if errors.Is(err, state.ErrUnknown) {
		return pin, nil, nil
	}
	if err != nil || b == nil {
		return pin, nil, err
	}
	c, err := OfPin(ctx, l, b, pin)
	if err != nil {
		return pin, nil, err
	}
	return pin, c.Owned(), nil
}

// Owned is State without the links that lead out, which are the player's whatever the pin is, and without
// the files that were the player's before the pin edited them: they are the player's still.
func (c *Composed) Owned() plan.State {
	a := *c.Attributes
	a.Links = nil
	return plan.FromManifest(c.Manifest.Without(func(p string) bool { return slices.Contains(c.edited, p) }), &a)
}

// OutPaths lists the paths of files that are left out.
func (c *Composed) OutPaths() []string {
	if c == nil {
		return nil
	}
	var list []string
	for _, f := range c.LeftOut {
		if _, laid := c.Manifest.File(f.Path); !laid { // by an overlay or a companion
			list = append(list, f.Path)
		}
	}
	return list
}

// HeldState returns what the lane is held to; nothing if that cannot be told now.
func HeldState(ctx context.Context, l *lane.Lane) (plan.State, error) {
	_, held, err := Pinned(ctx, l)
	if err != nil && ctx.Err() == nil {
		return nil, nil
	}
	return held, err
}

// OfPin puts together the build that a pin holds the lane to, and what the pin
// adds to it.
func OfPin(ctx context.Context, l *lane.Lane, b *state.Build, pin state.Pin) (*Composed, error) {
	c, err := Of(ctx, l, b, pin.Components)
	if err != nil {
		return nil, err
	}
	return c, Add(ctx, l, c, pin, false)
}
