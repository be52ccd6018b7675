package entry_test

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/entry"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/record"
	"morvant/internal/lane/status"
	"morvant/internal/plan"
	"morvant/internal/progress"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// bench is a game folder with a home of its own.
type bench struct {
	*testing.T
	home *game.Home
	live string
	far  string // a folder on another disk, if the test has one
}

func newBench(t *testing.T, settings game.Settings) *bench {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	b := &bench{T: t, live: filepath.Join(dir, "live")}
	require.NoError(t, os.Mkdir(b.live, 0o755))
	b.home, err = game.OpenHome(t.Context(), filepath.Join(dir, "home"))
	require.NoError(t, err)
	t.Cleanup(func() { b.home.Close() })
	settings.Live = b.live
	require.NoError(t, b.home.Create(&game.Game{Name: "quay", Settings: settings}))
	b.on(func(l *lane.Lane) { require.NoError(t, l.WriteMarker(t.Context())) })
	return b
}

// on opens the lane, as every run of the program does.
func (b *bench) on(f func(l *lane.Lane)) {
	b.Helper()
	l, err := entry.Open(b.Context(), b.home, "quay", lane.Options{Who: "test", Meter: progress.None{}, Now: time.Now})
	require.NoError(b, err)
	f(l)
	require.NoError(b, l.Close())
}

func (b *bench) carry(propose func(l *lane.Lane) (*change.Proposal, error)) {
	b.Helper()
	b.on(func(l *lane.Lane) {
		p, err := propose(l)
		require.NoError(b, err)
		require.NoError(b, change.CarryOut(b.Context(), l, p))
	})
}

// look pictures the folder: content, names, times and modes.
func (b *bench) look() map[string]string {
	b.Helper()
	seen := make(map[string]string)
	require.NoError(b, filepath.WalkDir(b.live, func(p string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(b.live, p)
		switch {
		case err != nil || rel == ".":
			return err
		case rel == ".morvant":
			return filepath.SkipDir
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		what := fmt.Sprint(info.Mode(), info.ModTime().UnixNano())
		if d.Type()&fs.ModeSymlink != 0 {
			target, err := os.Readlink(p)
			seen[rel] = "-> " + target
			return err
		}
		if d.Type().IsRegular() {
			content, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			what += " " + string(content)
		}
		seen[filepath.ToSlash(rel)] = what
		return nil
	}))
	return seen
}

// player changes a folder at random.
type player struct {
	*rand.Rand
	dir  string
	tick int64
}

var names = []string{"a", "b", "c", "data", "mods", "x.txt", "y.txt"}

func (p *player) somewhere() string {
	parts := make([]string, 1+p.IntN(3))
	for i := range parts {
		parts[i] = names[p.IntN(len(names))]
	}
	return filepath.Join(p.dir, filepath.Join(parts...))
}

func (p *player) content() string {
	if p.IntN(4) == 0 {
		return fmt.Sprintf("one of few %d", p.IntN(3)) // so that files share content and move
	}
	return strings.Repeat(fmt.Sprint(p.Uint64()), 1+p.IntN(5))
}

// act does one random thing. What cannot be done where it hits is left undone.
func (p *player) act() {
	at := p.somewhere()
	switch p.IntN(8) {
	case 0, 1, 2:
		if os.MkdirAll(filepath.Dir(at), 0o755) == nil {
			os.WriteFile(at, []byte(p.content()), 0o644)
		}
	case 3:
		os.RemoveAll(at)
	case 4:
		to := p.somewhere()
		if os.MkdirAll(filepath.Dir(to), 0o755) == nil {
			os.Rename(at, to)
		}
	case 5:
		os.Symlink(names[p.IntN(len(names))], at)
	case 6:
		os.MkdirAll(at, 0o755)
	case 7:
		if info, err := os.Lstat(at); err == nil && info.Mode().IsRegular() {
			os.Chmod(at, []fs.FileMode{0o644, 0o600, 0o755}[p.IntN(3)])
		}
	}
	if info, err := os.Lstat(at); err == nil && info.Mode()&fs.ModeSymlink == 0 {
		p.tick++
		when := time.Unix(1_900_000_000+p.tick, p.Int64N(1e9))
		os.Chtimes(at, when, when)
	}
}

// settle gives every folder a time in the past: the times that folders get by
// themselves depend on the clock.
func (p *player) settle() {
	filepath.WalkDir(p.dir, func(at string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			if d.Name() == ".morvant" {
				return filepath.SkipDir
			}
			p.tick++
			when := time.Unix(1_950_000_000+p.tick, 0)
			return os.Chtimes(at, when, when)
		}
		return err
	})
}

