package names

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/state"
)

const head = "format = 'morvant-names/1'\n"

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	dir := t.TempDir()
	e := Entry{Label: "2.0", Note: "n", Date: Day(time.Date(2031, 8, 5, 0, 0, 0, 0, time.Local)), Components: map[string]string{"base": "12"}}
	require.NoError(t, Set(dir, e))
	require.NoError(t, Set(dir, Entry{Label: "2.1", Date: time.Date(2031, 9, 5, 12, 0, 0, 0, time.UTC)}))
	lists, broken, err := Read(dir)
	require.NoError(t, err)
	require.Empty(t, broken)
	require.Len(t, lists, 1)
	require.Len(t, lists[0].Builds, 2)
	when, dated := lists[0].Builds[0].When()
	require.True(t, dated)
	require.Equal(t, "2031-08-05", when.Format(time.DateOnly))
	require.Equal(t, map[string]string{"base": "12"}, lists[0].Builds[0].Components)
	require.NoError(t, Remove(dir, Own))
	require.ErrorIs(t, Remove(dir, Own), state.ErrUnknown)
}

func TestEntriesFitBuilds(t *testing.T) {
	m := digest.Of([]byte("base"))
	release := time.Date(2031, 8, 5, 9, 0, 0, 0, time.Local)
	b := &state.Build{Label: "1.1.0", Channel: "public", Made: release, Components: []catalogue.Part{{Name: "base", Manifest: m}, {Name: "voices", Manifest: digest.Of([]byte("v"))}}}
	for text, fits := range map[string]bool{
		"date = 2031-08-05":                                               true,
		"date = 2031-08-06":                                               false,
		"date = 2031-08-06T08:00:00":                                      true,
		"date = 2031-08-06T10:00:00":                                      false,
		"digest = '" + b.Digest().String() + "'":                          true,
		"digest = '" + b.Digest().String()[:6] + "'":                      true,
		"digest = '000000'":                                               false,
		"components = { base = '" + m.String() + "' }":                    true,
		"components = { base = '" + m.String() + "', voices = '12' }":     false,
		"components = { base = '" + m.String() + "' }\ndate = 2020-01-01": true,
		"id = '4711'":                    false,
		"id = '4711'\ndate = 2031-08-05": false,
	} {
		l, err := Decode("x", []byte(head+"[[build]]\nlabel = 'a'\n"+text))
		require.NoError(t, err, text)
		require.Equal(t, fits, l.Builds[0].fits(b), text)
		again := &state.Build{Fragment: true, Made: release}
		require.False(t, l.Builds[0].fits(again), "what is no build has no name")
	}
}

func TestADoubleMatchGivesNoName(t *testing.T) {
	l, err := Decode("x", []byte(head+"[[build]]\nlabel = 'a'\ndate = 2031-08-05\n[[build]]\nlabel = 'b'\ndate = 2031-09-05"))
	require.NoError(t, err)
	at := func(month time.Month, label string) *state.Build {
		return &state.Build{Label: label, Made: time.Date(2031, month, 5, 9, 0, 0, 0, time.Local), Manifest: digest.Of([]byte(label))}
	}
	builds := []*state.Build{at(8, "1"), at(8, "2"), at(9, "3")}
	Give([]*List{l}, builds)
	require.Empty(t, builds[0].Also)
	require.Empty(t, builds[1].Also)
	require.Equal(t, []string{"b"}, builds[2].Also)
	same := at(8, "1")
	require.True(t, (&Meant{Builds: []*state.Build{builds[0], same}}).Clear(), "of one content")
}

func FuzzList(f *testing.F) {
	f.Add([]byte(head + "[[build]]\nlabel = 'a'\ndate = 2031-08-05\nnote = 'x'\n"))
	f.Add([]byte(head + "[[build]]\nlabel = 'a'\ncomponents = { base = '12' }\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := Decode("x", b)
		if err != nil {
			return
		}
		for _, e := range l.Builds {
			require.NoError(t, catalogue.CheckLabel(e.Label))
			require.NoError(t, catalogue.CheckText(e.Note))
		}
	})
}
