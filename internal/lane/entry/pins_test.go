package entry_test

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/block"
	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/record"
	"morvant/internal/lane/status"
	"morvant/internal/manifest"
	"morvant/internal/progress"
	"morvant/internal/state"
	"morvant/internal/store"
	"morvant/internal/upkeep"
)

// put writes files of the live folder that nobody has touched for long.
func (b *bench) put(files map[string]string) {
	b.Helper()
	long := time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC)
	for p, content := range files {
		b.file(b.live, p, content)
		require.NoError(b, os.Chtimes(filepath.Join(b.live, p), long, long))
	}
}

func (b *bench) snapshot(label string) (build *state.Build) {
	b.Helper()
	b.on(func(l *lane.Lane) {
		s, err := record.Snapshot(b.Context(), l, record.Wanted{Label: label})
		require.NoError(b, err)
		build = s.Build
	})
	return build
}

func (b *bench) pin(to *state.Build, o propose.PinOptions) (notes []string) {
	b.Helper()
	o.Hold = true
	b.carry(func(l *lane.Lane) (*change.Proposal, error) {
		p, err := propose.Pin(b.Context(), l, to, o)
		if err == nil {
			notes = p.Notes
		}
		return p, err
	})
	return notes
}

func (b *bench) unpin() {
	b.Helper()
	b.carry(func(l *lane.Lane) (*change.Proposal, error) { return propose.Unpin(b.Context(), l, propose.Ask) })
}

func (b *bench) held() (pin state.Pin) {
	b.Helper()
	b.on(func(l *lane.Lane) {
		var err error
		pin, err = l.Home.Pin(b.Context(), "quay", l.Name)
		require.NoError(b, err)
	})
	return pin
}

func (b *bench) status() (s *status.Status) {
	b.Helper()
	b.on(func(l *lane.Lane) {
		var err error
		s, err = status.Of(b.Context(), l, status.Whole)
		require.NoError(b, err)
	})
	return s
}

func yes(*store.TrimPlan) error { return nil }

func over(o *state.Build, pattern string) state.Pin {
	return state.Pin{Overlays: []state.Overlay{{Build: o.UID, Name: o.Name(), Digest: o.Digest(), Pattern: pattern, Named: true}}}
}

// newLaid is a bench with builds 1 and 2, held to 2 with a of 1 laid over it.
func newLaid(t *testing.T, s game.Settings) (b *bench, one, two *state.Build) {
	t.Helper()
	b = newBench(t, s)
	b.put(map[string]string{"a": "a of 1", "b": "b of 1"})
	one = b.snapshot("1")
	b.put(map[string]string{"a": "a of 2", "b": "b of 2"})
	two = b.snapshot("2")
	b.pin(two, propose.PinOptions{Add: over(one, "a")})
	require.Equal(t, "a of 1", b.read(b.live, "a"))
	return b, one, two
}

func TestWhatIsLaidAgainAndUndoneIsAsItWas(t *testing.T) {
	for _, follow := range []bool{false, true} {
		b, one, two := newLaid(t, game.Settings{})
		before, files := b.held(), b.look()
		again := propose.Again(before)
		again.Follow = follow
		again.Add = state.Pin{Companions: []state.Companion{{Path: "note.txt", Text: "steady"}}}
		b.pin(two, again)
		require.Equal(t, before.Overlays, b.held().Overlays)
		require.Equal(t, "steady", b.read(b.live, "note.txt"))
		require.Equal(t, follow, b.held().Follow)
		b.undo(0)
		require.Equal(t, before, b.held(), "the pin is as it was, to the letter")
		require.Equal(t, files, b.look())
		b.pin(one, propose.PinOptions{Inherit: true})
		b.undo(0)
		require.Equal(t, before, b.held())
		require.Equal(t, files, b.look())
		b.unpin()
		require.Equal(t, "a of 2", b.read(b.live, "a"))
		require.False(t, b.held().Held())
	}
}

