package entry_test

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/block"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/change"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/record"
	"morvant/internal/lane/status"
	"morvant/internal/lanes"
	"morvant/internal/state"
	"morvant/internal/volume"
)

func (b *bench) file(dir, p, content string) {
	b.Helper()
	name := filepath.Join(dir, filepath.FromSlash(p))
	require.NoError(b, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(b, os.WriteFile(name, []byte(content), 0o644))
}

func (b *bench) read(dir, p string) string {
	b.Helper()
	content, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(p)))
	require.NoError(b, err)
	return string(content)
}

// begun lists what has begun and is not over.
func (b *bench) begun() []state.Begun {
	b.Helper()
	list, err := b.home.Begun(b.Context(), "")
	require.NoError(b, err)
	return list
}

func (b *bench) parked(name string) string { return game.ParkedName(b.live, name) }

// newPaired is a bench with two lanes: main, which holds file a as "main", and old,
// held at a snapshot in which it says "old".
func newPaired(t *testing.T, settings game.Settings) *bench {
	t.Helper()
	b := newBench(t, settings)
	b.file(b.live, "a", "old")
	b.file(b.live, "deep/b", "same")
	long := time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC) // not as fresh as the look at it
	for _, p := range []string{"a", "deep/b"} {
		require.NoError(t, os.Chtimes(filepath.Join(b.live, p), long, long))
	}
	b.on(func(l *lane.Lane) {
		s, err := record.Snapshot(t.Context(), l, record.Wanted{Label: "1"})
		require.NoError(t, err)
		o, err := lanes.Create(t.Context(), l, lanes.NewLane{Name: "old"}, func(o *lane.Lane) error {
			p, err := propose.Pin(t.Context(), o, s.Build, propose.PinOptions{Hold: true, Whole: true})
			require.NoError(t, err)
			return change.CarryOut(t.Context(), o, p)
		})
		require.NoError(t, err)
		require.NoError(t, o.Close())
	})
	b.file(b.live, "a", "main")
	return b
}

// change makes another lane the live one, as one run of the program does.
func (b *bench) change(to string) error {
	b.Helper()
	var err error
	b.on(func(l *lane.Lane) {
		var next *lane.Lane
		if next, err = lanes.Switch(b.Context(), l, to); err == nil {
			require.Equal(b, to, next.Name)
			require.NoError(b, next.Close())
		}
	})
	return err
}

func (b *bench) lanes() map[string]*state.Lane {
	b.Helper()
	list, err := b.home.Lanes(b.Context(), "quay")
	require.NoError(b, err)
	out := make(map[string]*state.Lane)
	for _, l := range list {
		out[l.Name] = l
	}
	return out
}

func TestTwoLanesChangePlacesAndKeepWhatTheyAre(t *testing.T) {
	b := newPaired(t, game.Settings{})
	require.True(t, b.lanes()["main"].Follows)
	require.NoError(t, b.change("old"))
	require.Equal(t, "old", b.read(b.live, "a"))
	require.Equal(t, "main", b.read(b.parked("main"), "a"))
	require.NoDirExists(t, b.parked("old"))
	require.Equal(t, lane.Identity{Game: "quay", Lane: "old"}, lane.MarkerOf(b.live))
	require.Equal(t, lane.Identity{Game: "quay", Lane: "main"}, lane.MarkerOf(b.parked("main")))
	lanes := b.lanes()
	require.True(t, lanes["old"].Live)
	require.Empty(t, lanes["old"].Place)
	require.Equal(t, b.parked("main"), lanes["main"].Place)
	require.False(t, lanes["main"].Used.IsZero())
	b.on(func(l *lane.Lane) {
		require.Equal(t, "old", l.Name)
		s, err := status.Of(t.Context(), l, status.Glance)
		require.NoError(t, err)
		require.False(t, s.Drift.Any())
		require.Equal(t, "main", s.Follower)
		tree, err := l.Walk(t.Context())
		require.NoError(t, err)
		require.True(t, lane.AllRead(tree), "renaming a folder is no reason to read its files again")
	})
	require.NoError(t, b.change("main"))
	require.Equal(t, "main", b.read(b.live, "a"))
}

