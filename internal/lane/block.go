package lane

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"time"

	"morvant/internal/block"
	"morvant/internal/edit"
	"morvant/internal/game"
	"morvant/internal/scan"
)

// place is where the game's block rules apply. The files are the build's, without
// what is the player's own.
func (l *Lane) place(ctx context.Context) (block.Place, error) {
	at := l.outside()
	pin, b, err := l.Pin(ctx)
	if errors.Is(err, game.ErrUnknown) || err == nil && b == nil {
		return at, nil
	}
	if err != nil {
		return at, err
	}
	c, err := l.composedOf(ctx, b, pin)
	if err != nil {
		return at, err
	}
	match := l.Game.Rules().Matcher()
	for _, f := range c.manifest.Files {
		if !match.Kept(f.Path) && !match.Scratch(f.Path) {
			at.Files = append(at.Files, f.Path)
		}
	}
	return at, nil
}

// Block sets every block rule of the game that does not hold yet, and takes off what
// the settings do not ask for any more. What is found is noted before it is changed.
func (l *Lane) Block(ctx context.Context) error {
	return l.noted(ctx, true, func() error { return l.setBlock(ctx) })
}

// noted notes that a block is being set or taken off, for the next command to finish.
func (l *Lane) noted(ctx context.Context, set bool, do func() error) error {
	if err := l.home.Begin(ctx, l.Game.Name, l.Name, game.BegunBlock, game.NewUID(), set); err != nil {
		return err
	}
	err := do()
	return errors.Join(err, l.home.End(context.WithoutCancel(ctx), l.Game.Name, l.Name, game.BegunBlock))
}

func (l *Lane) setBlock(ctx context.Context) error {
	return l.keepingDigests(ctx, func() error {
		at, err := l.place(ctx)
		if err != nil {
			return err
		}
		holds, err := l.home.Holds(ctx, l.Game.Name, l.Name)
		if err != nil {
			return err
		}
		var stay []*block.Hold
		for _, h := range holds {
			// The files that read-only is about go with the build: it begins anew.
			if h.Rule.Kind != block.ReadOnly && slices.Contains(l.Game.Block, h.Rule) {
				stay = append(stay, h)
				continue
			}
			if err := h.Lift(at, false); err != nil {
				return err
			}
		}
		for _, r := range l.Game.Block {
			h := heldBy(stay, r)
			if h == nil {
				if h, err = block.Prepare(r, at); err != nil {
					return err
				}
				stay = append(stay, h)
			}
			if err := l.home.SetHolds(ctx, l.Game.Name, l.Name, stay); err != nil {
				return err
			}
			if err := h.Set(at); err != nil {
				return err
			}
		}
		return l.home.SetHolds(ctx, l.Game.Name, l.Name, stay)
	})
}

func heldBy(list []*block.Hold, r block.Rule) *block.Hold {
	for _, h := range list {
		if h.Rule == r {
			return h
		}
	}
	return nil
}

// Unblock puts back everything that a block found. What somebody has changed since
// stays, unless force says otherwise, and is reported as ErrTouched; the rest is put
// back all the same.
func (l *Lane) Unblock(ctx context.Context, force bool) error {
	if holds, err := l.home.Holds(ctx, l.Game.Name, l.Name); err != nil || len(holds) == 0 {
		return err
	}
	return l.noted(ctx, false, func() error { return l.liftBlock(ctx, force) })
}

func (l *Lane) liftBlock(ctx context.Context, force bool) error {
	return l.keepingDigests(ctx, func() error {
		at, err := l.place(ctx)
		if err != nil {
			return err
		}
		holds, err := l.home.Holds(ctx, l.Game.Name, l.Name)
		if err != nil {
			return err
		}
		var left []*block.Hold
		var errs []error
		for _, h := range holds {
			if err := h.Lift(at, force); err != nil {
				left = append(left, h)
				errs = append(errs, err)
			}
		}
		errs = append(errs, l.home.SetHolds(ctx, l.Game.Name, l.Name, left))
		return errors.Join(errs...)
	})
}