// TestOnePinAfterTheOtherLeadsBackToBeforeTheFirst, whatever has been laid again in between.
func TestOnePinAfterTheOtherLeadsBackToBeforeTheFirst(t *testing.T) {
	b := newBench(t, game.Settings{Keep: []string{"own/**"}})
	b.put(map[string]string{"a": "a of 1", "own/x": "x of 1"})
	one := b.snapshot("1")
	b.put(map[string]string{"a": "a of 2", "own/x": "x of 2"})
	two := b.snapshot("2")
	b.put(map[string]string{"a": "in no build", "own/x": "mine"})
	before := b.look()
	b.pin(one, propose.PinOptions{Add: over(two, "own/x")})
	require.Equal(t, "x of 2", b.read(b.live, "own/x"))
	for range 2 {
		b.pin(two, propose.PinOptions{Inherit: true})
		b.pin(one, propose.PinOptions{Inherit: true})
	}
	b.pin(two, propose.PinOptions{})
	require.Equal(t, "mine", b.read(b.live, "own/x"), "what lies beneath comes back with the last that lay on it")
	b.pin(one, propose.PinOptions{Add: over(two, "own/x")})
	b.unpin()
	require.Equal(t, before["own/x"], b.look()["own/x"], "with its time")
	require.Equal(t, before["a"], b.look()["a"])
}

// TestWhatAnUndoneLayerLayOverOutlivesATrim: an undo brings the pin back, and with it what it lies over.
func TestWhatAnUndoneLayerLayOverOutlivesATrim(t *testing.T) {
	b := newBench(t, game.Settings{Keep: []string{"own/**"}})
	b.put(map[string]string{"a": "a", "own/x": "x of 1"})
	one := b.snapshot("1")
	b.put(map[string]string{"own/x": "mine"})
	b.pin(one, propose.PinOptions{Add: over(one, "own/x")})
	b.pin(one, propose.PinOptions{})
	require.Equal(t, "mine", b.read(b.live, "own/x"))
	require.NoError(t, upkeep.Trim(t.Context(), b.home, yes, progress.None{}, time.Now))
	b.undo(0)
	require.Equal(t, "x of 1", b.read(b.live, "own/x"))
	b.status()
	require.NoError(t, upkeep.Trim(t.Context(), b.home, yes, progress.None{}, time.Now))
	b.pin(one, propose.PinOptions{})
	require.Equal(t, "mine", b.read(b.live, "own/x"))
}

func TestAFileThatThePlayerHasChangedStaysWhenItsLayerIsLifted(t *testing.T) {
	b, _, two := newLaid(t, game.Settings{})
	b.pin(two, propose.PinOptions{Inherit: true, Add: state.Pin{Companions: []state.Companion{{Path: "note.txt", Text: "steady"}}}})
	b.put(map[string]string{"note.txt": "mine now"})
	notes := b.pin(two, propose.PinOptions{})
	require.Equal(t, "mine now", b.read(b.live, "note.txt"))
	require.Equal(t, "a of 2", b.read(b.live, "a"), "what nobody has changed is lifted")
	require.Contains(t, notes, "the companion note.txt has been changed by hand; it stays")
}

func TestAnEditOfAFileOfThePlayersIsTakenBackToTheLetter(t *testing.T) {
	b := newBench(t, game.Settings{Keep: []string{"*.ini"}})
	b.put(map[string]string{"a": "a", "own.ini": "volume=3\r\nname=ada\r\n"})
	one := b.snapshot("1")
	b.pin(one, propose.PinOptions{Add: state.Pin{Edits: []state.Edit{{File: "own.ini", Find: `^volume=(.*)$`, Set: "7"}}}})
	require.Equal(t, "volume=7\r\nname=ada\r\n", b.read(b.live, "own.ini"))
	b.put(map[string]string{"own.ini": "volume=7\r\nname=bea\r\n"})
	b.pin(one, propose.PinOptions{Inherit: true}) // once more, over what the player has changed
	b.pin(one, propose.PinOptions{})
	require.Equal(t, "volume=3\r\nname=bea\r\n", b.read(b.live, "own.ini"), "the value of before, and what is the player's")
}

func TestAGuardedFileThatIsGoneStaysRecordedOverSeveralRecords(t *testing.T) {
	b := newBench(t, game.Settings{Guard: []string{"*.dll"}})
	b.put(map[string]string{"a.pak": "a", "one.dll": "one", "two.dll": "two"})
	one := b.snapshot("1")
	record3 := func() {
		for range 3 {
			b.on(func(l *lane.Lane) {
				o, err := record.Guard(t.Context(), l)
				require.NoError(t, err)
				require.Equal(t, 2, o.Files)
			})
		}
	}
	record3()
	b.pin(one, propose.PinOptions{})
	require.NoError(t, os.Remove(filepath.Join(b.live, "one.dll")))
	record3()
	require.NotEmpty(t, b.status().Drift.Lost)
	b.carry(func(l *lane.Lane) (*change.Proposal, error) { return propose.Repair(t.Context(), l, nil) })
	require.Equal(t, "one", b.read(b.live, "one.dll"))
	require.Equal(t, "two", b.read(b.live, "two.dll"))
}

