package game

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/saves"
	"morvant/internal/state"
)

func TestLanesAreRemembered(t *testing.T) {
	h := newHome(t)
	live := filepath.Join(t.TempDir(), "Quay")
	g := &Game{Name: "quay", Settings: Settings{Live: live}}
	list, err := h.Lanes(t.Context(), "quay")
	require.NoError(t, err)
	require.Equal(t, []*state.Lane{{Name: state.MainLane, Live: true, LaneState: state.LaneState{Follows: true}}}, list, "a game begins with one")
	require.Equal(t, live, g.Folder(list[0]))

	place := ParkedName(live, "old")
	require.Equal(t, "Quay [old]", filepath.Base(place))
	require.NoError(t, h.SetLane(t.Context(), "quay", state.MainLane, state.LaneState{Follows: true}))
	require.NoError(t, h.SetLane(t.Context(), "quay", "old", state.LaneState{Place: place}))
	s := &state.Switch{From: state.MainLane, To: "old", Park: ParkedName(live, state.MainLane), Place: place, Saves: 7}
	name, err := h.LaneName(t.Context(), "quay")
	require.NoError(t, err)
	require.Equal(t, state.MainLane, name, "nothing has moved yet")

	now := time.Unix(1_950_000_000, 0)
	for range 2 { // as often as it takes
		require.NoError(t, h.RecordSwitch(t.Context(), "quay", s, now))
	}
	old, err := h.Lane(t.Context(), "quay", "")
	require.NoError(t, err)
	require.Equal(t, "old", old.Name)
	require.Equal(t, live, g.Folder(old))
	main, err := h.Lane(t.Context(), "quay", state.MainLane)
	require.NoError(t, err)
	require.Equal(t, s.Park, g.Folder(main))
	require.EqualValues(t, 7, main.LaneState.Saves)
	require.True(t, main.Used.Equal(now))

	h.UseLane(state.MainLane)
	chosen, err := h.Lane(t.Context(), "quay", "")
	require.NoError(t, err)
	require.Equal(t, state.MainLane, chosen.Name)
	h.UseLane("")

	require.ErrorIs(t, h.RenameLane(t.Context(), "quay", "old", state.MainLane), state.ErrExists)
	require.ErrorIs(t, h.RenameLane(t.Context(), "quay", "old", "No/"), state.ErrName)
	require.NoError(t, h.RenameLane(t.Context(), "quay", "old", "races"))
	live2, err := h.Lane(t.Context(), "quay", "")
	require.NoError(t, err)
	require.Equal(t, "races", live2.Name, "the live one stays live under its new name")
	require.NoError(t, h.ForgetLane(t.Context(), "quay", state.MainLane))
	var unknown *state.UnknownError
	_, err = h.Lane(t.Context(), "quay", state.MainLane)
	require.ErrorAs(t, err, &unknown)
}

func TestLanesMayNotOverlap(t *testing.T) {
	h := newHome(t)
	dir := t.TempDir()
	real, err := h.CheckFolder(t.Context(), "quay", state.MainLane, dir)
	require.NoError(t, err)
	require.NoError(t, h.Create(&Game{Name: "quay", Settings: Settings{Live: real}}))
	other, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, h.SetLane(t.Context(), "quay", "old", state.LaneState{Place: other}))
	_, err = h.CheckFolder(t.Context(), "second", state.MainLane, other)
	require.ErrorIs(t, err, ErrFolder)
	_, err = h.CheckFolder(t.Context(), "quay", "old", other)
	require.NoError(t, err, "a lane is not in its own way")
	g, l, err := h.Holding(t.Context(), other)
	require.NoError(t, err)
	require.Equal(t, "quay", g.Name)
	require.Equal(t, "old", l.Name)
}

func TestBackupsAreRemembered(t *testing.T) {
	h := newHome(t)
	b := &saves.Backup{Game: "quay", Lane: state.MainLane, Made: time.Unix(1_950_000_000, 5), Why: "by hand", Build: "1.1.1", Files: 2, Bytes: 9,
		Parts: []saves.Part{{Place: saves.Place{Path: "profiles", Inside: true}}}}
	require.NoError(t, h.AddBackup(t.Context(), b))
	require.NotZero(t, b.ID)
	got, err := h.Backup(t.Context(), "quay", b.ID)
	require.NoError(t, err)
	require.True(t, got.Made.Equal(b.Made))
	got.Made = b.Made
	require.Equal(t, b, got)
	var unknown *state.UnknownError
	_, err = h.Backup(t.Context(), "other", b.ID)
	require.ErrorAs(t, err, &unknown)
	require.NoError(t, h.ForgetBackup(t.Context(), "quay", b.ID))
	again := &saves.Backup{Game: "quay"}
	require.NoError(t, h.AddBackup(t.Context(), again))
	require.Greater(t, again.ID, b.ID, "a number is never used twice")
}