func TestASwitchThatCannotBeChangesNothing(t *testing.T) {
	b := newPaired(t, game.Settings{})
	var unknown *state.UnknownError
	require.ErrorAs(t, b.change("nowhere"), &unknown)
	require.ErrorIs(t, b.change("main"), lane.ErrLive)
	b.file(b.parked("main"), "in the way", "x")
	require.ErrorIs(t, b.change("old"), lane.ErrInTheWay)
	require.NoError(t, os.RemoveAll(b.parked("main")))
	require.NoError(t, os.WriteFile(filepath.Join(b.parked("old"), lane.MarkerFile), []byte("game = 'other'\n"), 0o644))
	require.ErrorIs(t, b.change("old"), lane.ErrNotTheLane)
	require.NoError(t, os.RemoveAll(b.parked("old")))
	require.ErrorIs(t, b.change("old"), lane.ErrGone)
	require.Empty(t, b.begun())
	require.Equal(t, "main", b.read(b.live, "a"))
}

// TestASwitchIsFinishedFromWhereverItWasCutOff puts the folders as a killed run leaves
// them, with and without the call that exchanges two at once.
func TestASwitchIsFinishedFromWhereverItWasCutOff(t *testing.T) {
	for name, cut := range map[string]struct {
		leave func(b *bench)
		live  string
	}{
		"before anything":  {func(*bench) {}, "main"},
		"one renamed":      {func(b *bench) { require.NoError(b, os.Rename(b.live, b.parked("main"))) }, "old"},
		"both renamed":     {func(b *bench) { swap(b, b.parked("main")) }, "old"},
		"exchanged, still": {func(b *bench) { swap(b, b.parked("old")) }, "old"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newPaired(t, game.Settings{})
			require.NoError(t, b.home.Begin(t.Context(), "quay", "", state.BegunSwitch, "", &state.Switch{From: "main", To: "old", Park: b.parked("main"), Place: b.parked("old")}))
			cut.leave(b)
			b.on(func(l *lane.Lane) {
				require.Equal(t, cut.live, l.Name)
				require.Contains(t, strings.Join(l.Recovered, " "), "was interrupted")
			})
			require.Equal(t, cut.live, b.read(b.live, "a"))
			other := map[string]string{"main": "old", "old": "main"}[cut.live]
			require.Equal(t, other, b.read(b.parked(other), "a"))
			b.on(func(l *lane.Lane) { require.Empty(t, l.Recovered, "once is enough") })
		})
	}
}

// swap moves main away to dir and old in.
func swap(b *bench, dir string) {
	tmp := b.live + ".swap"
	require.NoError(b, os.Rename(b.live, tmp))
	require.NoError(b, os.Rename(b.parked("old"), b.live))
	require.NoError(b, os.Rename(tmp, dir))
}

func TestABlockIsThatOfTheLiveLane(t *testing.T) {
	dir := t.TempDir()
	state := filepath.Join(dir, "state.cfg")
	require.NoError(t, os.WriteFile(state, []byte("updates = at-once\n"), 0o644))
	b := newPaired(t, game.Settings{Block: []block.Rule{
		{Kind: block.Setting, File: state, Find: `^updates = (\S+)`, Set: "by-hand"},
		{Kind: block.Occupy, Path: filepath.Join(dir, "staging")},
	}})
	says := func() string { return b.read(dir, "state.cfg") }
	require.Equal(t, "updates = at-once\n", says(), "a lane that is parked blocks nothing")
	require.NoError(t, b.change("old"))
	require.Equal(t, "updates = by-hand\n", says())
	require.FileExists(t, filepath.Join(dir, "staging"))
	require.NoError(t, b.change("main"))
	require.Equal(t, "updates = at-once\n", says())
	require.NoFileExists(t, filepath.Join(dir, "staging"))

	// What somebody changes meanwhile is not put back over their head.
	require.NoError(t, b.change("old"))
	require.NoError(t, os.WriteFile(state, []byte("updates = before-start\n"), 0o644))
	require.NoError(t, b.change("main"))
	require.Equal(t, "updates = before-start\n", says())
}

func TestWhatIsNotHeldFollowsUpdates(t *testing.T) {
	b := newPaired(t, game.Settings{})
	b.carry(func(l *lane.Lane) (*change.Proposal, error) {
		return propose.Pin(t.Context(), l, b.find("1"), propose.PinOptions{Hold: true})
	})
	require.False(t, b.lanes()["main"].Follows, "what is held does not follow")
	b.on(func(l *lane.Lane) {
		o, err := change.Beside(t.Context(), l, "old")
		require.NoError(t, err)
		p, err := propose.Lift(t.Context(), o)
		require.NoError(t, err)
		require.NoError(t, change.CarryOut(t.Context(), o, p))
		require.NoError(t, o.Close())
	})
	require.True(t, b.lanes()["old"].Follows)
}