// TestWhatIsLaidInThePlayersPlaceIsNotRecordedAsTheirs, and a file of theirs in which a value is set is.
func TestWhatIsLaidInThePlayersPlaceIsNotRecordedAsTheirs(t *testing.T) {
	b := newBench(t, game.Settings{Keep: []string{"own/**"}})
	b.put(map[string]string{"a": "a", "own/laid": "of the build"})
	one := b.snapshot("1")
	b.put(map[string]string{"own/laid": "mine", "own/set.ini": "volume=3\n", "own/free": "free"})
	add := over(one, "own/laid")
	add.Edits = []state.Edit{{File: "own/set.ini", Find: `^volume=(.*)$`, Set: "7"}}
	b.pin(one, propose.PinOptions{Add: add})
	require.Equal(t, "of the build", b.read(b.live, "own/laid"))
	b.on(func(l *lane.Lane) {
		tree, err := l.Look(t.Context(), status.Whole)
		require.NoError(t, err)
		o, _, err := record.Own(t.Context(), l, tree)
		require.NoError(t, err)
		raw, err := l.Store.Bytes(t.Context(), o.Manifest, manifest.MaxEncoded)
		require.NoError(t, err)
		m, err := manifest.DecodeRecorded(raw)
		require.NoError(t, err)
		var paths []string
		for _, f := range m.Files {
			paths = append(paths, f.Path)
		}
		require.Equal(t, []string{"own/free", "own/set.ini"}, paths)
	})
}

func TestASettingThatIsChangedBetweenBlocksIsTheirs(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "state.cfg")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o644)) }
	read := func() string {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		return string(text)
	}
	write("# mine\r\nupdates = at-once\r\nlast = 1\r\n")
	b := newBench(t, game.Settings{Block: []block.Rule{{Kind: block.Setting, File: file, Format: "key-value", Key: "updates", Set: "by-hand"}}})
	b.put(map[string]string{"a": "a"})
	one := b.snapshot("1")
	unblock := func() {
		b.on(func(l *lane.Lane) {
			left, err := guard.Unblock(t.Context(), l, false)
			require.NoError(t, err)
			require.Empty(t, left)
		})
	}
	b.pin(one, propose.PinOptions{})
	require.Equal(t, "# mine\r\nupdates = by-hand\r\nlast = 1\r\n", read())
	unblock()
	require.Equal(t, "# mine\r\nupdates = at-once\r\nlast = 1\r\n", read())
	write("# mine\r\nupdates = at-night\r\nlast = 2\r\n") // the player has thought again
	b.on(func(l *lane.Lane) { require.NoError(t, guard.Block(t.Context(), l)) })
	require.Equal(t, "# mine\r\nupdates = by-hand\r\nlast = 2\r\n", read())
	unblock()
	require.Equal(t, "# mine\r\nupdates = at-night\r\nlast = 2\r\n", read(), "what was there last, not at first")
}

func TestThatABlockMadeFilesReadOnlyIsInNoSnapshot(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("modes are made up here")
	}
	b := newBench(t, game.Settings{Block: []block.Rule{{Kind: block.ReadOnly}}})
	b.put(map[string]string{"a": "a of 1"})
	b.pin(b.snapshot("1"), propose.PinOptions{})
	mode := func() os.FileMode {
		info, err := os.Stat(filepath.Join(b.live, "a"))
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	require.Equal(t, os.FileMode(0o444), mode())
	b.on(func(l *lane.Lane) { require.NoError(t, l.Cache.Forget(t.Context(), l.CacheKey())) }) // it is read anew
	while := b.snapshot("2")
	b.on(func(l *lane.Lane) {
		_, err := guard.Unblock(t.Context(), l, false)
		require.NoError(t, err)
	})
	b.put(map[string]string{"a": "a of 3"})
	b.on(func(l *lane.Lane) { require.NoError(t, b.home.SetOpen(t.Context(), "quay", l.Name, true)) })
	b.pin(while, propose.PinOptions{})
	b.on(func(l *lane.Lane) {
		_, err := guard.Unblock(t.Context(), l, false)
		require.NoError(t, err)
	})
	require.Equal(t, os.FileMode(0o644), mode())
}

