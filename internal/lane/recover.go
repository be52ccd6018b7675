package lane

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"morvant/internal/apply"
	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/plan"
	"morvant/internal/rules"
)

// recoverAll ends what earlier runs have left unfinished: in this lane, of the saves, in
// the game's other lanes. What cannot be ended now is noted as Unfinished; it keeps
// nobody from looking.
func (l *Lane) recoverAll(ctx context.Context) error {
	for _, step := range []func(context.Context) error{
		l.recover, l.recoverShares, l.recoverSaves, l.recoverBlock, l.Tighten,
	} {
		err := step(ctx)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && l.Unfinished == nil:
			l.Unfinished = fmt.Errorf("%w: %w", ErrUnfinished, err)
		}
	}
	l.recoverOthers(ctx)
	return nil
}

// begunHere returns the note of something that has begun in this lane; nil if nothing
// of that kind has.
func (l *Lane) begunHere(ctx context.Context, kind string) (*game.Begun, error) {
	list, err := l.home.Begun(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].Lane == l.Name && list[i].Kind == kind {
			return &list[i], nil
		}
	}
	return nil, nil
}

// recover ends a change of the lane's files that an earlier run did not, and what
// follows it.
func (l *Lane) recover(ctx context.Context) error {
	begun, err := l.begunHere(ctx, game.BegunChange)
	if err != nil {
		return err
	}
	pending, err := apply.Pending(l.root)
	if err != nil {
		return fmt.Errorf("an unfinished change in %s: %w", l.Dir, err)
	}
	if begun == nil && !pending {
		apply.Sweep(l.root)
		return nil
	}
	if pending {
		if err := l.notRunning(); err != nil {
			return err
		}
	}
	r := apply.Recovery{Root: l.root, Store: l.Store, Now: l.now, Ours: func(steps []plan.Step, memo json.RawMessage) bool { return l.ours(ctx, steps, memo) }}
	var c game.Change
	if begun != nil {
		if err := json.Unmarshal(begun.Body, &c); err != nil {
			return fmt.Errorf("an unfinished change in %s: %w", l.Dir, errors.Join(apply.ErrJournal, err))
		}
		r.ID, r.Memo = begun.UID, begun.Body
		if r.Steps, err = l.steps(ctx, &c); err != nil && pending {
			l.meter.Warn(err.Error()) // the journal has them as well
		}
	}
	end, err := apply.Recover(ctx, r)
	if err != nil {
		return fmt.Errorf("a change in %s was interrupted and cannot be ended yet: %w", l.Dir, err)
	}
	if end.Memo != nil {
		c = game.Change{}
		if err := json.Unmarshal(end.Memo, &c); err != nil {
			return fmt.Errorf("an unfinished change in %s: %w", l.Dir, errors.Join(apply.ErrJournal, err))
		}
	}
	return l.ended(ctx, end, &c, begun != nil)
}

// ours decides about a change that an old version of Morvant has begun and not noted:
// the store has its list of steps, which nobody else can have put there.
func (l *Lane) ours(ctx context.Context, steps []plan.Step, memo json.RawMessage) bool {
	var c game.Change
	if json.Unmarshal(memo, &c) != nil || c.Game != l.Game.Name || c.Lane != l.Name || len(steps) == 0 {
		return false
	}
	d := digest.Of(plan.EncodeSteps(steps))
	there, err := l.Store.Has(ctx, d)
	return err == nil && there && c.Steps == d
}

// ended records how a change ended, does what follows it, and says so.
func (l *Lane) ended(ctx context.Context, end *apply.Ended, c *game.Change, noted bool) error {
	ctx = context.WithoutCancel(ctx)
	sentences := l.sentences(ctx, end.Report)
	what := Describe(c) + " of " + l.Title()
	say := func(text string) {
		l.tell("%s", strings.Join(append([]string{text}, sentences...), ". ")+".")
	}
	switch end.Outcome {
	case apply.Finished:
		c.Notes = strings.Join(sentences, "; ")
		if err := l.recordChange(ctx, c); err != nil {
			return err
		}
		if err := l.mark(ctx, false); err != nil {
			return err
		}
		if err := apply.Finish(l.root); err != nil {
			return err
		}
		if err := l.afterwards(ctx, c, true); err != nil {
			return err
		}
		say(what + " had been interrupted; it is finished now")
		return nil
	case apply.Back:
		say(what + " had been interrupted; it is taken back, the folder is as before")
	case apply.Unknown:
		say("A change of " + l.Title() + " had been interrupted, and its record is lost; what it had moved is kept, and morvant verify --repair puts the build's files back")
	case apply.Foreign:
		say(fmt.Sprintf("%s held a change that was not begun by Morvant on this computer; nothing of it was done, and it is kept in %s", l.Dir, filepath.Join(l.Dir, filepath.FromSlash(end.At))))
	case apply.Nothing:
		recorded, err := l.home.Changed(ctx, c.UID)
		if err != nil {
			return err
		}
		if recorded {
			if err := l.mark(ctx, false); err != nil {
				return err
			}
			if err := l.recordChange(ctx, c); err != nil { // its number
				return err
			}
			if err := l.afterwards(ctx, c, true); err != nil {
				return err
			}
			say("What follows " + lowerFirst(what) + " had been interrupted; it is finished now")
			return nil
		}
	}
	if err := l.mark(ctx, false); err != nil {
		return err
	}
	if noted {
		return l.home.End(ctx, l.Game.Name, l.Name, game.BegunChange)
	}
	return nil
}

