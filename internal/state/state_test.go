package state

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
)

func build(label string, made time.Time, content string) *Build {
	return &Build{UID: NewUID(), Game: "quay", Label: label, Made: made, Manifest: digest.Of([]byte(content))}
}

func TestRecordingAChangeTwiceRecordsItOnce(t *testing.T) {
	h, err := Open(t.Context(), filepath.Join(t.TempDir(), "state.db"))
	require.NoError(t, err)
	defer h.DB.Close()
	c := &Change{UID: NewUID(), Game: "quay", Lane: MainLane, Made: time.Now(), What: "pin", Build: "1", After: Pin{Build: "x", Since: time.Now().UTC()}}
	require.NoError(t, h.RecordChange(t.Context(), c))
	require.NoError(t, h.RecordChange(t.Context(), c))
	undo := &Change{UID: NewUID(), Game: "quay", Lane: MainLane, Made: time.Now(), What: "undo", Undoes: c.ID, Before: c.After}
	require.NoError(t, h.RecordChange(t.Context(), undo))
	list, err := h.History(t.Context(), "quay", MainLane)
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.Equal(t, undo.ID, list[1].Undone)
	pin, err := h.Pin(t.Context(), "quay", MainLane)
	require.NoError(t, err)
	require.False(t, pin.Held())
	again := &Change{UID: NewUID(), Game: "quay", Lane: MainLane, Made: time.Now(), What: "undo", Undoes: undo.ID, After: c.After}
	require.NoError(t, h.RecordChange(t.Context(), again))
	list, err = h.History(t.Context(), "quay", MainLane)
	require.NoError(t, err)
	require.Zero(t, list[2].Undone, "the pin stands again")
	require.Equal(t, again.ID, list[1].Undone)
}

func TestABuildRecordComesBackAndIsChecked(t *testing.T) {
	b := build("1.1.1", time.Unix(5, 6).UTC(), "x")
	b.Note, b.Files, b.Bytes = "works", 3, 4
	note, err := b.EncodeRecord()
	require.NoError(t, err)
	back, err := DecodeRecord(note)
	require.NoError(t, err)
	b.Record = digest.Of(note)
	require.Equal(t, b, back)
	for _, bad := range []string{"", "{}", `{"format":"morvant-build/2"}`, `{"format":"morvant-build/1","game":"../x","label":"1"}`, `{"format":"morvant-build/1","game":"x","label":"a/b"}`} {
		_, err := DecodeRecord([]byte(bad))
		require.Error(t, err, bad)
	}
}

func FuzzDecodeRecord(f *testing.F) {
	note, err := build("1.1.1", time.Unix(5, 6).UTC(), "x").EncodeRecord()
	require.NoError(f, err)
	f.Add(note)
	f.Add([]byte(`{"format":"morvant-build/1","game":"quay","label":"../../x"}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := DecodeRecord(b)
		if err != nil {
			return
		}
		if CheckName(r.Game) != nil || catalogue.CheckLabel(r.Label) != nil {
			t.Fatalf("accepted %q of %q", r.Label, r.Game)
		}
	})
}

func TestTheNearestNamesComeFirst(t *testing.T) {
	require.Equal(t, []string{"1.1.1", "1.1.0", "1.0.0"}, Nearest("1.1.1a", []string{"0.9.0", "1.0.0", "1.1.0", "1.1.1"}))
	require.Equal(t, "cinder-quay", Nearest("cin", []string{"can", "cinder-quay"})[0])
	require.Empty(t, Nearest("x", nil))
}

// TestAStateKnowsItsOwnRunsOnly: one that is put back, and grows as old in another way, knows what was written in between for lost.
func TestAStateKnowsItsOwnRunsOnly(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	file := filepath.Join(dir, "state.db")
	grow := func(n int) (signed Age) {
		st, err := Open(ctx, file)
		require.NoError(t, err)
		for range n {
			require.NoError(t, st.SetLane(ctx, "quay", MainLane, LaneState{}))
		}
		signed, err = st.Sign(ctx)
		require.NoError(t, err)
		require.NoError(t, st.DB.Close())
		return signed
	}
	lost := func(a Age) bool {
		st, err := Open(ctx, file)
		require.NoError(t, err)
		defer st.DB.Close()
		is, err := st.Lost(ctx, a)
		require.NoError(t, err)
		return is
	}
	first := grow(1)
	old, err := os.ReadFile(file)
	require.NoError(t, err)
	second := grow(1)
	require.False(t, lost(first) || lost(second))
	require.NoError(t, os.WriteFile(file, old, 0o600))
	third := grow(5)
	require.Greater(t, third.Generation, second.Generation)
	require.False(t, lost(first) || lost(third))
	require.True(t, lost(second), "it is not as old, but of another branch of time")
	second.Run = "" // as a version wrote it that signed with no run: only the generation tells
	require.False(t, lost(second))
	second.Home = "another"
	require.False(t, lost(second))
}