// TestAnUndoThatLeadsToAForgottenBuildHoldsNone: the files are as they were, and everything goes on working.
func TestAnUndoThatLeadsToAForgottenBuildHoldsNone(t *testing.T) {
	b := newBench(t, game.Settings{})
	b.put(map[string]string{"a": "a of 1"})
	one := b.snapshot("1")
	b.put(map[string]string{"a": "a of 2"})
	two := b.snapshot("2")
	b.pin(one, propose.PinOptions{})
	b.pin(two, propose.PinOptions{})
	require.NoError(t, b.home.ForgetBuild(t.Context(), one))
	var notes []string
	b.carry(func(l *lane.Lane) (*change.Proposal, error) {
		p, _, err := propose.Undo(t.Context(), l, 0, propose.Ask)
		if err == nil {
			notes = p.Notes
		}
		return p, err
	})
	require.Contains(t, notes, "the build that it was held to before has been forgotten, so it is not held any more")
	require.Equal(t, "a of 1", b.read(b.live, "a"))
	require.False(t, b.held().Held())
	require.Nil(t, b.status().Build)
	b.snapshot("3")
	b.carry(func(l *lane.Lane) (*change.Proposal, error) {
		p, _, err := propose.Undo(t.Context(), l, 0, propose.Ask)
		return p, err
	})
	require.Equal(t, "a of 2", b.read(b.live, "a"))
}

func TestABuildWhoseListIsLostIsPassedOver(t *testing.T) {
	b := newBench(t, game.Settings{})
	b.put(map[string]string{"a": "a of 1"})
	one := b.snapshot("1")
	lost := &state.Build{UID: state.NewUID(), Game: "quay", Label: "lost", Made: time.Now(), Manifest: digest.Of([]byte("lost"))}
	require.NoError(t, b.home.AddBuild(t.Context(), lost))
	var said []string
	b.home.Warn = func(text string) { said = append(said, text) }
	b.put(map[string]string{"a": "a of 2"})
	b.pin(one, propose.PinOptions{})
	require.Equal(t, "a of 1", b.read(b.live, "a"))
	require.Len(t, said, 1)
	require.Contains(t, said[0], "snapshot/lost is left out: the manifest of lost: ")
	b.on(func(l *lane.Lane) {
		_, err := propose.Pin(t.Context(), l, lost, propose.PinOptions{Hold: true})
		require.ErrorIs(t, err, store.ErrMissing)
	})
}

// TestATrimLeavesAllThatIsStillReferredTo: each kind of reference is used after everything else has gone.
func TestATrimLeavesAllThatIsStillReferredTo(t *testing.T) {
	b := newBench(t, game.Settings{Keep: []string{"own/**"}, Guard: []string{"*.dll"}})
	b.put(map[string]string{"a": "a of 1", "b": "b of 1", "x.dll": "x"})
	one := b.snapshot("1")
	b.put(map[string]string{"a": "a of 2", "b": "b of 2", "own/m.txt": "mine"})
	two := b.snapshot("2")
	b.put(map[string]string{"a": "of no use", "c": "of no use"})
	rest := b.snapshot("rest")
	require.NoError(t, os.Remove(filepath.Join(b.live, "c")))
	b.put(map[string]string{"a": "nowhere recorded", "own/m.txt": "mine, too"})
	b.on(func(l *lane.Lane) {
		_, err := record.Guard(t.Context(), l)
		require.NoError(t, err)
	})
	before := b.look()
	add := over(one, "a")
	add.Companions = []state.Companion{{Path: "note.txt", Text: "steady"}}
	b.pin(two, propose.PinOptions{Add: add})
	require.NoError(t, os.Remove(filepath.Join(b.live, "x.dll")))
	require.NoError(t, b.home.ForgetBuild(t.Context(), rest))
	require.NoError(t, upkeep.Trim(t.Context(), b.home, yes, progress.None{}, time.Now))
	b.put(map[string]string{"a": "harm", "b": "harm", "note.txt": "steady"})
	require.NoError(t, os.Remove(filepath.Join(b.live, "note.txt")))
	b.carry(func(l *lane.Lane) (*change.Proposal, error) { return propose.Repair(t.Context(), l, nil) })
	require.Equal(t, "a of 1", b.read(b.live, "a"), "an overlay's")
	require.Equal(t, "b of 2", b.read(b.live, "b"), "the build's")
	require.Equal(t, "steady", b.read(b.live, "note.txt"), "a companion")
	require.Equal(t, "x", b.read(b.live, "x.dll"), "a guarded file")
	require.NoError(t, upkeep.Trim(t.Context(), b.home, yes, progress.None{}, func() time.Time { return time.Now().Add(time.Hour) }))
	b.unpin()
	require.Equal(t, before, b.look(), "what was there before the hold, and is in no build")
}
