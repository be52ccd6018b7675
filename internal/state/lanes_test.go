package state

import (
	"encoding/json"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/block"
	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/saves"
)

func newState(t *testing.T) *State {
	t.Helper()
	st, err := Open(t.Context(), filepath.Join(t.TempDir(), "state.db"))
	require.NoError(t, err)
	t.Cleanup(func() { st.DB.Close() })
	return st
}

func laneNames(t *testing.T, st *State) (names []string) {
	t.Helper()
	list, err := st.Lanes(t.Context(), "quay")
	require.NoError(t, err)
	for _, l := range list {
		names = append(names, l.Name)
	}
	return names
}

func TestAGameHasAMainLaneFromTheBeginning(t *testing.T) {
	st, ctx := newState(t), t.Context()
	list, err := st.Lanes(ctx, "quay")
	require.NoError(t, err)
	require.Equal(t, []*Lane{{Name: MainLane, Live: true, LaneState: LaneState{Follows: true}}}, list)
	// As soon as something holds it, it follows nothing.
	require.NoError(t, st.RecordChange(ctx, &Change{UID: "u1", Game: "quay", Lane: MainLane, Made: time.Unix(1, 0), What: ChangePin, After: Pin{Build: "b", Since: time.Unix(1, 0).UTC()}}))
	list, err = st.Lanes(ctx, "quay")
	require.NoError(t, err)
	require.False(t, list[0].Follows)
	require.True(t, list[0].Pin.Held())
}

func TestASwitchIsRememberedAtEveryStep(t *testing.T) {
	st, ctx := newState(t), t.Context()
	require.NoError(t, st.SetLane(ctx, "quay", "old", LaneState{Place: "/g/Quay [old]"}))
	require.NoError(t, st.SetLane(ctx, "quay", "work", LaneState{Place: "/g/Quay [work]"}))
	require.Equal(t, []string{MainLane, "old", "work"}, laneNames(t, st))
	s := &Switch{From: MainLane, To: "old", Park: "/g/Quay [main]", Place: "/g/Quay [old]", Saves: 7, UID: "u"}
	at := time.Unix(50, 0).UTC()
	require.NoError(t, st.RecordSwitch(ctx, "quay", s, at))
	list, err := st.Lanes(ctx, "quay")
	require.NoError(t, err)
	require.Equal(t, "old", list[0].Name)
	require.True(t, list[0].Live)
	require.Empty(t, list[0].Place, "the live lane stands at the live path")
	require.Equal(t, LaneState{Place: "/g/Quay [main]", Used: at, Saves: 7}, list[1].LaneState)
	require.Equal(t, LaneState{Place: "/g/Quay [work]"}, list[2].LaneState, "the third is left alone")

	// Back, to a lane whose folder is a link: it keeps its place.
	require.NoError(t, st.RecordSwitch(ctx, "quay", &Switch{From: "old", To: MainLane, Park: "/g/Quay [old]", ToLinked: true}, at))
	list, err = st.Lanes(ctx, "quay")
	require.NoError(t, err)
	require.Equal(t, MainLane, list[0].Name)
	require.Equal(t, "/g/Quay [main]", list[0].Place)
}

func TestALaneKeepsWhatIsItsOwnUnderAnotherName(t *testing.T) {
	st, ctx := newState(t), t.Context()
	require.NoError(t, st.SetLane(ctx, "quay", "old", LaneState{}))
	c := &Change{UID: "u1", Game: "quay", Lane: "old", Made: time.Unix(1, 0), What: ChangeRepair, Build: "1"}
	require.NoError(t, st.RecordChange(ctx, c))
	require.NoError(t, st.Begin(ctx, "quay", "old", BegunBlock, "u2", true))
	holds := []*block.Applied{{Rule: block.Rule{Kind: block.ReadOnly}}}
	require.NoError(t, st.SetApplied(ctx, "quay", "old", holds))

	require.ErrorIs(t, st.RenameLane(ctx, "quay", "old", MainLane), ErrExists)
	require.ErrorIs(t, st.RenameLane(ctx, "quay", "old", "Old  Lane"), ErrName)
	require.NoError(t, st.RenameLane(ctx, "quay", "old", "older"))
	require.Equal(t, []string{MainLane, "older"}, laneNames(t, st))
	history, err := st.History(ctx, "quay", "older")
	require.NoError(t, err)
	require.Len(t, history, 1)
	require.Equal(t, ChangeRepair, history[0].What)
	applied, err := st.Applied(ctx, "quay", "older")
	require.NoError(t, err)
	require.Equal(t, holds, applied)
	begun, err := st.Begun(ctx, "quay")
	require.NoError(t, err)
	require.Equal(t, []Begun{{ID: 1, Game: "quay", Lane: "older", Kind: BegunBlock, UID: "u2", Body: json.RawMessage("true"), Computer: st.Computer}}, begun)

	require.NoError(t, st.RenameLane(ctx, "quay", MainLane, "first"))
	require.Equal(t, "first", laneNames(t, st)[0], "the live one, still")

	require.NoError(t, st.ForgetLane(ctx, "quay", "older"))
	require.Equal(t, []string{"first"}, laneNames(t, st))
	history, err = st.History(ctx, "quay", "older")
	require.NoError(t, err)
	require.Empty(t, history)
}

