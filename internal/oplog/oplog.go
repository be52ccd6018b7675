// Package oplog carries out operations of several steps so that a kill or an error never leaves one half done. An operation is
// noted before anything of it happens, and the note goes when all of it is over: the next run goes on from there, or back.
package oplog

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"morvant/internal/problem"
	"morvant/internal/state"
)

// Step is one step of an operation. Do and Back can be repeated, from wherever an earlier run has left them.
type Step struct {
	Do   func(context.Context) error
	Back func(context.Context) error // nil: there is nothing to take back
	// Done, set for the step after which there is no way back, reports whether it is done: before it, an operation that is cut off
	// or fails is taken back, after it, it is finished. One without such a step is always finished.
	Done func(context.Context) (bool, error)
}

// Operation is what is to be done.
type Operation struct {
	Game, Lane string
	Kind       state.BegunKind
	Body       any    // how the steps are found again
	What       string // it, in a sentence: "The switch of Quay to lane old"
	Steps      []Step
	Told       bool // set by a step that has said itself how it ends

	note state.Begun
}

// ErrStays says that an operation is noted still, and that the next run goes on with it.
var ErrStays = problem.New("it has begun and is not finished", "What has begun is noted; the next command goes on with it")

// ErrWaits is returned by a Back that keeps what there is, for the same command to go on with.
var ErrWaits = problem.New("the same command goes on with it", "Run the same command again")

// ErrElsewhere says that an operation began on another computer, where the folders that it is about may be others.
var ErrElsewhere = errors.New("it began on another computer, where it has to be ended")

// stays is an error after which an operation is noted still.
type stays struct{ error }

func (s stays) Is(target error) bool { return target == ErrStays }
func (s stays) Unwrap() error        { return s.error }
func (s stays) Advice() string       { return cmp.Or(problem.Advice(s.error), problem.Advice(ErrStays)) }

// Run notes an operation and carries it out. After an error all of it has been taken back, unless that is ErrStays.
func (op *Operation) Run(ctx context.Context, log *state.State) error {
	if err := Point(ctx); err != nil {
		return err
	}
	op.note = state.Begun{Game: op.Game, Lane: op.Lane, Kind: op.Kind}
	if err := op.Note(ctx, log); err != nil {
		return err
	}
	at, err := op.forward(ctx, log)
	if err == nil || errors.Is(err, ErrStays) {
		return err
	}
	switch back := op.back(context.WithoutCancel(ctx), log, at); {
	case errors.Is(back, ErrWaits):
		return stays{err}
	case back != nil:
		return stays{errors.Join(err, back)}
	}
	return err
}

// Note notes what the body has become.
func (op *Operation) Note(ctx context.Context, log *state.State) error {
	return log.Note(ctx, &op.note, op.Body)
}

// Resume ends an operation that an earlier run has noted. The sentence says how; after an error, which may be ErrWaits, it is noted
// still.
func (op *Operation) Resume(ctx context.Context, log *state.State, note state.Begun) (sentence string, err error) {
	if note.Elsewhere(log) {
		return "", fmt.Errorf("%s was interrupted: %w: %s", op.What, ErrElsewhere, note.Computer)
	}
	op.note = note
	at := len(op.Steps) - 1
	firm, done, err := op.firm(ctx)
	if err == nil && (done || !firm) {
		if at, err = op.forward(ctx, log); err == nil {
			return op.say("finished"), nil
		}
	}
	if firm && !done && err == nil || err != nil && !errors.Is(err, ErrStays) {
		if back := op.back(context.WithoutCancel(ctx), log, at); back == nil {
			return op.say("undone"), nil
		} else if err = errors.Join(err, back); errors.Is(back, ErrWaits) {
			err = back
		}
	}
	return "", fmt.Errorf("%s was interrupted and is not finished: %w", op.What, err)
}

func (op *Operation) say(how string) string {
	if op.Told {
		return ""
	}
	return op.What + " was interrupted; Morvant has " + how + " it."
}

// forward does the steps, and returns the one that failed.
func (op *Operation) forward(ctx context.Context, log *state.State) (int, error) {
	for i, s := range op.Steps {
		err := Point(ctx)
		if err == nil {
			err = s.Do(ctx)
		}
		if err == nil {
			err = Point(ctx)
		}
		if err != nil {
			if errors.Is(err, ErrKilled) {
				return i, stays{err}
			}
			firm, done, unclear := op.firm(context.WithoutCancel(ctx))
			if done || !firm || unclear != nil {
				return i, stays{errors.Join(err, unclear)}
			}
			return i, err
		}
		if s.Done != nil {
			ctx = context.WithoutCancel(ctx)
		}
	}
	return 0, op.over(ctx, log)
}

// back takes the steps back, from one on.
func (op *Operation) back(ctx context.Context, log *state.State, from int) error {
	for i := from; i >= 0; i-- {
		if op.Steps[i].Back == nil {
			continue
		}
		err := Point(ctx)
		if err == nil {
			err = op.Steps[i].Back(ctx)
		}
		if err != nil {
			return stays{err}
		}
	}
	return op.over(ctx, log)
}

func (op *Operation) over(ctx context.Context, log *state.State) error {
	err := Point(ctx)
	if err == nil {
		err = log.Over(ctx, op.note)
	}
	if err != nil {
		return stays{err}
	}
	return nil
}

// firm reports whether there is a step after which there is no way back, and whether it is done.
func (op *Operation) firm(ctx context.Context) (is, done bool, err error) {
	for _, s := range op.Steps {
		if s.Done != nil {
			done, err = s.Done(ctx)
			return true, done, err
		}
	}
	return false, false, nil
}

// ErrKilled stands for a process that was killed, at a fault.
var ErrKilled = errors.New("killed")

type faults struct{}

// WithFaults returns a context in which an operation asks at each point between two steps whether something goes wrong there. After
// ErrKilled everything is left as it is, as a kill leaves it.
func WithFaults(ctx context.Context, at func() error) context.Context {
	return context.WithValue(ctx, faults{}, at)
}

// Point is a point at which a fault can be put in, also within a step.
func Point(ctx context.Context) error {
	if at, ok := ctx.Value(faults{}).(func() error); ok {
		return at()
	}
	return nil
}
