package resolve

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/ref"
	"morvant/internal/state"
)

func newHome(t *testing.T) *game.Home {
	t.Helper()
	h, err := game.OpenHome(t.Context(), filepath.Join(t.TempDir(), "home"))
	require.NoError(t, err)
	t.Cleanup(func() { h.Close() })
	return h
}

func build(label string, made time.Time, content string) *state.Build {
	return &state.Build{UID: state.NewUID(), Game: "quay", Label: label, Made: made, Manifest: digest.Of([]byte(content))}
}

// offer is a build of a feed's channel, in short.
type offer struct{ channel, label, day, content string }

// addFeed puts the copy of a feed into the home, as a refresh leaves it.
func addFeed(t *testing.T, h *game.Home, name string, offers ...offer) {
	t.Helper()
	dir := filepath.Join(h.FeedsDir("quay"), name)
	put := func(path string, b []byte) {
		file := filepath.Join(dir, filepath.FromSlash(path))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, b, 0o644))
	}
	described := &catalogue.Feed{Format: catalogue.FeedFormat, Name: name, Game: "quay", Key: "k", Serial: 1}
	channels := make(map[string]*catalogue.Channel)
	for _, o := range offers {
		c := channels[o.channel]
		if c == nil {
			c = &catalogue.Channel{Format: catalogue.ChannelFormat, Feed: name, Channel: o.channel, Serial: 1}
			channels[o.channel] = c
			described.Channels = append(described.Channels, catalogue.Line{Name: o.channel})
		}
		date, err := time.ParseInLocation("2006-01-02 15", o.day, time.Local)
		require.NoError(t, err)
		c.Builds = append(c.Builds, catalogue.Build{Label: o.label, Date: date.UTC(), Components: []catalogue.Part{
			{Name: "base", Manifest: digest.Of([]byte(o.content)), Files: 1, Bytes: 10},
			{Name: "voices", Manifest: digest.Of([]byte("voices" + o.content)), Files: 2, Bytes: 5},
		}})
	}
	b, err := described.Encode()
	require.NoError(t, err)
	put(catalogue.FeedFile, b)
	for channel, c := range channels {
		b, err := c.Encode()
		require.NoError(t, err)
		put(catalogue.ChannelFile(channel), b)
	}
	b, err = json.Marshal(map[string]any{"addresses": []string{"/nowhere"}, "key": "k", "added": time.Now()})
	require.NoError(t, err)
	put("subscription.json", b)
}

// find finds what a text names.
func find(t *testing.T, h *game.Home, text string) (Found, error) {
	t.Helper()
	r, err := ref.Parse(text)
	if err != nil {
		return Found{}, err
	}
	return Build(t.Context(), h, "quay", r)
}

func quayFeed(t *testing.T, h *game.Home) {
	addFeed(t, h, "archive",
		offer{"public", "1.0", "2031-05-20 09", "one"},
		offer{"public", "1.1.0", "2031-08-05 09", "one one"},
		offer{"public", "1.1.1", "2031-08-05 17", "one one one"},
		offer{"public", "1.2", "2031-11-02 09", "two"},
		offer{"preview", "2.0", "2031-12-01 09", "preview"})
}

func TestBuildsAreFoundInFeedsByEveryName(t *testing.T) {
	h := newHome(t)
	quayFeed(t, h)
	snapshot := build("1.2", time.Date(2032, 1, 1, 0, 0, 0, 0, time.Local), "my own")
	require.NoError(t, h.AddBuild(t.Context(), snapshot))
	for ref, want := range map[string]string{
		"1.1.0": "public/1.1.0", "public/1.1.0": "public/1.1.0", "2.0": "preview/2.0", "preview/newest": "preview/2.0",
		"newest": "public/1.2", "before": "public/1.1.1", "@2031-08-05": "public/1.1.1", "@2031-10-01": "public/1.1.1",
		"1.2": "snapshot/1.2", "public/1.2": "public/1.2", "snapshot/newest": "snapshot/1.2", "snapshot/@2032-01-01": "snapshot/1.2",
	} {
		found, err := find(t, h, ref)
		require.NoError(t, err, ref)
		require.Equal(t, want, found.Name(), ref)
	}
	found, err := find(t, h, "@2031-08-05")
	require.NoError(t, err)
	require.Equal(t, "1.1.0", found.SameDay[0].Label)
	require.Equal(t, "1.0", found.Earlier.Label)
	require.Equal(t, "1.2", found.Later.Label)
	found, err = find(t, h, "1.2")
	require.NoError(t, err)
	require.Len(t, found.Others, 1, "the feed's build of that name is named")
	for _, ref := range []string{"9.9", "preview/1.0", "nowhere/1.0", "@2031-01-01", "snapshot/1.0", "@soon"} {
		_, err := find(t, h, ref)
		require.Error(t, err, ref)
	}
}

