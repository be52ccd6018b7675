package upkeep

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/block"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/entry"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/record"
	"morvant/internal/progress"
	"morvant/internal/ref"
	"morvant/internal/resolve"
	"morvant/internal/state"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// traveller is a computer of which backups are taken and put back, with a model of what has been recorded.
type traveller struct {
	*testing.T
	*rand.Rand
	dir, live, cfg string
	home           *game.Home
	recorded       map[string]map[string]string // label → files, of what was recorded and not forgotten
	labels         int
	backups        []backedUp
	did            []string
}

type backedUp struct {
	dir      string
	recorded map[string]map[string]string
}

const (
	own     = "updates = at-once\n"
	blocked = "updates = by-hand\n"
)

func newTraveller(t *testing.T, seed uint64) *traveller {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	v := &traveller{T: t, Rand: rand.New(rand.NewPCG(seed, 1)), dir: dir, live: filepath.Join(dir, "live"), cfg: filepath.Join(dir, "launcher.cfg"), recorded: map[string]map[string]string{}}
	require.NoError(t, os.Mkdir(v.live, 0o755))
	require.NoError(t, os.WriteFile(v.cfg, []byte(own), 0o644))
	v.openHome()
	t.Cleanup(func() { v.home.Close() })
	require.NoError(t, v.home.Create(&game.Game{Name: "quay", Settings: game.Settings{Live: v.live, Block: []block.Rule{
		{Kind: block.Setting, File: v.cfg, Find: `^updates = (\S+)`, Set: "by-hand"},
		{Kind: block.ReadOnly},
	}}}))
	v.play()
	v.snapshot()
	return v
}

func (v *traveller) openHome() {
	v.Helper()
	var err error
	v.home, err = game.OpenHome(v.Context(), filepath.Join(v.dir, "home"))
	require.NoError(v, err)
	if v.home.Older != nil {
		_, err := TakeIn(v.Context(), v.home, time.Now())
		require.NoError(v, err)
	}
}

// on opens the lane, as every run of the program does.
func (v *traveller) on(do func(l *lane.Lane)) {
	v.Helper()
	l, err := entry.Open(v.Context(), v.home, "quay", lane.Options{Who: "test", Meter: progress.None{}, Now: time.Now})
	require.NoError(v, err)
	do(l)
	require.NoError(v, l.Close())
}

func (v *traveller) play() {
	for range 1 + v.IntN(3) {
		name := fmt.Sprintf("f%d", v.IntN(6))
		if v.IntN(5) == 0 {
			_ = os.Remove(filepath.Join(v.live, name))
			continue
		}
		_ = os.Remove(filepath.Join(v.live, name)) // also one that is read-only
		require.NoError(v, os.WriteFile(filepath.Join(v.live, name), []byte(strings.Repeat(fmt.Sprint(v.Uint64()), 1+v.IntN(200))), 0o644))
	}
}

func (v *traveller) files() map[string]string {
	list, err := os.ReadDir(v.live)
	require.NoError(v, err)
	files := map[string]string{}
	for _, e := range list {
		if !e.IsDir() {
			b, err := os.ReadFile(filepath.Join(v.live, e.Name()))
			require.NoError(v, err)
			files[e.Name()] = string(b)
		}
	}
	return files
}

func (v *traveller) snapshot() {
	v.labels++
	label := fmt.Sprintf("s%d", v.labels)
	v.on(func(l *lane.Lane) {
		files := v.files()
		_, err := record.Snapshot(v.Context(), l, record.Wanted{Label: label})
		require.NoError(v, err)
		v.recorded[label] = files
	})
}

func (v *traveller) any() string {
	return slices.Sorted(maps.Keys(v.recorded))[v.IntN(len(v.recorded))]
}

