package game

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/block"
	"morvant/internal/progress"
	"morvant/internal/state"
)

func newHome(t *testing.T) *Home {
	t.Helper()
	h, err := OpenHome(t.Context(), filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { h.Close() })
	return h
}

func TestOneSettingChangesAndTheRestStaysToTheByte(t *testing.T) {
	doc := "# head\nlive = '/games/quay' # where\n\nkeep = [\n  'Mods/**', # mods\n  'Maps/**'\n]\ntitle='Q'\n"
	for _, c := range []struct {
		key   string
		value any
		want  string
	}{
		{"title", "Cinder Quay", "# head\nlive = '/games/quay' # where\n\nkeep = [\n  'Mods/**', # mods\n  'Maps/**'\n]\ntitle = 'Cinder Quay'\n"},
		{"keep", []string{"a"}, "# head\nlive = '/games/quay' # where\n\nkeep = ['a']\ntitle='Q'\n"},
		{"live", "/x", "# head\nlive = '/x' # where\n\nkeep = [\n  'Mods/**', # mods\n  'Maps/**'\n]\ntitle='Q'\n"},
		{"title", nil, "# head\nlive = '/games/quay' # where\n\nkeep = [\n  'Mods/**', # mods\n  'Maps/**'\n]\n"},
		{"program", "bin/q", doc + "program = 'bin/q'\n"},
		{"scratch", nil, doc},
	} {
		got, err := editKey([]byte(doc), c.key, c.value)
		require.NoError(t, err)
		require.Equal(t, c.want, string(got), c.key)
	}
	got, err := editKey([]byte("live = '/a'\n[later]\ntitle = 'other'\n"), "title", "mine")
	require.NoError(t, err)
	require.Equal(t, "live = '/a'\ntitle = 'mine'\n[later]\ntitle = 'other'\n", string(got))
	got, err = editKey([]byte("live = '/a'"), "title", "mine")
	require.NoError(t, err)
	require.Equal(t, "live = '/a'\ntitle = 'mine'\n", string(got))
}

func FuzzSettings(f *testing.F) {
	f.Add([]byte("live = '/games/quay'\nkeep = ['Mods/**']\n"))
	f.Add([]byte("live = '/a'\n[x]\ny = 1\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, err := parseSettings(b); err != nil {
			return
		}
		edited, err := editKey(b, "title", "new title")
		if err != nil {
			t.Fatalf("good settings cannot be edited: %v", err)
		}
		s, err := parseSettings(edited)
		if err != nil || s.Title != "new title" {
			t.Fatalf("edited to %q: %v", edited, err)
		}
	})
}

func TestALockTellsWhoHoldsIt(t *testing.T) {
	h := newHome(t)
	l, err := h.Lock(t.Context(), "quay", "morvant pin", time.Second)
	require.NoError(t, err)
	_, err = h.Lock(t.Context(), "quay", "morvant status", time.Millisecond)
	require.ErrorIs(t, err, ErrBusy)
	require.ErrorContains(t, err, "morvant pin (process")
	require.NoError(t, l.Unlock())
	l, err = h.Lock(t.Context(), "quay", "morvant status", time.Millisecond)
	require.NoError(t, err)
	require.NoError(t, l.Unlock())
}

func TestTheGameAroundAFolderIsFound(t *testing.T) {
	h := newHome(t)
	live, err := h.CheckFolder(t.Context(), "quay", state.MainLane, t.TempDir())
	require.NoError(t, err)
	require.NoError(t, h.Create(&Game{Name: "quay", Settings: Settings{Live: live}}))
	require.NoError(t, os.MkdirAll(filepath.Join(live, "a", "b"), 0o755))
	g, _, err := h.Holding(t.Context(), filepath.Join(live, "a", "b"))
	require.NoError(t, err)
	require.Equal(t, "quay", g.Name)
	g, _, err = h.Holding(t.Context(), filepath.Dir(live))
	require.NoError(t, err)
	require.Nil(t, g)
}