func TestAnyOrderOfSnapshotPinAndUndoEndsInTheFolderAskedFor(t *testing.T) {
	for seed := range uint64(rounds) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			b := newBench(t, game.Settings{})
			p := &player{Rand: rand.New(rand.NewPCG(seed, 1)), dir: b.live}
			recorded := make(map[string]map[string]string)
			var before []map[string]string // the folder before each change that stands
			for step := range 14 {
				for range p.IntN(12) {
					p.act()
				}
				p.settle()
				switch {
				case p.IntN(3) == 0 || len(recorded) == 0:
					label := fmt.Sprintf("s%d", step)
					b.on(func(l *lane.Lane) {
						_, err := record.Snapshot(t.Context(), l, record.Wanted{Label: label})
						require.NoError(t, err)
					})
					recorded[label] = b.look()
				case p.IntN(2) == 0 || len(before) == 0:
					label := slices.Sorted(mapKeys(recorded))[p.IntN(len(recorded))]
					was, changes := b.look(), b.changes()
					b.carry(func(l *lane.Lane) (*change.Proposal, error) {
						return propose.Pin(t.Context(), l, b.find(label), propose.PinOptions{Exact: true, Hold: true})
					})
					require.Equal(t, recorded[label], b.look(), "step %d: pin %s", step, label)
					b.on(func(l *lane.Lane) {
						s, err := status.Of(t.Context(), l, status.Glance)
						require.NoError(t, err)
						require.False(t, s.Drift.Any(), "step %d: drift after pin", step)
					})
					if n := b.changes(); n == changes { // it was there already
						continue
					}
					// Undo right away and again: it must lead to exactly the folder from before.
					b.undo(0)
					require.Equal(t, was, b.look(), "step %d: undo of pin %s", step, label)
					b.redo()
					require.Equal(t, recorded[label], b.look(), "step %d: undo of the undo", step)
					before = append(before, was)
				default:
					b.undo(0)
					before = before[:len(before)-1]
				}
			}
			for label, want := range recorded {
				b.carry(func(l *lane.Lane) (*change.Proposal, error) {
					return propose.Pin(t.Context(), l, b.find(label), propose.PinOptions{Exact: true, Hold: true})
				})
				require.Equal(t, want, b.look(), "in the end, %s", label)
			}
		})
	}
}

func mapKeys[V any](m map[string]V) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// changes counts the changes that the history knows.
func (b *bench) changes() int {
	b.Helper()
	history, err := b.home.History(b.Context(), "quay", state.MainLane)
	require.NoError(b, err)
	return len(history)
}

func (b *bench) undo(id int64) {
	b.Helper()
	b.carry(func(l *lane.Lane) (*change.Proposal, error) {
		p, _, err := propose.Undo(b.Context(), l, id, propose.Recorded)
		return p, err
	})
}

// redo takes the last undo back.
func (b *bench) redo() {
	b.Helper()
	history, err := b.home.History(b.Context(), "quay", state.MainLane)
	require.NoError(b, err)
	require.Equal(b, state.ChangeUndo, history[0].What)
	b.undo(history[0].ID)
}

