package oplog_test

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/oplog"
	"morvant/internal/state"
	"morvant/internal/testdir"
)

func TestMain(m *testing.M) { testdir.Main(m) }

func newLog(t *testing.T) *state.State {
	log, err := state.Open(t.Context(), filepath.Join(t.TempDir(), "state.db"))
	require.NoError(t, err)
	t.Cleanup(func() { log.DB.Close() })
	return log
}

// world is what an operation of three steps changes, of which the second is the one after which there is no way back.
type world struct {
	done [3]bool
	log  *state.State
}

func (w *world) operation(firm bool) *oplog.Operation {
	op := &oplog.Operation{Game: "quay", Kind: state.BegunSwitch, What: "The work"}
	for i := range w.done {
		op.Steps = append(op.Steps, oplog.Step{
			Do:   func(context.Context) error { w.done[i] = true; return nil },
			Back: func(context.Context) error { w.done[i] = false; return nil },
		})
	}
	if firm {
		op.Steps[1].Done = func(context.Context) (bool, error) { return w.done[1], nil }
	}
	return op
}

func (w *world) noted(t *testing.T) []state.Begun {
	list, err := w.log.Begun(t.Context(), "")
	require.NoError(t, err)
	return list
}

// TestWhatBeganOnAnotherComputerIsLeftAloneThere: until it is taken over.
func TestWhatBeganOnAnotherComputerIsLeftAlone(t *testing.T) {
	log := newLog(t)
	w := &world{log: log}
	log.Computer = "ada-pc"
	ctx, _ := failing(t.Context(), 4, oplog.ErrKilled)
	require.ErrorIs(t, w.operation(false).Run(ctx, log), oplog.ErrKilled)
	log.Computer = "laptop"
	noted := w.noted(t)
	require.Len(t, noted, 1)
	was := w.done
	_, err := w.operation(false).Resume(t.Context(), log, noted[0])
	require.ErrorIs(t, err, oplog.ErrElsewhere)
	require.ErrorContains(t, err, "ada-pc")
	require.Equal(t, was, w.done)
	require.Len(t, w.noted(t), 1)
	require.NoError(t, log.TakeOver(t.Context(), "quay"))
	said, err := w.operation(false).Resume(t.Context(), log, w.noted(t)[0])
	require.NoError(t, err)
	require.Equal(t, "The work was interrupted; Morvant has finished it.", said)
	require.Equal(t, [3]bool{true, true, true}, w.done)
	require.Empty(t, w.noted(t))
}

// failing returns a context in which the n-th point fails; hit says whether it came to that.
func failing(ctx context.Context, n int, err error) (with context.Context, hit *bool) {
	hit = new(bool)
	return oplog.WithFaults(ctx, func() error {
		if n--; n != 0 {
			return nil
		}
		*hit = true
		return err
	}), hit
}

// TestCutOffAnywhereItIsWholeOrNotAtAll kills and fails an operation at each point, and what ends it at each point again.
func TestCutOffAnywhereItIsWholeOrNotAtAll(t *testing.T) {
	log := newLog(t)
	for _, firm := range []bool{true, false} {
		for _, fault := range []error{oplog.ErrKilled, errors.New("the disk is full")} {
			n, hit := 0, true
			for ; hit; n++ {
				for m, again := 1, true; again; m++ {
					hit, again = cutOff(t, log, firm, fault, n+1, m)
				}
			}
			require.Equal(t, 9, n, "a point before anything, two for each step, one at the end; then none")
		}
	}
}

// cutOff runs an operation that fails at its n-th point, and whose end by the next run fails at its m-th. It reports whether it came to
// these.
func cutOff(t *testing.T, log *state.State, firm bool, fault error, n, m int) (first, second bool) {
	t.Helper()
	w := &world{log: log}
	ctx, hit := failing(t.Context(), n, fault)
	err := w.operation(firm).Run(ctx, log)
	if !*hit {
		require.NoError(t, err)
		require.Equal(t, [3]bool{true, true, true}, w.done)
		return false, false
	}
	require.ErrorIs(t, err, fault)
	ctx, again := failing(t.Context(), m, fault)
	for _, with := range []context.Context{ctx, t.Context()} {
		for _, note := range w.noted(t) {
			require.ErrorIs(t, err, oplog.ErrStays)
			sentence, err := w.operation(firm).Resume(with, log, note)
			if with == t.Context() {
				require.NoError(t, err)
				require.Contains(t, []string{"The work was interrupted; Morvant has finished it.", "The work was interrupted; Morvant has undone it."}, sentence)
			}
		}
	}
	require.Empty(t, w.noted(t))
	whole := w.done == [3]bool{true, true, true}
	nothing := w.done == [3]bool{} && (firm || n == 1)
	require.True(t, whole || nothing, "cut off at %d and %d: %v", n, m, w.done)
	return true, *again
}

func TestAStepThatFailsIsTakenBackInOrder(t *testing.T) {
	log := newLog(t)
	var seen []string
	step := func(name string, fail bool) oplog.Step {
		return oplog.Step{
			Do: func(context.Context) error {
				if seen = append(seen, "do "+name); fail {
					return errors.New("no")
				}
				return nil
			},
			Back: func(context.Context) error { seen = append(seen, "back "+name); return nil },
		}
	}
	last := step("c", true)
	last.Done = func(context.Context) (bool, error) { return false, nil }
	op := &oplog.Operation{Game: "quay", Kind: state.BegunNew, What: "It", Steps: []oplog.Step{step("a", false), step("b", false), last}}
	require.EqualError(t, op.Run(t.Context(), log), "no")
	require.Equal(t, []string{"do a", "do b", "do c", "back c", "back b", "back a"}, seen)

	// One that keeps what there is stays noted, for the same command.
	op.Steps[0].Back = func(context.Context) error { return oplog.ErrWaits }
	err := op.Run(t.Context(), log)
	require.EqualError(t, err, "no")
	require.ErrorIs(t, err, oplog.ErrStays)
	list, err := log.Begun(t.Context(), "quay")
	require.NoError(t, err)
	require.Len(t, list, 1)
	_, err = op.Resume(t.Context(), log, list[0])
	require.ErrorIs(t, err, oplog.ErrWaits)
	require.True(t, slices.Contains(seen, "back b"))
}