func TestALaneIsRenamedAdoptedAndRemoved(t *testing.T) {
	b := newPaired(t, game.Settings{})
	b.on(func(l *lane.Lane) {
		o, err := change.Beside(t.Context(), l, "old")
		require.NoError(t, err)
		require.ErrorIs(t, lanes.Rename(t.Context(), o, "main"), state.ErrExists)
		require.ErrorIs(t, lanes.Rename(t.Context(), o, "Bad  Name"), state.ErrName)
		require.NoError(t, lanes.Rename(t.Context(), o, "races"))
		require.NoError(t, o.Close())
		require.Equal(t, lane.Identity{Game: "quay", Lane: "races"}, lane.MarkerOf(b.parked("races")))

		folder := filepath.Join(filepath.Dir(b.live), "found")
		b.file(folder, "a", "found")
		_, err = lanes.Adopt(t.Context(), l, lanes.NewLane{Name: "found", Dir: b.parked("races")}, nil)
		require.ErrorIs(t, err, lane.ErrInTheWay)
		_, err = lanes.Adopt(t.Context(), l, lanes.NewLane{Name: "found", Dir: filepath.Join(b.live, "deep")}, nil)
		require.ErrorIs(t, err, game.ErrFolder)
		f, err := lanes.Adopt(t.Context(), l, lanes.NewLane{Name: "found", Dir: folder}, func(*lane.Lane) error { return nil })
		require.NoError(t, err)
		require.Equal(t, folder, f.Dir)
		kept, err := lanes.Remove(t.Context(), f, true)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		require.NoDirExists(t, folder)
		m, err := kept.ReadManifest(t.Context(), l.Store)
		require.NoError(t, err)
		require.Len(t, m.Files, 1, "all that was in it is recorded")

		_, err = lanes.Remove(t.Context(), l, true)
		require.ErrorIs(t, err, lane.ErrLive)
		list, err := lanes.Glimpses(t.Context(), l)
		require.NoError(t, err)
		require.Len(t, list, 2)
		require.Equal(t, "main", list[0].Name, "the live one first")
		require.Equal(t, "1", list[1].Status.Build.Label)
	})
}

func TestWhatAPinAddsIsPartOfTheTarget(t *testing.T) {
	b := newBench(t, game.Settings{Keep: []string{"mine.cfg"}})
	b.file(b.live, "a", "one")
	b.file(b.live, "lib/x", "one")
	b.on(func(l *lane.Lane) {
		_, err := record.Snapshot(t.Context(), l, record.Wanted{Label: "1"})
		require.NoError(t, err)
	})
	b.file(b.live, "lib/x", "two")
	b.file(b.live, "lib/y", "two")
	b.on(func(l *lane.Lane) {
		_, err := record.Snapshot(t.Context(), l, record.Wanted{Label: "2"})
		require.NoError(t, err)
	})
	b.file(b.live, "mine.cfg", "fog = high\nsea = wild\n")
	two := b.find("2")
	add := state.Pin{
		Overlays:   []state.Overlay{{Build: two.UID, Name: two.Name(), Digest: two.Digest(), Pattern: "lib/*"}},
		Companions: []state.Companion{{Path: "bin/ok.txt", Text: "ok"}},
		Edits:      []state.Edit{{File: "mine.cfg", Find: `^fog = (\w+)`, Set: "low"}, {File: "later.cfg", Find: `^x = (\w+)`, Set: "1"}},
		Keep:       []string{"maps/**"},
	}
	b.carry(func(l *lane.Lane) (*change.Proposal, error) {
		p, err := propose.Pin(t.Context(), l, b.find("1"), propose.PinOptions{Hold: true, Add: add})
		if err == nil {
			require.Len(t, p.Notes, 1, "a file that is not there yet is said")
		}
		return p, err
	})
	require.Equal(t, "two", b.read(b.live, "lib/x"))
	require.Equal(t, "two", b.read(b.live, "lib/y"))
	require.Equal(t, "one", b.read(b.live, "a"))
	require.Equal(t, "ok", b.read(b.live, "bin/ok.txt"))
	require.Equal(t, "fog = low\nsea = wild\n", b.read(b.live, "mine.cfg"))

	b.file(b.live, "later.cfg", "x = 7\n")
	b.file(b.live, "maps/pier.map", "mine")
	drift := func() *status.Drift {
		var d *status.Drift
		b.on(func(l *lane.Lane) {
			s, err := status.Of(t.Context(), l, status.Glance)
			require.NoError(t, err)
			d = s.Drift
		})
		return d
	}
	d := drift()
	require.Len(t, d.Altered, 1, "later.cfg is there now, and does not say what the pin wants")
	require.Equal(t, 1, d.Kept, "the pin's own keep rule")
	b.carry(func(l *lane.Lane) (*change.Proposal, error) { return propose.Repair(t.Context(), l, nil) })
	require.Equal(t, "x = 1\n", b.read(b.live, "later.cfg"))
	require.False(t, drift().Any())
	b.file(b.live, "mine.cfg", "sea = wild\n")
	require.False(t, drift().Any(), "a line that the player took out of a file of theirs stops nothing")
	b.on(func(l *lane.Lane) {
		_, err := propose.Pin(t.Context(), l, two, propose.PinOptions{Hold: true})
		require.NoError(t, err)
	})

	for name, bad := range map[string]state.Pin{
		"nothing matches":  {Overlays: []state.Overlay{{Build: two.UID, Name: "2", Digest: two.Digest(), Pattern: "none/*"}}},
		"no such build":    {Overlays: []state.Overlay{{Build: "x", Name: "9", Pattern: "*"}}},
		"found twice":      {Edits: []state.Edit{{File: "a", Find: `^(one|two)`, Set: "x"}, {File: "a", Find: `^(none)`, Set: "x"}}},
		"climbs out":       {Companions: []state.Companion{{Path: "../x", Text: "x"}}},
		"ours":             {Companions: []state.Companion{{Path: ".morvant/x", Text: "x"}}},
		"no pattern":       {Keep: []string{"["}},
		"a file and a dir": {Companions: []state.Companion{{Path: "a/b", Text: "x"}}},
	} {
		b.on(func(l *lane.Lane) {
			_, err := propose.Pin(t.Context(), l, b.find("1"), propose.PinOptions{Hold: true, Add: bad})
			require.Error(t, err, name)
		})
	}
}

