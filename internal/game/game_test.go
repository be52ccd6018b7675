package game

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/ref"
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

func build(label string, made time.Time, content string) *Build {
	return &Build{UID: NewUID(), Game: "quay", Label: label, Made: made, Manifest: digest.Of([]byte(content))}
}

func TestADateNamesTheNewestBuildOfThatDayOrBefore(t *testing.T) {
	h := newHome(t)
	at := func(day, hour int) time.Time { return time.Date(2031, 8, day, hour, 0, 0, 0, time.Local) }
	for _, b := range []*Build{
		build("1.0.0", at(1, 9), "0"), build("1.1.0", at(5, 9), "1"), build("1.1.1", at(5, 23), "2"), build("1.2.0", at(9, 0), "3"),
	} {
		require.NoError(t, h.AddBuild(t.Context(), b))
	}
	for name, want := range map[string][]string{
		"@2031-08-05": {"1.1.1", "1.1.0"}, "@2031-08-08": {"1.1.1", "1.1.0"}, "@2031-08-04": {"1.0.0"}, "@2031-08-09": {"1.2.0"}, "newest": {"1.2.0"}, "before": {"1.1.1"},
	} {
		found, err := find(t, h, name)
		require.NoError(t, err, name)
		got := []string{found.Label}
		for _, b := range found.SameDay {
			got = append(got, b.Label)
		}
		require.Equal(t, want, got, name)
	}
	_, err := find(t, h, "@2031-07-31")
	require.ErrorIs(t, err, ErrUnknown)
	require.ErrorIs(t, h.AddBuild(t.Context(), build("1.1.0", at(1, 1), "x")), ErrExists)
}

func TestADigestNamesOneContentOrIsAmbiguous(t *testing.T) {
	builds := []*Build{build("a", time.Now(), "same"), build("b", time.Now(), "same"), build("c", time.Now(), "other")}
	found, err := byDigest(ref.Ref{Name: builds[0].Digest().String()[:10]}, builds)
	require.NoError(t, err)
	require.Equal(t, "a", found.Label)
	_, err = byDigest(ref.Ref{Name: "ffffffffffffffff"}, builds)
	require.ErrorIs(t, err, ErrUnknown)
}

func TestRecordingAChangeTwiceRecordsItOnce(t *testing.T) {
	h := newHome(t)
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
	require.Equal(t, []string{"1.1.1", "1.1.0", "1.0.0"}, nearest("1.1.1a", []string{"0.9.0", "1.0.0", "1.1.0", "1.1.1"}))
	require.Equal(t, "cinder-quay", nearest("cin", []string{"can", "cinder-quay"})[0])
	require.Empty(t, nearest("x", nil))
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
	live, err := h.CheckFolder(t.Context(), "quay", MainLane, t.TempDir())
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