func TestOnlyTheLastStandingChangeCanBeTakenBack(t *testing.T) {
	pin := func(id, undone int64) *state.Change {
		return &state.Change{ID: id, What: "pin", Undone: undone, Totals: state.Totals{Replaced: 1}}
	}
	idle := func(id int64) *state.Change {
		return &state.Change{ID: id, What: "repair", Steps: digest.Of(plan.EncodeSteps(nil))}
	}
	undo := func(id, of, undone int64) *state.Change {
		return &state.Change{ID: id, What: "undo", Undoes: of, Undone: undone}
	}
	for name, c := range map[string]struct {
		history []*state.Change // the newest first
		id      int64
		want    int64
		err     error
	}{
		"the last":                        {[]*state.Change{pin(2, 0), pin(1, 0)}, 0, 2, nil},
		"past one that did nothing":       {[]*state.Change{idle(3), pin(2, 0), pin(1, 0)}, 0, 2, nil},
		"past one that is undone":         {[]*state.Change{undo(3, 2, 0), pin(2, 3), pin(1, 0)}, 0, 1, nil},
		"the last by number":              {[]*state.Change{pin(2, 0), pin(1, 0)}, 2, 2, nil},
		"one that is buried":              {[]*state.Change{pin(2, 0), pin(1, 0)}, 1, 0, lane.ErrNothing},
		"an undo":                         {[]*state.Change{undo(2, 1, 0), pin(1, 2)}, 2, 2, nil},
		"an undo that is buried":          {[]*state.Change{pin(3, 0), undo(2, 1, 0), pin(1, 2)}, 2, 0, lane.ErrNothing},
		"one that is undone already":      {[]*state.Change{undo(2, 1, 0), pin(1, 2)}, 1, 0, lane.ErrNothing},
		"nothing":                         {nil, 0, 0, lane.ErrNothing},
		"nothing that stands":             {[]*state.Change{undo(2, 1, 0), pin(1, 2)}, 0, 0, lane.ErrNothing},
		"a number that was never given":   {[]*state.Change{pin(1, 0)}, 7, 0, state.ErrUnknown},
		"one that an undone undo brought": {[]*state.Change{undo(3, 2, 0), undo(2, 1, 3), pin(1, 0)}, 0, 1, nil},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := propose.Undoable(c.history, c.id)
			if c.err != nil {
				require.ErrorIs(t, err, c.err)
				return
			}
			require.NoError(t, err)
			require.Equal(t, c.want, got.ID)
		})
	}
}

func TestALookAtAnUnchangedFolderReadsNothing(t *testing.T) {
	b := newBench(t, game.Settings{Scratch: []string{"logs/**"}})
	old := time.Now().Add(-time.Hour)
	for i := range 20 {
		p := filepath.Join(b.live, fmt.Sprintf("f%d", i))
		require.NoError(t, os.WriteFile(p, []byte(fmt.Sprint(i)), 0o644))
		require.NoError(t, os.Chtimes(p, old, old))
	}
	// A look within the resolution of the change clock is not trusted.
	<-time.After(scan.ChangeClock())
	m := &counting{}
	look := func() int64 {
		m.bytes = 0
		l, err := entry.Open(t.Context(), b.home, "quay", lane.Options{Meter: m, Now: time.Now})
		require.NoError(t, err)
		_, err = l.Look(t.Context(), 0)
		require.NoError(t, err)
		require.NoError(t, l.Close())
		return m.bytes
	}
	require.Equal(t, int64(30), look())
	require.Equal(t, int64(0), look())
	if runtime.GOOS == "windows" {
		return // a listing tells nothing there but size and time
	}
	require.NoError(t, os.WriteFile(filepath.Join(b.live, "f3"), []byte("X"), 0o644))
	require.NoError(t, os.Chtimes(filepath.Join(b.live, "f3"), old, old))
	require.Equal(t, int64(1), look(), "same size and time, but touched")
}

type counting struct {
	progress.None
	bytes int64
}

func (c *counting) Begin(_ string, total int64) { c.bytes += total }