// sentences says what did not go as planned. Files that were in the way go into the
// store too, as a snapshot.
func (l *Lane) sentences(ctx context.Context, report *apply.Report) []string {
	if report == nil || report.Empty() {
		return nil
	}
	list := report.Sentences(l.Dir)
	if report.AsideDir == "" {
		return list
	}
	dir := filepath.Join(l.Dir, filepath.FromSlash(report.AsideDir))
	b, err := l.RecordFolder(ctx, dir, "set-aside-"+filepath.Base(dir), "written while a change was unfinished", rules.NewSet([]string{"**"}))
	if err != nil {
		l.meter.Warn(fmt.Sprintf("%s could not be recorded: %v", dir, err))
		return list
	}
	list[0] += " and in snapshot/" + b.Label
	return list
}

// recoverBlock ends what an earlier run has left half-way of a block, and sets again
// what a wait for an update had taken off.
func (l *Lane) recoverBlock(ctx context.Context) error {
	begun, err := l.begunHere(ctx, game.BegunBlock)
	if err != nil {
		return err
	}
	if begun != nil {
		var set bool
		if err := json.Unmarshal(begun.Body, &set); err != nil {
			return err
		}
		if set {
			err = l.Block(ctx)
		} else {
			err = l.Unblock(ctx, false)
		}
		if err != nil {
			l.meter.Warn(fmt.Sprintf("the block is not as it should be: %v; see morvant block --show", err))
			return l.home.End(ctx, l.Game.Name, l.Name, game.BegunBlock)
		}
		what := "Setting the block"
		if !set {
			what = "Taking the block off"
		}
		l.tell("%s of %s had been interrupted; it is finished now.", what, l.Title())
	}
	return l.recoverLetUpdate(ctx)
}

// recoverLetUpdate ends a wait for an update that was cut off: where nothing has come,
// the block is set again.
func (l *Lane) recoverLetUpdate(ctx context.Context) error {
	begun, err := l.begunHere(ctx, game.BegunLetUpdate)
	if err != nil || begun == nil {
		return err
	}
	s, err := l.Status(ctx)
	if err != nil {
		return err
	}
	switch {
	case s.Build == nil:
	case s.Drift.Any():
		l.tell("A wait for an update of %s had been interrupted, and something has come: it is not %s any more, and updates are not blocked. morvant let-update goes on; morvant verify --repair goes back and blocks them again.", l.Title(), s.Build.Label)
	case len(l.Game.Block) > 0 && !s.Pin.Open:
		if err := l.Block(ctx); err != nil {
			return err
		}
		l.tell("A wait for an update of %s had been interrupted; the block is set again.", l.Title())
	}
	return l.home.End(ctx, l.Game.Name, l.Name, game.BegunLetUpdate)
}

// recoverOthers ends what is unfinished in the game's other lanes, as far as their
// folders are there.
func (l *Lane) recoverOthers(ctx context.Context) {
	list, err := l.home.Begun(ctx, l.Game.Name)
	if err != nil {
		l.meter.Warn(err.Error())
		return
	}
	for _, b := range list {
		if b.Lane == l.Name || b.Kind != game.BegunChange && b.Kind != game.BegunBlock {
			continue
		}
		is, err := l.home.Lane(ctx, l.Game.Name, b.Lane)
		if err != nil {
			continue
		}
		o, err := l.Beside(ctx, is.Name)
		if err != nil {
			l.tell("A change of lane %s is unfinished: %v.", b.Lane, err)
			continue
		}
		l.Recovered = append(l.Recovered, o.Recovered...)
		if o.Unfinished != nil {
			l.tell("A change of lane %s is unfinished: %v.", b.Lane, o.Unfinished)
		}
		if err := o.Close(); err != nil {
			l.meter.Warn(err.Error())
		}
	}
}
