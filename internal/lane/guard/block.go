package guard

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"morvant/internal/block"
	"morvant/internal/edit"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/oplog"
	"morvant/internal/problem"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/userpath"
)

// site is where the game's block rules apply. The files are the build's, without
// what is the player's own.
func site(ctx context.Context, l *lane.Lane) (block.Site, error) {
	at := Outside(l)
	pin, b, err := l.Pin(ctx)
	if errors.Is(err, state.ErrUnknown) || err == nil && b == nil {
		return at, nil
	}
	if err != nil {
		return at, err
	}
	c, err := compose.OfPin(ctx, l, b, pin)
	if err != nil {
		return at, err
	}
	match := l.Game.Rules().Matcher()
	for _, f := range c.Manifest.Files {
		if !match.Kept(f.Path) && !match.Scratch(f.Path) {
			at.Files = append(at.Files, f.Path)
		}
	}
	return at, nil
}

// Cannot says why a rule that is not set could not be set now; nil: it could.
func Cannot(ctx context.Context, l *lane.Lane, r block.Rule) error {
	at, err := site(ctx, l)
	if err == nil {
		_, err = block.Prepare(r, at)
	}
	return err
}

// Block sets every block rule of the game that does not hold yet, and takes off what
// the settings do not ask for any more. What is found is noted before it is changed.
func Block(ctx context.Context, l *lane.Lane) error {
	return noted(ctx, l, true, func() error { return setBlock(ctx, l) })
}

// noted notes that a block is being set or taken off, for the next command to finish. What fails is told, and not tried again.
func noted(ctx context.Context, l *lane.Lane, set bool, do func() error) error {
	var failed error
	op := operation(l, set, func(context.Context) error { failed = do(); return nil })
	return errors.Join(op.Run(ctx, l.Home.State), failed)
}

func operation(l *lane.Lane, set bool, do func(context.Context) error) *oplog.Operation {
	what := "Setting the block"
	if !set {
		what = "Taking the block off"
	}
	return &oplog.Operation{
		Game: l.Game.Name, Lane: l.Name, Kind: state.BegunBlock, Body: set, What: what + " of " + l.Title(), Steps: []oplog.Step{{Do: do}},
	}
}

// Unfinished returns the setting or taking off of a block that an earlier run has begun.
func Unfinished(l *lane.Lane, b state.Begun) (*oplog.Operation, error) {
	var set bool
	if err := json.Unmarshal(b.Body, &set); err != nil {
		return nil, err
	}
	op := operation(l, set, nil)
	op.Steps[0].Do = func(ctx context.Context) error {
		do := unblock
		if set {
			do = Block
		}
		if err := do(ctx, l); err != nil && ctx.Err() == nil {
			l.Meter.Warn(fmt.Sprintf("the block is incomplete: %v; see %s", err, problem.ShowBlock))
			op.Told = true
		}
		return ctx.Err()
	}
	return op, nil
}

func setBlock(ctx context.Context, l *lane.Lane) error {
	return rememberingDigests(ctx, l, func() error {
		at, err := site(ctx, l)
		if err != nil {
			return err
		}
		holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name)
		if err != nil {
			return err
		}
		var stay []*block.Applied
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
		var errs []error // a rule that cannot be set keeps no other from being set
		for _, r := range l.Game.Block {
			h := appliedFor(stay, r)
			if h == nil {
				if h, err = prepare(ctx, l, r, at); err != nil {
					errs = append(errs, err)
					continue
				}
				stay = append(stay, h)
			}
			if err := setApplied(ctx, l, stay); err != nil {
				return err
			}
			errs = append(errs, h.Set(at))
		}
		return errors.Join(append(errs, setApplied(ctx, l, stay))...)
	})
}