func TestAPinLeavesAloneWhatCannotBeRecorded(t *testing.T) {
	b := newBench(t, game.Settings{})
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(b.live, "a"), []byte("1"), 0o644))
	b.on(func(l *lane.Lane) {
		_, err := record.Snapshot(t.Context(), l, record.Wanted{Label: "1"})
		require.NoError(t, err)
	})
	if runtime.GOOS == "windows" {
		t.Skip("symbolic links take rights here that players do not have")
	}
	require.NoError(t, os.WriteFile(filepath.Join(outside, "precious"), []byte("p"), 0o644))
	require.NoError(t, os.Symlink(outside, filepath.Join(b.live, "shared")))
	pin := func(l *lane.Lane) (*change.Proposal, error) {
		return propose.Pin(t.Context(), l, b.find("1"), propose.PinOptions{Exact: true, Hold: true})
	}
	b.carry(pin)
	require.FileExists(t, filepath.Join(outside, "precious"))
	require.FileExists(t, filepath.Join(b.live, "shared", "precious"))

	require.NoError(t, os.Remove(filepath.Join(b.live, "a")))
	require.NoError(t, os.Symlink(outside, filepath.Join(b.live, "a")))
	b.carry(pin)
	got, err := os.ReadFile(filepath.Join(b.live, "a"))
	require.NoError(t, err)
	require.Equal(t, "1", string(got), "the link makes way for the build's file")
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	require.Len(t, left, 1)
	require.FileExists(t, filepath.Join(outside, "precious"))
}

func TestAChangeBehindThePlansBackIsNoticed(t *testing.T) {
	b := newBench(t, game.Settings{})
	file := filepath.Join(b.live, "a")
	require.NoError(t, os.WriteFile(file, []byte("1"), 0o644))
	b.on(func(l *lane.Lane) {
		_, err := record.Snapshot(t.Context(), l, record.Wanted{Label: "1"})
		require.NoError(t, err)
	})
	require.NoError(t, os.WriteFile(file, []byte("22"), 0o644))
	b.on(func(l *lane.Lane) {
		found := b.find("1")
		p, err := propose.Pin(t.Context(), l, found, propose.PinOptions{Hold: true})
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, []byte("333"), 0o644))
		require.ErrorContains(t, change.CarryOut(t.Context(), l, p), "something else changed it")
	})
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, "333", string(content))
	b.on(func(l *lane.Lane) { require.Empty(t, l.Recovered) })
}

func TestAnInterruptedChangeLeavesTheFolderAsItWas(t *testing.T) {
	b := newBench(t, game.Settings{})
	for i := range 5 {
		require.NoError(t, os.WriteFile(filepath.Join(b.live, fmt.Sprint(i)), []byte(strings.Repeat("a", 1000*i)), 0o644))
	}
	b.on(func(l *lane.Lane) {
		_, err := record.Snapshot(t.Context(), l, record.Wanted{Label: "1"})
		require.NoError(t, err)
	})
	for i := range 5 {
		require.NoError(t, os.WriteFile(filepath.Join(b.live, fmt.Sprint(i)), []byte(strings.Repeat("b", 1000*i)), 0o644))
	}
	was := b.look()
	b.on(func(l *lane.Lane) {
		found := b.find("1")
		p, err := propose.Pin(t.Context(), l, found, propose.PinOptions{Hold: true})
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		l.Meter = &cancelling{cancel: cancel}
		require.ErrorIs(t, change.CarryOut(ctx, l, p), context.Canceled)
	})
	require.Equal(t, was, b.look())
	require.NoDirExists(t, filepath.Join(b.live, ".morvant", "change"))
}

// cancelling interrupts the work as soon as it reports that it is under way.
type cancelling struct {
	progress.None
	cancel context.CancelFunc
}

func (c *cancelling) Advance(int64, string) { c.cancel() }

// TestProposingTwiceIsProposingOnce: the keep rules of a pin that was only thought of do not
// stay.
func TestProposingTwiceIsProposingOnce(t *testing.T) {
	b := newBench(t, game.Settings{Keep: []string{"Mods/**"}})
	require.NoError(t, os.WriteFile(filepath.Join(b.live, "a.txt"), []byte("a"), 0o644))
	b.on(func(l *lane.Lane) {
		_, err := record.Snapshot(t.Context(), l, record.Wanted{Label: "1"})
		require.NoError(t, err)
		for range 2 {
			_, err = propose.Pin(t.Context(), l, b.find("1"), propose.PinOptions{Hold: true, Add: state.Pin{Keep: []string{"Maps/**"}}})
			require.NoError(t, err)
			require.Equal(t, []string{"Mods/**", "Maps/**"}, l.Game.Keep)
		}
		_, err = propose.Pin(t.Context(), l, b.find("1"), propose.PinOptions{Hold: true})
		require.NoError(t, err)
		require.Equal(t, []string{"Mods/**"}, l.Game.Keep)
	})
}