func TestFeedsThatDisagreeMustBeToldApart(t *testing.T) {
	h := newHome(t)
	quayFeed(t, h)
	addFeed(t, h, "friend", offer{"public", "1.0", "2031-05-20 09", "one"}, offer{"public", "1.2", "2031-11-02 09", "changed"})
	found, err := find(t, h, "1.0")
	require.NoError(t, err)
	require.Len(t, found.Feeds, 2, "the same from two feeds is one build")
	_, err = find(t, h, "1.2")
	var ambiguous *state.AmbiguousError
	require.ErrorAs(t, err, &ambiguous)
	require.Len(t, ambiguous.Labels, 2)
	list, err := h.Builds(t.Context(), "quay")
	require.NoError(t, err)
	require.Len(t, list, 6)
	_, err = find(t, h, "="+found.Digest().String()[:8])
	require.NoError(t, err)
}

// TestAnotherFeedDoesNotDecideWhatNewestMeans: not by a channel of the same name, a later
// date, or a build that is called like one of the words.
func TestAnotherFeedDoesNotDecideWhatNewestMeans(t *testing.T) {
	h := newHome(t)
	quayFeed(t, h)
	addFeed(t, h, "friend", offer{"public", "9.9", "2099-01-01 09", "theirs"}, offer{"public", "1.1.5", "2031-08-05 23", "theirs too"},
		offer{"nightly", "3", "2031-12-24 09", "night"})
	for ref, want := range map[string]string{
		"newest": "public/1.2", "public/newest": "public/1.2", "before": "public/1.1.1", "@2031-08-05": "public/1.1.1", "public/@2100-01-01": "public/1.2",
		"9.9": "public/9.9", "nightly/newest": "nightly/3", "preview/newest": "preview/2.0",
	} {
		found, err := find(t, h, ref)
		require.NoError(t, err, ref)
		require.Equal(t, want, found.Name(), ref)
		if strings.Contains(want, "public/1") {
			require.Equal(t, "archive", found.Of, ref)
		} else {
			require.Empty(t, found.Of, ref)
		}
	}
	// Held to a build of the friend's, its feed decides.
	found, err := find(t, h, "1.1.5")
	require.NoError(t, err)
	held := found.With([]string{"base"})
	held.Manifest, held.Record = digest.Of([]byte("composed")), digest.Of([]byte("r"))
	require.NoError(t, h.AddBuild(t.Context(), held))
	require.NoError(t, h.RecordChange(t.Context(), &state.Change{UID: state.NewUID(), Game: "quay", Lane: state.MainLane, Made: time.Now(), What: "pin", After: state.Pin{Build: held.UID, Since: time.Now().UTC()}}))
	found, err = find(t, h, "newest")
	require.NoError(t, err)
	require.Equal(t, "9.9", found.Label)
	require.Equal(t, "friend", found.Of)
}

func TestWordsAreNoLabelsAndNoChannels(t *testing.T) {
	for _, label := range []string{catalogue.Newest, catalogue.Before, state.Here} {
		require.ErrorIs(t, catalogue.CheckLabel(label), catalogue.ErrName, label)
		require.Error(t, catalogue.CheckLabel(label))
	}
	for _, channel := range []string{state.SnapshotLine, "lane"} {
		require.ErrorIs(t, catalogue.CheckChannel(channel), catalogue.ErrName, channel)
	}
	h := newHome(t)
	quayFeed(t, h)
	var told []string
	h.Warn = func(text string) { told = append(told, text) }
	addFeed(t, h, "friend", offer{"snapshot", "1.0", "2031-12-31 09", "theirs"})
	addFeed(t, h, "stranger", offer{"public", "newest", "2031-12-31 09", "theirs"})
	found, err := find(t, h, "newest")
	require.NoError(t, err)
	require.Equal(t, "public/1.2", found.Name())
	require.Len(t, told, 2, "%v", told)
	_, err = find(t, h, "snapshot/1.0")
	require.ErrorIs(t, err, state.ErrUnknown)
}

func TestADateThatHasNotComeIsPassedOver(t *testing.T) {
	h := newHome(t)
	addFeed(t, h, "archive", offer{"public", "1.0", "2021-05-20 09", "one"}, offer{"public", "1.1", "2022-05-20 09", "two"}, offer{"public", "1.2", "2099-05-20 09", "three"})
	for ref, want := range map[string]string{"newest": "1.1", "before": "1.0", "@2100-01-01": "1.1"} {
		found, err := find(t, h, ref)
		require.NoError(t, err, ref)
		require.Equal(t, want, found.Label, ref)
		require.Len(t, found.Early, 1, ref)
	}
	found, err := find(t, h, "1.2")
	require.NoError(t, err)
	require.Equal(t, "1.2", found.Label)
	require.Empty(t, found.Early)
}

// TestAChannelOfTheLargestSizeIsListedAtOnce: comparing each with each took minutes.
func TestAChannelOfTheLargestSizeIsListedAtOnce(t *testing.T) {
	h := newHome(t)
	var offers []offer
	for i := range 10_000 {
		offers = append(offers, offer{"public", fmt.Sprint(i), "2021-05-20 09", fmt.Sprint("content ", i)})
	}
	addFeed(t, h, "archive", offers...)
	addFeed(t, h, "mirror", offers...)
	started := time.Now()
	for range 3 {
		list, err := h.Builds(t.Context(), "quay")
		require.NoError(t, err)
		require.Len(t, list, 10_000)
		require.Len(t, list[0].Feeds, 2)
	}
	require.Less(t, time.Since(started), 30*time.Second, "it takes about one")
}