// Loosen lets go of files that a block has made immutable, so that the lane can be
// changed; Tighten takes hold of them again. Where there are none, both do nothing.
func (l *Lane) Loosen(ctx context.Context) error { return l.hold(ctx, true) }

// Tighten is the end of Loosen, also of one that a crash cut off.
func (l *Lane) Tighten(ctx context.Context) error { return l.hold(ctx, false) }

func (l *Lane) hold(ctx context.Context, loose bool) error {
	holds, err := l.home.Holds(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	var turn []*block.Hold
	for _, h := range holds {
		if h.Rule.Immutable && h.Loose != loose {
			turn = append(turn, h)
		}
	}
	if len(turn) == 0 {
		return nil
	}
	return l.keepingDigests(ctx, func() error {
		at, err := l.place(ctx)
		if err != nil {
			return err
		}
		for _, h := range turn {
			if !loose {
				if err := h.Set(at); err != nil {
					return err
				}
			}
			h.Loose = loose
		}
		// Noted before anything is let go, and after everything is held again.
		if err := l.home.SetHolds(ctx, l.Game.Name, l.Name, holds); err != nil || !loose {
			return err
		}
		for _, h := range turn {
			if err := h.Loosen(at); err != nil {
				return err
			}
		}
		return nil
	})
}

// BlockStates says how each rule stands that is in force, and lists those of the
// settings that are not.
func (l *Lane) BlockStates(ctx context.Context) ([]block.State, error) {
	holds, err := l.home.Holds(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	if len(holds)+len(l.Game.Block) == 0 {
		return nil, nil
	}
	at, err := l.place(ctx)
	if err != nil {
		return nil, err
	}
	var list []block.State
	for _, h := range holds {
		list = append(list, h.Check(at))
	}
	for _, r := range l.Game.Block {
		if heldBy(holds, r) == nil {
			list = append(list, block.State{Rule: r, Broke: block.NotSet})
		}
	}
	return list, nil
}

// follow brings the block to what a change has left: a lane that is held is blocked,
// one that was held and is not any more is not.
func (l *Lane) follow(ctx context.Context, c *game.Change) error {
	switch held := c.After.Held() && !c.After.Open; {
	case !l.Live: // set anew when the lane becomes live
		return l.Unblock(ctx, false)
	case held && len(l.Game.Block) > 0:
		return l.Block(ctx)
	case !held && c.Before.Held():
		return l.Unblock(ctx, false)
	}
	return nil
}

// lasting reports whether an error of a block is a matter of its rules, or of what
// somebody else has done: to try again would not help.
func lasting(err error) bool {
	return errors.Is(err, block.ErrTouched) || errors.Is(err, block.ErrRule) || errors.Is(err, edit.ErrMatches) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrExist)
}

// unblockedModes gives files that a block has made read-only the modes that they
// have without it: a block is no change of the lane.
func (l *Lane) unblockedModes(ctx context.Context, t *scan.Tree) error {
	holds, err := l.home.Holds(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	for _, h := range holds {
		for p, found := range h.Modes {
			if e := t.Entry(p); e != nil && e.Kind == scan.File && e.Mode == found.Perm&^0o222 {
				e.Mode = found.Perm
			}
		}
	}
	return nil
}

// keepingDigests runs what changes modes and nothing else, and carries over what is
// known of the files' content: their time of any change moves on.
func (l *Lane) keepingDigests(ctx context.Context, change func() error) error {
	before, err := l.walk(ctx)
	if err != nil {
		return err
	}
	if err := change(); err != nil {
		return err
	}
	time.Sleep(scan.ChangeClock())
	looked := l.now()
	after, err := l.walk(ctx)
	if err != nil {
		return err
	}
	for i := range after.Entries {
		e := &after.Entries[i]
		was := before.Entry(e.Path)
		if e.Kind == scan.File && !e.Known && was != nil && was.Known && was.Stamp.Size == e.Stamp.Size && was.Stamp.MTime == e.Stamp.MTime && was.Stamp.Ino == e.Stamp.Ino {
			e.Digest, e.Looked, e.Known = was.Digest, looked, true
		}
	}
	return l.cache.Remember(ctx, l.cacheKey(), after)
}