func TestWhatHasBegunIsNotedOnceForEachKind(t *testing.T) {
	st, ctx := newState(t), t.Context()
	st.Computer = "ada-pc"
	require.NoError(t, st.Begin(ctx, "quay", MainLane, BegunChange, "a", map[string]int{"n": 1}))
	require.NoError(t, st.Begin(ctx, "quay", MainLane, BegunChange, "b", map[string]int{"n": 2}))
	require.NoError(t, st.Begin(ctx, "pier", MainLane, BegunFetch, "c", nil))
	list, err := st.Begun(ctx, "")
	require.NoError(t, err)
	require.Equal(t, []Begun{
		{ID: list[0].ID, Game: "pier", Lane: MainLane, Kind: BegunFetch, UID: "c", Body: json.RawMessage("null"), Computer: "ada-pc"},
		{ID: 1, Game: "quay", Lane: MainLane, Kind: BegunChange, UID: "b", Body: json.RawMessage(`{"n":2}`), Computer: "ada-pc"},
	}, list)
	require.NoError(t, st.End(ctx, "quay", MainLane, BegunBlock), "nothing of that kind had begun")
	require.NoError(t, st.End(ctx, "quay", MainLane, BegunChange))
	list, err = st.Begun(ctx, "quay")
	require.NoError(t, err)
	require.Empty(t, list)
	require.Error(t, st.Begin(ctx, "quay", MainLane, BegunChange, "d", func() {}), "this is no JSON")

	fact, err := st.Fact(ctx, "x")
	require.NoError(t, err)
	require.Empty(t, fact)
	require.NoError(t, st.SetFact(ctx, "x", "1"))
	require.NoError(t, st.SetFact(ctx, "x", "2"))
	fact, err = st.Fact(ctx, "x")
	require.NoError(t, err)
	require.Equal(t, "2", fact)
}

func TestBackupsOfSavesOutliveTheirLane(t *testing.T) {
	st, ctx := newState(t), t.Context()
	for i, lane := range []string{"old", MainLane} {
		b := &saves.Backup{Game: "quay", Lane: lane, Made: time.Unix(int64(i), 0), Why: "before", Parts: []saves.Part{{Place: saves.Place{Path: "/home/s"}, Manifest: digest.Of([]byte(lane))}}, Files: 1, Bytes: 2}
		require.NoError(t, st.AddBackup(ctx, b))
		require.Equal(t, int64(i+1), b.ID)
	}
	require.NoError(t, st.ForgetLane(ctx, "quay", "old"))
	list, err := st.Backups(ctx, "quay")
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.Equal(t, MainLane, list[0].Lane, "the newest first")
	one, err := st.Backup(ctx, "quay", 1)
	require.NoError(t, err)
	require.Equal(t, list[1], one)
	_, err = st.Backup(ctx, "pier", 1)
	require.ErrorIs(t, err, ErrUnknown)
	require.NoError(t, st.ForgetBackup(ctx, "quay", 1))
	_, err = st.Backup(ctx, "quay", 1)
	require.ErrorIs(t, err, ErrUnknown)
}