// TakeOff takes one rule off that the settings do not ask for any more, and puts back what it found.
func TakeOff(ctx context.Context, l *lane.Lane, r block.Rule) error {
	return rememberingDigests(ctx, l, func() error {
		holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name)
		if err != nil {
			return err
		}
		h := appliedFor(holds, r)
		if h == nil {
			return nil
		}
		if err := h.Lift(Outside(l), false); err != nil {
			return err
		}
		return setApplied(ctx, l, slices.DeleteFunc(holds, func(o *block.Applied) bool { return o == h }))
	})
}

func appliedFor(list []*block.Applied, r block.Rule) *block.Applied {
	for _, h := range list {
		if h.Rule == r {
			return h
		}
	}
	return nil
}

// Unblock puts back everything that a block found. What somebody has changed since stays, and
// is reported as ErrTouched; the rest is put back all the same. With force that is put back as
// well, and it always comes to an end: what cannot be put back is let go of. left says what is
// not as it was found without being an error: why, and what was found.
func Unblock(ctx context.Context, l *lane.Lane, force bool) (left []string, err error) {
	if holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name); err != nil {
		return nil, err
	} else if len(holds) == 0 {
		if !l.Live { // what the launcher says is the live lane's business
			return nil, nil
		}
		return nil, liftAgain(ctx, l)
	}
	err = noted(ctx, l, false, func() error {
		var err error
		left, err = lift(ctx, l, force)
		return err
	})
	return left, err
}

func lift(ctx context.Context, l *lane.Lane, force bool) (told []string, err error) {
	err = rememberingDigests(ctx, l, func() error {
		at := Outside(l) // what lifting needs to know of files is in the notes
		holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name)
		if err != nil {
			return err
		}
		var left, lifted []*block.Applied
		var errs []error
		for _, h := range slices.Backward(holds) { // each finds what the one before it has left
			if l.Root == nil && h.Rule.Kind == block.ReadOnly && !force {
				left = append(left, h)
				told = append(told, fmt.Sprintf("%s is gone; the files in it that were made read-only stay noted, for when it is back", l.Dir))
				continue
			}
			switch err := h.Lift(at, force); {
			case err == nil:
				told = append(told, h.Left()...)
				lifted = append(lifted, h)
			case force:
				told = append(told, fmt.Sprintf("%v; %s", err, h.ByHand()))
			default:
				left = append(left, h)
				errs = append(errs, err)
			}
		}
		slices.Reverse(left)
		errs = append(errs, remember(ctx, l, lifted), setApplied(ctx, l, left))
		return errors.Join(errs...)
	})
	return told, err
}

// unblock is Unblock where nobody is asked.
func unblock(ctx context.Context, l *lane.Lane) error {
	if holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name); err != nil || len(holds) == 0 {
		return err
	}
	left, err := Unblock(ctx, l, false)
	for _, text := range left {
		l.Meter.Warn(text)
	}
	return err
}

// Loosen lets go of files that a block has made immutable, so that the lane can be
// changed; Tighten takes hold of them again. Where there are none, both do nothing.
func Loosen(ctx context.Context, l *lane.Lane) error { return turn(ctx, l, true) }

// Tighten is the end of Loosen, also of one that a crash cut off.
func Tighten(ctx context.Context, l *lane.Lane) error { return turn(ctx, l, false) }