func TestOwnFilesOfAnotherLane(t *testing.T) {
	b := newPaired(t, game.Settings{Keep: []string{"Mods/**"}})
	b.file(b.parked("old"), "Mods/new", "new")
	b.file(b.parked("old"), "Mods/same", "same")
	b.file(b.live, "Mods/same", "same")
	b.file(b.parked("old"), "Mods/other", "theirs")
	b.file(b.live, "Mods/other", "mine")
	b.file(b.parked("old"), "extra", "of no build")
	b.file(b.parked("old"), "blocked/x", "needs a folder")
	b.file(b.live, "blocked", "is a file here")
	b.on(func(l *lane.Lane) {
		from, err := propose.FromLane(t.Context(), l, "old")
		require.NoError(t, err)
		defer from.Close()
		c, err := propose.CompareOwn(t.Context(), l, from, nil)
		require.NoError(t, err)
		require.Len(t, c.New, 2)
		require.Equal(t, 1, c.Same)
		require.Len(t, c.Conflicts, 1)
		for take, want := range map[propose.Take]string{propose.TakeMine: "mine", propose.TakeTheirs: "theirs"} {
			p, err := propose.Carry(t.Context(), l, c, take)
			require.NoError(t, err)
			steps := make(map[string]bool)
			for _, s := range p.Plan.Steps {
				steps[s.Path] = true
			}
			require.Equal(t, want == "theirs", steps["Mods/other"])
			require.True(t, steps["extra"])
			require.False(t, steps["a"], "what is the build's is not carried")
		}
		only, err := propose.CompareOwn(t.Context(), l, from, []string{"Mods/new"})
		require.NoError(t, err)
		require.Len(t, only.New, 1)
		_, err = propose.FromLane(t.Context(), l, "main")
		require.Error(t, err)
	})
	b.on(func(l *lane.Lane) {
		from, err := propose.FromLane(t.Context(), l, "old")
		require.NoError(t, err)
		c, err := propose.CompareOwn(t.Context(), l, from, []string{"Mods/**"})
		require.NoError(t, err)
		p, err := propose.Carry(t.Context(), l, c, propose.TakeTheirs)
		require.NoError(t, err)
		b.file(b.parked("old"), "Mods/new", "changed since it was looked at")
		require.Error(t, change.CarryOut(t.Context(), l, p), "what changed in between is not taken for what was shown")
		require.NoError(t, from.Close())
	})
	require.NoFileExists(t, filepath.Join(b.live, "Mods", "new"))
}