func TestHoldsAndRulesAreRemembered(t *testing.T) {
	h := newHome(t)
	live := t.TempDir()
	require.NoError(t, h.Create(&Game{Name: "quay", Settings: Settings{Live: live}}))
	rules := []block.Rule{{Kind: block.ReadOnly}, {Kind: block.Occupy, Path: "~/staging"}}
	g, err := h.AddBlockRules("quay", rules)
	require.NoError(t, err)
	require.Equal(t, rules, g.Block)
	g, err = h.AddBlockRules("quay", append(rules, block.Rule{Kind: block.Setting, File: "a", Find: `^x = "(\S+)"`, Set: "y"}))
	require.NoError(t, err)
	require.Len(t, g.Block, 3, "none twice")
	again, err := h.Load("quay")
	require.NoError(t, err)
	require.Equal(t, g.Block, again.Block)
	_, err = h.AddBlockRules("quay", []block.Rule{{Kind: "magic"}})
	require.ErrorIs(t, err, ErrSettings)

	holds := []*block.Applied{{Rule: rules[0], Modes: map[string]block.Mode{"a": {Perm: 0o644}}}, {Rule: rules[1], Path: "/x", Aside: "/y", Loose: true}}
	require.NoError(t, h.SetApplied(t.Context(), "quay", state.MainLane, holds))
	back, err := h.Applied(t.Context(), "quay", state.MainLane)
	require.NoError(t, err)
	require.Equal(t, holds, back)
	require.NoError(t, h.SetApplied(t.Context(), "quay", state.MainLane, nil))
	back, err = h.Applied(t.Context(), "quay", state.MainLane)
	require.NoError(t, err)
	require.Empty(t, back)
}

// TestTheSettingsInTheDocumentationAreSettings: as they stand there, they can be copied.
func TestTheSettingsInTheDocumentationAreSettings(t *testing.T) {
	b, err := os.ReadFile(filepath.FromSlash("../../docs/formats.md"))
	require.NoError(t, err)
	_, text, found := strings.Cut(string(b), "## Settings of a game\n\n")
	require.True(t, found)
	text, _, _ = strings.Cut(text, "\nTOML 1.0")
	live := t.TempDir()
	text = strings.Replace(text, "/games/Cinder Quay", filepath.ToSlash(live), 1)
	text = strings.Replace(text, "/home/me/Mods", filepath.ToSlash(live), 1) // a full path, on Windows too
	s, err := parseSettings([]byte(text))
	require.NoError(t, err)
	require.Len(t, s.Block, 4)
	require.Equal(t, []string{"quay-launcher"}, s.Launcher)
	require.Len(t, s.Saves, 1)
	require.Len(t, s.Updating, 1)
}

// TestOthersSeeHowFarTheHolderIs, in the line that they are told.
func TestOthersSeeHowFarTheHolderIs(t *testing.T) {
	h := newHome(t)
	lock, err := h.Lock(t.Context(), "quay", "morvant pin", 0)
	require.NoError(t, err)
	m := lock.Meter(progress.None{})
	m.Begin("Writing", 200<<20)
	m.Advance(50<<20, "a")
	text, pid := HolderOf(h, "quay")
	require.Equal(t, os.Getpid(), pid)
	require.Regexp(t, `^morvant pin \(process \d+, since \d\d:\d\d\), Writing: 25 % of 200 MB$`, text)
	m.Advance(50<<20, "b")
	again, _ := HolderOf(h, "quay")
	require.Equal(t, text, again, "it is not told at every step")
	_, err = h.Lock(t.Context(), "quay", "morvant undo", 0)
	require.ErrorIs(t, err, ErrBusy)
	require.ErrorContains(t, err, "Writing: 25 % of 200 MB")
	require.NoError(t, lock.Unlock())

	lock, err = h.Lock(t.Context(), "quay", "morvant fetch", 0)
	require.NoError(t, err)
	lock.Meter(progress.None{}).Advance(3<<20, "a")
	text, _ = HolderOf(h, "quay")
	require.Contains(t, text, "3 MB")
	require.NoError(t, lock.Unlock())
}