func turn(ctx context.Context, l *lane.Lane, loose bool) error {
	holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	var turn []*block.Applied
	for _, h := range holds {
		if h.Rule.Immutable && h.Loose != loose {
			turn = append(turn, h)
		}
	}
	if len(turn) == 0 {
		return nil
	}
	return rememberingDigests(ctx, l, func() error {
		at, err := site(ctx, l)
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
		if err := setApplied(ctx, l, holds); err != nil || !loose {
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

// States says how each rule stands that is in force, and lists those of the
// settings that are not.
func States(ctx context.Context, l *lane.Lane) ([]block.State, error) {
	holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	if len(holds)+len(l.Game.Block) == 0 {
		return nil, nil
	}
	at, err := site(ctx, l)
	if err != nil {
		return nil, err
	}
	var list []block.State
	for _, h := range holds {
		list = append(list, h.Check(at))
	}
	for _, r := range l.Game.Block {
		if appliedFor(holds, r) == nil {
			st := block.State{Rule: r, Broke: block.NotSet}
			if r.Kind == block.Occupy && block.Standing(userpath.Expand(r.Path, at.Home, at.Dir)) != nil {
				st.Broke = block.Stands
			}
			list = append(list, st)
		}
	}
	return list, nil
}

// Follow brings the block to what a change has left: a lane that is held is blocked,
// one that was held and is not any more is not.
func Follow(ctx context.Context, l *lane.Lane, c *state.Change) error {
	held := c.After.Held() && !c.After.Open
	if held != (c.Before.Held() && !c.Before.Open) && l.Live {
		if err := LauncherClosed(l); err != nil {
			l.Meter.Warn(fmt.Sprintf("%v; close it, then see %s", err, problem.ShowBlock))
		}
	}
	switch {
	case !l.Live: // set anew when the lane becomes live
		return unblock(ctx, l)
	case held && len(l.Game.Block) > 0:
		return Block(ctx, l)
	case !held && c.Before.Held():
		return unblock(ctx, l)
	}
	return nil
}

// Lasting reports whether an error of a block is a matter of its rules, or of what
// somebody else has done: to try again would not help.
func Lasting(err error) bool {
	return errors.Is(err, block.ErrTouched) || errors.Is(err, block.ErrRule) || errors.Is(err, edit.ErrMatches) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrExist)
}

// rememberingDigests runs what changes modes and nothing else, and carries over what is
// known of the files' content: their time of any change moves on.
func rememberingDigests(ctx context.Context, l *lane.Lane, change func() error) error {
	if l.Root == nil { // the folder is gone, and what was known of it does not matter
		return change()
	}
	before, err := l.Walk(ctx)
	if err != nil {
		return err
	}
	if err := change(); err != nil {
		return err
	}
	time.Sleep(scan.ChangeClock())
	looked := l.Now()
	after, err := l.Walk(ctx)
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
	return l.Cache.Remember(ctx, l.CacheKey(), after)
}

// Suspend takes off what blocks the launcher outside of the lane's own files,
// for the next lane may want it otherwise. Files that are read-only stay so.
func Suspend(ctx context.Context, l *lane.Lane) error {
	holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	at := Outside(l)
	var stay, lifted []*block.Applied
	for _, h := range holds {
		if h.Rule.Kind == block.ReadOnly {
			stay = append(stay, h)
			continue
		}
		err := h.Lift(at, false)
		if errors.Is(err, block.ErrTouched) {
			l.Meter.Warn(err.Error() + "; it stays as it is")
		} else if err != nil {
			return err
		}
		lifted = append(lifted, h)
	}
	return errors.Join(remember(ctx, l, lifted), setApplied(ctx, l, stay))
}

// Resume sets again what Suspend took off, if the lane is held and blocked.
func Resume(ctx context.Context, l *lane.Lane) error {
	pin, err := l.Home.Pin(ctx, l.Game.Name, l.Name)
	if err != nil || !pin.Held() || pin.Open || len(l.Game.Block) == 0 {
		return err
	}
	holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	at := Outside(l)
	for _, r := range l.Game.Block {
		h := appliedFor(holds, r)
		switch {
		case h != nil && r.Kind == block.ReadOnly:
			continue // it has stayed
		case r.Kind == block.ReadOnly:
			return Block(ctx, l) // new since the lane was parked
		case h == nil:
			if h, err = prepare(ctx, l, r, at); err != nil {
				return err
			}
			holds = append(holds, h)
		}
		if err := setApplied(ctx, l, holds); err != nil {
			return err
		}
		if err := h.Set(at); err != nil {
			return err
		}
	}
	return nil
}

// Outside is where block rules apply that are not about the build's files.
func Outside(l *lane.Lane) block.Site {
	at := block.Site{Dir: l.Dir}
	at.Home, _ = os.UserHomeDir() // without one, a path with ~ is simply not found
	return at
}