func TestSavesGoWithTheLaneOrStay(t *testing.T) {
	for _, perLane := range []bool{false, true} {
		t.Run(fmt.Sprint("per lane ", perLane), func(t *testing.T) {
			dir := t.TempDir()
			b := newPaired(t, game.Settings{Saves: []string{filepath.Join(dir, "*"), "profiles"}, SavesPerLane: perLane})
			b.file(dir, "1001/a.sav", "main's")
			b.file(b.live, "profiles/p", "main's")
			require.NoError(t, b.change("old"))
			require.Equal(t, "main's", b.read(dir, "1001/a.sav"), "it begins with those there are")
			b.file(dir, "1001/a.sav", "old's")
			require.NoError(t, b.change("main"))
			if perLane {
				require.Equal(t, "main's", b.read(dir, "1001/a.sav"))
				require.NoFileExists(t, filepath.Join(b.parked("old"), "profiles", "p"))
				return
			}
			require.Equal(t, "old's", b.read(dir, "1001/a.sav"))
			require.Equal(t, "main's", b.read(b.parked("old"), "profiles/p"), "shared saves inside the folder came along")
		})
	}
}

func TestAnInterruptedChangeOfSavesIsFinished(t *testing.T) {
	dir := t.TempDir()
	b := newBench(t, game.Settings{Saves: []string{filepath.Join(dir, "*")}})
	b.file(dir, "1001/a.sav", "first")
	b.file(dir, "1002/a.sav", "first")
	b.on(func(l *lane.Lane) {
		first, fresh, err := backup.Make(t.Context(), l, "by hand")
		require.NoError(t, err)
		require.True(t, fresh)
		b.file(dir, "1001/a.sav", "second")
		b.file(dir, "1002/a.sav", "second")
		c, err := backup.Propose(t.Context(), l, first)
		require.NoError(t, err)
		require.False(t, c.Empty())
		// Killed after the first folder: its half is old, the other's is not.
		require.NoError(t, b.home.Begin(t.Context(), "quay", "", state.BegunSaves, "", state.Restoring{Backup: first.ID}))
		require.NoError(t, backup.Archive(l).Carry(t.Context(), c.Returns[:1]))
	})
	b.on(func(l *lane.Lane) { require.Contains(t, strings.Join(l.Recovered, " "), "A change of the saves") })
	require.Equal(t, "first", b.read(dir, "1001/a.sav"))
	require.Equal(t, "first", b.read(dir, "1002/a.sav"))
	list, err := b.home.Backups(t.Context(), "quay")
	require.NoError(t, err)
	require.Len(t, list, 2, "what was there when it was finished is backed up")
}

func TestAFolderIsSharedByLinks(t *testing.T) {
	b := newPaired(t, game.Settings{})
	probe := t.TempDir()
	if err := volume.Link(probe, filepath.Join(t.TempDir(), "link")); err != nil {
		t.Skip("links to folders cannot be made here: ", err)
	}
	b.file(b.live, "Mods/big", "once")
	to := filepath.Join(filepath.Dir(b.live), "shared")
	b.on(func(l *lane.Lane) {
		_, err := lanes.Share(t.Context(), l, "../Mods", to, nil)
		require.ErrorIs(t, err, lanes.ErrShare)
		_, err = lanes.Share(t.Context(), l, "a", to, nil)
		require.ErrorIs(t, err, lanes.ErrShare, "a file is no folder")
		linked, err := lanes.Share(t.Context(), l, "Mods", to, []string{"old"})
		require.NoError(t, err)
		require.Equal(t, []string{"main", "old"}, linked)
	})
	for _, dir := range []string{b.live, b.parked("old")} {
		require.True(t, volume.IsLink(filepath.Join(dir, "Mods")))
		require.Equal(t, "once", b.read(dir, "Mods/big"))
	}
	b.on(func(l *lane.Lane) {
		tree, err := l.Walk(t.Context())
		require.NoError(t, err)
		for _, e := range tree.Entries {
			require.False(t, strings.HasPrefix(e.Path, "Mods"), "a link is a leaf: %s", e.Path)
		}
		require.NoError(t, lanes.Unshare(t.Context(), l, "Mods"))
		require.ErrorIs(t, lanes.Unshare(t.Context(), l, "Mods"), lanes.ErrShare)
	})
	require.False(t, volume.IsLink(filepath.Join(b.live, "Mods")))
	require.Equal(t, "once", b.read(to, "big"), "the other lane still has it")
	require.NoError(t, os.Remove(filepath.Join(b.live, "Mods", "big")))
	require.Equal(t, "once", b.read(b.parked("old"), "Mods/big"))
	_, err := os.Lstat(filepath.Join(b.live, "Mods.morvant-part"))
	require.ErrorIs(t, err, fs.ErrNotExist)
}