func (v *traveller) build(label string) *state.Build {
	v.Helper()
	r, err := ref.Parse("snapshot/" + label)
	require.NoError(v, err)
	found, err := resolve.Build(v.Context(), v.home, "quay", r)
	require.NoError(v, err, "%s is lost", label)
	return found.Build
}

// pin brings the folder to a build; cut off after some calls, as by a kill, if that is not negative.
func (v *traveller) pin(calls int) {
	label := v.any()
	v.on(func(l *lane.Lane) {
		p, err := propose.Pin(v.Context(), l, v.build(label), propose.PinOptions{Hold: true, Whole: v.IntN(2) == 0, Clean: true})
		if errors.Is(err, store.ErrMissing) { // a known build whose content has gone back in time
			return
		}
		require.NoError(v, err)
		if calls >= 0 {
			volume.Fault = func(string, string) error {
				if calls--; calls < 0 {
					return errKilledHere
				}
				return nil
			}
			defer func() { volume.Fault = nil }()
		}
		if err := change.CarryOut(v.Context(), l, p); err != nil {
			require.ErrorIs(v, err, errKilledHere)
		}
	})
}

var errKilledHere = errors.New("killed here")

func (v *traveller) undo() {
	v.on(func(l *lane.Lane) {
		p, _, err := propose.Undo(v.Context(), l, 0, propose.Recorded)
		if err == nil {
			err = change.CarryOut(v.Context(), l, p)
		}
		if err != nil && !errors.Is(err, state.ErrUnknown) && !errors.Is(err, store.ErrMissing) { // the build that was held then is forgotten or gone
			require.ErrorIs(v, err, lane.ErrNothing)
		}
	})
}

func (v *traveller) forget() {
	if len(v.recorded) < 2 {
		return
	}
	label := v.any()
	b := v.build(label)
	pin, err := v.home.Pin(v.Context(), "quay", "main")
	require.NoError(v, err)
	if pin.Build == b.UID {
		return
	}
	require.NoError(v, v.home.ForgetBuild(v.Context(), b))
	delete(v.recorded, label)
	for i := range v.backups { // what is forgotten may go with the next trim
		delete(v.backups[i].recorded, label)
	}
}

func (v *traveller) unblock() {
	v.on(func(l *lane.Lane) {
		_, err := guard.Unblock(v.Context(), l, false)
		require.NoError(v, err)
		require.NoError(v, v.home.SetOpen(v.Context(), "quay", "main", true))
	})
}

func (v *traveller) trim() {
	err := Trim(v.Context(), v.home, func(*store.TrimPlan) error { return nil }, progress.None{}, time.Now)
	if !errors.Is(err, store.ErrMissing) { // of a build or change whose content has gone back in time: nothing is dropped
		require.NoError(v, err)
	}
}

// backUp copies home, game and the launcher's file.
func (v *traveller) backUp() {
	require.NoError(v, v.home.Close())
	dir := filepath.Join(v.TempDir(), "backup")
	require.NoError(v, os.CopyFS(dir, os.DirFS(v.dir)))
	v.openHome()
	kept := map[string]map[string]string{}
	maps.Copy(kept, v.recorded)
	v.backups = append(v.backups, backedUp{dir, kept})
}

// restore puts something of a backup back: a file of the home, the home, the game, all.
func (v *traveller) restore() {
	if len(v.backups) == 0 {
		return
	}
	b := v.backups[v.IntN(len(v.backups))]
	require.NoError(v, v.home.Close())
	back := func(names ...string) {
		for _, name := range names {
			require.NoError(v, os.RemoveAll(filepath.Join(v.dir, name)))
			from := filepath.Join(b.dir, name)
			info, err := os.Stat(from)
			switch {
			case err != nil:
			case info.IsDir():
				require.NoError(v, os.CopyFS(filepath.Join(v.dir, name), os.DirFS(from)))
			default:
				content, err := os.ReadFile(from)
				require.NoError(v, err)
				require.NoError(v, os.WriteFile(filepath.Join(v.dir, name), content, 0o600))
			}
		}
	}
	what := v.IntN(6)
	v.did = append(v.did, fmt.Sprintf("restore %d", what))
	switch what {
	case 0: // the state alone
		back("home/state.db", "home/state.db-wal", "home/state.db-shm")
	case 1:
		back("home/cache.db", "home/cache.db-wal", "home/cache.db-shm")
	case 2:
		back("home/store/index.db", "home/store/index.db-wal", "home/store/index.db-shm")
	case 3:
		back("home")
		v.recorded = maps.Clone(b.recorded)
	case 4:
		back("live")
	case 5:
		back("home", "live", "launcher.cfg")
		v.recorded = maps.Clone(b.recorded)
	}
	v.openHome()
}

