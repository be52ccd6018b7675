package change

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"morvant/internal/apply"
	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/lane/record"
	"morvant/internal/plan"
	"morvant/internal/problem"
	"morvant/internal/rules"
	"morvant/internal/state"
)

// Recover ends a change of the lane's files that an earlier run did not, and what
// follows it.
func Recover(ctx context.Context, l *lane.Lane) error {
	begun, err := l.BegunHere(ctx, state.BegunChange)
	if err != nil {
		return err
	}
	pending, err := apply.Pending(l.Root)
	if err != nil {
		return fmt.Errorf("an unfinished change in %s: %w", l.Dir, err)
	}
	if begun == nil && !pending {
		apply.Sweep(l.Root)
		return nil
	}
	if pending {
		if err := l.NotRunning(); err != nil {
			return err
		}
	}
	r := apply.Recovery{Root: l.Root, Store: l.Store, Now: l.Now, Lost: lane.LostBy(l), Ours: func(steps []plan.Step, memo json.RawMessage) bool { return ours(ctx, l, steps, memo) }}
	var c state.Change
	if begun != nil {
		if err := json.Unmarshal(begun.Body, &c); err != nil {
			return fmt.Errorf("an unfinished change in %s: %w", l.Dir, errors.Join(apply.ErrJournal, err))
		}
		r.ID, r.Memo = begun.UID, begun.Body
		if r.Steps, err = StepsOf(ctx, l, &c); err != nil && pending {
			l.Meter.Warn(err.Error()) // the journal has them as well
		}
	}
	end, err := apply.Recover(ctx, r)
	if err != nil {
		return fmt.Errorf("a change in %s was interrupted and cannot be finished yet: %w", l.Dir, err)
	}
	if end.Memo != nil {
		c = state.Change{}
		if err := json.Unmarshal(end.Memo, &c); err != nil {
			return fmt.Errorf("an unfinished change in %s: %w", l.Dir, errors.Join(apply.ErrJournal, err))
		}
	}
	return ended(ctx, l, end, &c, begun != nil)
}

// ours decides about a change that an old version of Morvant has begun and not noted:
// the store has its list of steps, which nobody else can have put there.
func ours(ctx context.Context, l *lane.Lane, steps []plan.Step, memo json.RawMessage) bool {
	var c state.Change
	if json.Unmarshal(memo, &c) != nil || c.Game != l.Game.Name || c.Lane != l.Name || len(steps) == 0 {
		return false
	}
	d := digest.Of(plan.EncodeSteps(steps))
	there, err := l.Store.Has(ctx, d)
	return err == nil && there && c.Steps == d
}

// ended records how a change ended, does what follows it, and says so.
func ended(ctx context.Context, l *lane.Lane, end *apply.Ended, c *state.Change, noted bool) error {
	ctx = context.WithoutCancel(ctx)
	sentences := sentences(ctx, l, end.Report)
	what := lane.Describe(c) + " of " + l.Title()
	say := func(text string) {
		l.Tell("%s", strings.Join(append([]string{text}, sentences...), ". ")+".")
	}
	switch end.Outcome {
	case apply.Finished:
		c.Notes = notesOf(c.Notes, sentences)
		if err := recordChange(ctx, l, c); err != nil {
			return err
		}
		if err := l.WriteMarkerAs(ctx, false); err != nil {
			return err
		}
		if err := apply.Finish(l.Root); err != nil {
			return err
		}
		if _, err := afterwards(ctx, l, c, true); err != nil {
			return err
		}
		say(what + " was interrupted; Morvant has finished it")
		return nil
	case apply.Back:
		say(what + " was interrupted; Morvant has undone it, and the folder is as before")
	case apply.Unknown:
		say(fmt.Sprintf("A change of %s was interrupted, and its record is lost; Morvant keeps what it had moved, and %s restores the build's files", l.Title(), problem.Repair))
	case apply.Foreign:
		say(fmt.Sprintf("%s held a change that did not begin on this computer; Morvant ignored it and keeps it in %s", l.Dir, filepath.Join(l.Dir, filepath.FromSlash(end.At))))
	case apply.Nothing:
		recorded, err := l.Home.Changed(ctx, c.UID)
		if err != nil {
			return err
		}
		if recorded {
			if err := l.WriteMarkerAs(ctx, false); err != nil {
				return err
			}
			if err := recordChange(ctx, l, c); err != nil { // its number
				return err
			}
			if _, err := afterwards(ctx, l, c, true); err != nil {
				return err
			}
			say("What follows " + lane.LowerFirst(what) + " was interrupted; Morvant has finished it")
			return nil
		}
	}
	if err := l.WriteMarkerAs(ctx, false); err != nil {
		return err
	}
	if noted {
		return l.Home.End(ctx, l.Game.Name, l.Name, state.BegunChange)
	}
	return nil
}

// sentences says what did not go as planned. Files that were in the way go into the
// store too, as a snapshot.
func sentences(ctx context.Context, l *lane.Lane, report *apply.Report) []string {
	if report == nil || report.Empty() {
		return nil
	}
	list := report.Sentences(l.Dir)
	if report.AsideDir == "" {
		return list
	}
	dir := filepath.Join(l.Dir, filepath.FromSlash(report.AsideDir))
	b, err := record.RecordFolder(ctx, l, dir, "set-aside-"+filepath.Base(dir), "written while a change was unfinished", rules.NewSet([]string{"**"}))
	if err != nil {
		l.Meter.Warn(fmt.Sprintf("%s could not be recorded: %v", dir, err))
		return list
	}
	list[0] += " and in snapshot/" + b.Label
	return list
}