func TestARecordedBuildOutlivesItsFeed(t *testing.T) {
	h := newHome(t)
	quayFeed(t, h)
	found, err := find(t, h, "1.1.1")
	require.NoError(t, err)
	require.Empty(t, found.UID, "offered, and not recorded")
	part := found.With([]string{"base"})
	part.Manifest, part.Partial = digest.Of([]byte("composed")), true
	require.NoError(t, h.AddBuild(t.Context(), part))
	whole := found.With([]string{"voices", "base"})
	whole.Manifest = digest.Of([]byte("composed of both"))
	require.NoError(t, h.AddBuild(t.Context(), whole))
	require.NotEqual(t, part.UID, whole.UID, "another choice is another record")
	require.Equal(t, whole.UID, found.With([]string{"base", "voices"}).UID, "in any order")

	list, err := h.Builds(t.Context(), "quay")
	require.NoError(t, err)
	require.Len(t, list, 5, "an offered build is listed once, recorded or not")
	held, err := h.HeldWhole(t.Context(), found.Build)
	require.NoError(t, err)
	require.Equal(t, whole.UID, held.UID)
	require.Len(t, held.Feeds, 1)
	require.True(t, found.Is(state.Pin{Build: part.UID, Components: []string{"base"}}))
	require.False(t, found.Is(state.Pin{Build: part.UID, Components: []string{"base", "voices"}}))

	require.NoError(t, os.RemoveAll(h.FeedsDir("quay")))
	list, err = h.Builds(t.Context(), "quay")
	require.NoError(t, err)
	require.Len(t, list, 1, "still listed once")
	require.Equal(t, found.Digest(), list[0].Digest(), "the digest is that of all components")
	// Once whole, a record stays whole.
	again := *whole
	again.Partial = true
	require.NoError(t, h.AddBuild(t.Context(), &again))
	back, err := h.RecordedBuild(t.Context(), "quay", whole.UID)
	require.NoError(t, err)
	require.False(t, back.Partial)
	require.Equal(t, []string{"base", "voices"}, back.Chosen)
}

func TestOwnNotesBelongToOneBuild(t *testing.T) {
	h := newHome(t)
	quayFeed(t, h)
	found, err := find(t, h, "1.1.0")
	require.NoError(t, err)
	require.NoError(t, h.SetNote(t.Context(), found.Build, "the one for the race"))
	require.Error(t, h.SetNote(t.Context(), found.Build, "two\nlines"))
	noted := 0
	list, err := h.Builds(t.Context(), "quay")
	require.NoError(t, err)
	for _, b := range list {
		if b.Own != "" {
			require.Equal(t, "1.1.0", b.Label)
			noted++
		}
	}
	require.Equal(t, 1, noted)
	require.NoError(t, h.SetNote(t.Context(), found.Build, ""))
}

// FuzzReference names builds in whatever way: what is found is one of those there are.
func FuzzReference(f *testing.F) {
	h, err := game.OpenHome(f.Context(), filepath.Join(f.TempDir(), "home"))
	require.NoError(f, err)
	f.Cleanup(func() { h.Close() })
	for _, ref := range []string{"newest", "public/newest", "snapshot/before", "@2031-08-05", "preview/@2032-01-01", "=0123456", "1.1.1", "//", "here", "\x00", "@", "="} {
		f.Add(ref)
	}
	dir := h.FeedsDir("quay")
	f.Fuzz(func(t *testing.T, ref string) {
		if _, err := os.Stat(dir); err != nil {
			quayFeed(t, h)
		}
		found, err := find(t, h, ref)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		line, rest, named := strings.Cut(ref, "/")
		if named {
			require.Equal(t, line, found.Line())
		} else {
			rest = ref
		}
		require.True(t, rest == found.Label || rest == catalogue.Newest || rest == catalogue.Before || strings.HasPrefix(rest, "@") || strings.HasPrefix(rest, "="), ref)
	})
}

func TestADateNamesTheNewestBuildOfThatDayOrBefore(t *testing.T) {
	h := newHome(t)
	at := func(day, hour int) time.Time { return time.Date(2031, 8, day, hour, 0, 0, 0, time.Local) }
	for _, b := range []*state.Build{
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
	require.ErrorIs(t, err, state.ErrUnknown)
	require.ErrorIs(t, h.AddBuild(t.Context(), build("1.1.0", at(1, 1), "x")), state.ErrExists)
}

func TestADigestNamesOneContentOrIsAmbiguous(t *testing.T) {
	builds := []*state.Build{build("a", time.Now(), "same"), build("b", time.Now(), "same"), build("c", time.Now(), "other")}
	found, err := byDigest(ref.Ref{Name: builds[0].Digest().String()[:10]}, builds)
	require.NoError(t, err)
	require.Equal(t, "a", found.Label)
	_, err = byDigest(ref.Ref{Name: "ffffffffffffffff"}, builds)
	require.ErrorIs(t, err, state.ErrUnknown)
}