// check looks as the next command does: nothing that was recorded is lost, nothing is unfinished, no block stands that is not known.
func (v *traveller) check() {
	v.Helper()
	v.on(func(l *lane.Lane) {
		require.NoError(v, l.Unfinished)
		for label, files := range v.recorded {
			m, err := v.build(label).ReadManifest(v.Context(), l.Store)
			require.NoError(v, err, label)
			require.Len(v, m.Files, len(files), label)
			for _, f := range m.Files {
				b, err := l.Store.Bytes(v.Context(), f.Digest, 1<<20)
				require.NoError(v, err, "%s of %s", f.Path, label)
				require.Equal(v, files[f.Path], string(b), "%s of %s", f.Path, label)
			}
		}
		holds, err := v.home.Applied(v.Context(), "quay", "main")
		require.NoError(v, err)
		text, err := os.ReadFile(v.cfg)
		require.NoError(v, err)
		require.Contains(v, []string{own, blocked}, string(text))
		if n := guard.NoteIn(l.Root); n != nil && len(holds) == 0 {
			text, _ := json.Marshal(n)
			v.Fatalf("a block stands that nobody knows: %s", text)
		}
		for name := range v.files() {
			info, err := os.Stat(filepath.Join(v.live, name))
			require.NoError(v, err)
			require.True(v, len(holds) > 0 || info.Mode()&0o200 != 0, "%s is read-only, and nothing is blocked", name)
		}
	})
}

func (v *traveller) step() {
	switch n := v.IntN(14); {
	case n < 3:
		v.play()
	case n < 5:
		v.did = append(v.did, "snapshot")
		v.snapshot()
	case n < 6:
		v.did = append(v.did, "pin")
		v.pin(-1)
	case n < 8:
		v.did = append(v.did, "killed pin")
		v.pin(v.IntN(60))
	case n < 9:
		v.did = append(v.did, "undo")
		v.undo()
	case n < 10:
		switch v.IntN(3) {
		case 0:
			v.did = append(v.did, "forget")
			v.forget()
		case 1:
			v.did = append(v.did, "trim")
			v.trim()
		case 2:
			v.did = append(v.did, "unblock")
			v.unblock()
		}
	case n < 12:
		v.did = append(v.did, "back up")
		v.backUp()
	default:
		v.restore()
	}
}

// TestTimeTravelLosesNothing takes backups of home, game or files of the home at random moments and puts them back at random, between
// random commands, some of them killed.
func TestTimeTravelLosesNothing(t *testing.T) {
	howLong := travels
	if text := os.Getenv("MORVANT_TRAVELS"); text != "" { // by hand: MORVANT_TRAVELS=20m
		var err error
		howLong, err = time.ParseDuration(text)
		require.NoError(t, err)
	}
	end := time.Now().Add(howLong)
	for seed := firstSeed; seed < firstSeed+4 || time.Now().Before(end); seed++ {
		ok := t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			v := newTraveller(t, seed)
			defer func() {
				if t.Failed() {
					t.Log(strings.Join(v.did, ", "))
				}
			}()
			for range 40 {
				v.step()
				v.check()
			}
		})
		if !ok {
			break
		}
	}
}
