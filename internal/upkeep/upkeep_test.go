package upkeep

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/entry"
	"morvant/internal/lane/record"
	"morvant/internal/progress"
	"morvant/internal/ref"
	"morvant/internal/resolve"
	"morvant/internal/store"
)

// shelf is a home with one game, whose folder holds what each test puts there.
type shelf struct {
	*testing.T
	home *game.Home
	live string
}

func newShelf(t *testing.T) *shelf {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	s := &shelf{T: t, live: filepath.Join(dir, "live")}
	require.NoError(t, os.Mkdir(s.live, 0o755))
	s.home, err = game.OpenHome(t.Context(), filepath.Join(dir, "home"))
	require.NoError(t, err)
	t.Cleanup(func() { s.home.Close() })
	require.NoError(t, s.home.Create(&game.Game{Name: "quay", Settings: game.Settings{Live: s.live}}))
	return s
}

func (s *shelf) snapshot(label string, files map[string]string) {
	s.Helper()
	for p, content := range files {
		require.NoError(s, os.WriteFile(filepath.Join(s.live, p), []byte(content), 0o644))
	}
	l, err := entry.Open(s.Context(), s.home, "quay", lane.Options{Meter: progress.None{}, Now: time.Now})
	require.NoError(s, err)
	_, err = record.Snapshot(s.Context(), l, record.Wanted{Label: label})
	require.NoError(s, err)
	require.NoError(s, l.Close())
}

func (s *shelf) packs() []string {
	s.Helper()
	list, err := filepath.Glob(filepath.Join(s.home.StoreDir(), "packs", "*.pack"))
	require.NoError(s, err)
	return list
}

func TestShowTellsWhatEachBuildAloneTakes(t *testing.T) {
	s := newShelf(t)
	s.snapshot("1", map[string]string{"same": "shared by both", "a": "only in one"})
	require.NoError(t, os.Remove(filepath.Join(s.live, "a")))
	s.snapshot("2", map[string]string{"b": "only in the second"})
	o, err := Show(t.Context(), s.home)
	require.NoError(t, err)
	require.Len(t, o.Builds, 2)
	require.Equal(t, []string{"2", "1"}, []string{o.Builds[0].Label, o.Builds[1].Label})
	// Each build's own: its file, its manifest and its times.
	for _, b := range o.Builds {
		require.Greater(t, b.OnlyPlain, b.Bytes-int64(len("shared by both")))
	}
	require.Equal(t, o.Builds[0].Bytes+o.Builds[1].Bytes, o.Content)
	require.Positive(t, o.Live)
	require.LessOrEqual(t, o.Live, o.Usage.Bytes)
}

func TestTrimDoesNothingThatIsNotApproved(t *testing.T) {
	s := newShelf(t)
	s.snapshot("1", map[string]string{"a": "first"})
	found, err := resolve.Build(t.Context(), s.home, "quay", ref.Ref{Name: "1"})
	require.NoError(t, err)
	require.NoError(t, s.home.ForgetBuild(t.Context(), found.Build))
	before := s.packs()
	no := errors.New("no")
	var planned *store.TrimPlan
	require.ErrorIs(t, Trim(t.Context(), s.home, func(p *store.TrimPlan) error { planned = p; return no }, progress.None{}, time.Now), no)
	require.Positive(t, planned.Freed)
	require.Equal(t, before, s.packs())
	require.NoError(t, Trim(t.Context(), s.home, func(*store.TrimPlan) error { return nil }, progress.None{}, time.Now))
	require.Empty(t, s.packs())
	require.NoError(t, Trim(t.Context(), s.home, func(p *store.TrimPlan) error {
		require.True(t, p.Empty())
		return nil
	}, progress.None{}, time.Now))
}

func TestTrimRefusesToGoByADamagedList(t *testing.T) {
	s := newShelf(t)
	s.snapshot("1", map[string]string{"a": "first"})
	for _, p := range s.packs() {
		b, err := os.ReadFile(p)
		require.NoError(t, err)
		for i := 100; i < len(b)-400; i += 40 {
			b[i] ^= 1
		}
		require.NoError(t, os.WriteFile(p, b, 0o644))
	}
	err := Trim(t.Context(), s.home, func(*store.TrimPlan) error { return nil }, progress.None{}, time.Now)
	require.ErrorContains(t, err, "1 of quay")
	require.NotEmpty(t, s.packs())
}

func TestCheckFindsNothingWrongWithAWholeStore(t *testing.T) {
	s := newShelf(t)
	s.snapshot("1", map[string]string{"a": "first", "b": "second"})
	h, err := Check(t.Context(), s.home, false, progress.None{})
	require.NoError(t, err)
	require.Equal(t, Health{Packs: 1, Records: 5, Bytes: h.Bytes}, *h)
	require.Positive(t, h.Bytes)
}

func TestCheckMendsAPackThatIsGone(t *testing.T) {
	s := newShelf(t)
	s.snapshot("1", map[string]string{"a": "still here", "b": "will be changed"})
	require.NoError(t, os.WriteFile(filepath.Join(s.live, "b"), []byte("changed"), 0o644))
	for _, p := range s.packs() {
		require.NoError(t, os.Remove(p))
	}
	h, err := Check(t.Context(), s.home, false, progress.None{})
	require.NoError(t, err)
	require.True(t, h.Rebuilt, "an index that names packs which are gone is made anew")
	require.Positive(t, h.Unmended(), "the list of a build that its folder has left is lost")
	// A snapshot of what is there makes a whole build again.
	s.snapshot("2", nil)
	found, err := resolve.Build(t.Context(), s.home, "quay", ref.Ref{Name: "1"})
	require.NoError(t, err)
	require.NoError(t, s.home.ForgetBuild(t.Context(), found.Build))
	h, err = Check(t.Context(), s.home, false, progress.None{})
	require.NoError(t, err)
	require.Empty(t, h.Losses)
	require.Zero(t, h.Damaged)
}