// TestNotesOfEarlierVersionsAreRead begins with a state in which switches, saves and shares were noted in places of their own.
func TestNotesOfEarlierVersionsAreRead(t *testing.T) {
	ctx, file := t.Context(), filepath.Join(t.TempDir(), "state.db")
	before := database.Schema{Steps: schema.Steps[:12]}
	db, err := database.Open(ctx, file, before)
	require.NoError(t, err)
	for _, query := range []string{
		`INSERT INTO begun VALUES ('quay', 'main', 'change', 'u1', '{"uid":"u1"}'), ('quay', 'main', 'tied', 'u1', '{"game":"pier","uid":"u2"}'), ('quay', 'main', 'let-update', 'u3', 'false')`,
		`INSERT INTO restoring VALUES ('quay', '{"backup":3,"places":[{"path":"/x"}],"uid":"r"}')`,
		`INSERT INTO live VALUES ('quay', 'main', '{"from":"main","to":"old","park":"/p","place":"/o","uid":"s"}'), ('pier', 'main', '')`,
		`INSERT INTO lane (game, name, pin, body) VALUES ('quay', 'main', '{}', '{"shares":[{"path":"a","target":"/t"},{"path":"b","target":"/u","from":"/l/b","copied":true}]}')`,
	} {
		_, err := db.ExecContext(ctx, query)
		require.NoError(t, err, query)
	}
	require.NoError(t, db.Close())
	st, err := Open(ctx, file)
	require.NoError(t, err)
	t.Cleanup(func() { st.DB.Close() })
	list, err := st.Begun(ctx, "")
	require.NoError(t, err)
	var kinds []BegunKind
	bodies := map[BegunKind]string{}
	for _, b := range list {
		require.Equal(t, "quay", b.Game)
		kinds, bodies[b.Kind] = append(kinds, b.Kind), string(b.Body)
	}
	require.Equal(t, []BegunKind{BegunSwitch, BegunShare, BegunSaves, BegunChange, BegunLetUpdate, BegunTied}, kinds, "what may be a part of another comes first")
	require.JSONEq(t, `{"changes":[{"game":"quay","uid":"u1"},{"game":"pier","uid":"u2"}]}`, bodies[BegunTied])
	require.JSONEq(t, `{"path":"b","target":"/u","from":"/l/b","copied":true}`, bodies[BegunShare])
	require.JSONEq(t, `{"backup":3,"places":[{"path":"/x"}],"uid":"r"}`, bodies[BegunSaves])
	require.JSONEq(t, `{"from":"main","to":"old","park":"/p","place":"/o","uid":"s"}`, bodies[BegunSwitch])
	live, err := st.LiveLane(ctx, "quay")
	require.NoError(t, err)
	require.Equal(t, "main", live)
}

func TestAForgottenGameLeavesNothing(t *testing.T) {
	st, ctx := newState(t), t.Context()
	b := build("1.0", time.Unix(1, 0), "x")
	require.NoError(t, st.AddBuild(ctx, b))
	require.NoError(t, st.SetNote(ctx, b, "mine"))
	c := &Change{UID: "u", Game: "quay", Lane: MainLane, Made: time.Unix(1, 0), What: ChangePin, After: Pin{Build: b.UID, Since: time.Unix(1, 0).UTC()}}
	require.NoError(t, st.RecordChange(ctx, c))
	require.NoError(t, st.SetOutput(ctx, c.ID, "it said"))
	text, err := st.Output(ctx, "quay", c.ID)
	require.NoError(t, err)
	require.Equal(t, "it said", text)
	_, err = st.Output(ctx, "pier", c.ID)
	require.ErrorIs(t, err, ErrUnknown)
	require.NoError(t, st.ReadAll(ctx, []string{"quay"}))

	n, err := st.ForgetChanges(ctx, "quay", time.Unix(1, 0))
	require.NoError(t, err)
	require.Zero(t, n, "it was not made before that")
	n, err = st.ForgetChanges(ctx, "quay", time.Unix(2, 0))
	require.NoError(t, err)
	require.Equal(t, int64(1), n)

	require.NoError(t, st.ForgetGame(ctx, "quay"))
	for _, table := range []string{"build", "lane", "change", "own_note", "block", "live", "saves", "operation"} {
		var n int
		require.NoError(t, st.DB.QueryRowContext(ctx, "SELECT count(*) FROM "+table).Scan(&n))
		require.Zero(t, n, table)
	}
}

func TestWhatCannotBeReadIsDamage(t *testing.T) {
	st, ctx := newState(t), t.Context()
	require.NoError(t, st.SetLane(ctx, "quay", MainLane, LaneState{}))
	_, err := st.DB.ExecContext(ctx, `UPDATE lane SET pin = '{'`)
	require.NoError(t, err)
	_, err = st.Lanes(ctx, "quay")
	require.ErrorIs(t, err, database.ErrDamaged)
	_, err = st.Pin(ctx, "quay", MainLane)
	require.ErrorIs(t, err, database.ErrDamaged)
	require.ErrorIs(t, st.ReadAll(ctx, []string{"quay"}), database.ErrDamaged)
	_, err = st.DB.ExecContext(ctx, `INSERT INTO block (game, lane, body) VALUES ('quay', 'main', '[')`)
	require.NoError(t, err)
	_, err = st.Applied(ctx, "quay", MainLane)
	require.ErrorIs(t, err, database.ErrDamaged)
}
