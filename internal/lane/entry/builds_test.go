package entry_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"aead.dev/minisign"
	"github.com/stretchr/testify/require"

	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/status"
	"morvant/internal/progress"
	"morvant/internal/ref"
	"morvant/internal/resolve"
	"morvant/internal/standin"
	"morvant/internal/state"
)

// newFed is a bench whose game has a feed of all builds, and stands at one.
func newFed(t *testing.T, label string) *bench {
	t.Helper()
	b := newBench(t, game.Settings{})
	_, key, err := minisign.GenerateKey(nil)
	require.NoError(t, err)
	dir := filepath.Join(t.TempDir(), "feed")
	q := standin.Quay{Bytes: 2 << 20}
	_, err = standin.Feed{Quay: q, Key: key, Valid: time.Hour, Now: time.Now}.Publish(t.Context(), dir, t.TempDir())
	require.NoError(t, err)
	_, err = feed.Add(t.Context(), feed.Adding{Base: b.home.FeedsDir("quay"), Addresses: []string{dir}}, feed.Options{Meter: progress.None{}, Now: time.Now})
	require.NoError(t, err)
	if label != "" {
		require.NoError(t, q.Write(b.live, label))
	}
	return b
}

func (b *bench) find(name string) *state.Build { return b.findOf("quay", name) }

func (b *bench) findOf(game, name string) *state.Build {
	b.Helper()
	r, err := ref.Parse(name)
	require.NoError(b, err)
	found, err := resolve.Build(b.Context(), b.home, game, r)
	require.NoError(b, err)
	return found.Build
}

func TestComponentsAreThoseAskedForHeldOrFound(t *testing.T) {
	b := newFed(t, "1.2.0")
	require.NoError(t, os.RemoveAll(filepath.Join(b.live, "voices", "fr")))
	b.on(func(l *lane.Lane) {
		c, err := compose.Choose(t.Context(), l, b.find("1.3.0"), nil)
		require.NoError(t, err)
		require.Equal(t, []string{"base", "night-shift", "voices-en"}, c.Names)
		require.Equal(t, []string{"voices-fr"}, c.Others)
		require.True(t, c.Found)
		c, err = compose.Choose(t.Context(), l, b.find("1.0.0"), nil)
		require.NoError(t, err)
		require.Equal(t, []string{"base", "voices-en"}, c.Names, "what the build does not have is not missed")
		c, err = compose.Choose(t.Context(), l, b.find("1.3.0"), []string{"voices-fr"})
		require.NoError(t, err)
		require.Equal(t, []string{"base", "voices-fr"}, c.Names, "no build works without its base")
		_, err = compose.Choose(t.Context(), l, b.find("1.0.0"), []string{"night-shift"})
		require.ErrorIs(t, err, compose.ErrComponent)
	})
	b.carry(func(l *lane.Lane) (*change.Proposal, error) {
		return propose.Pin(t.Context(), l, b.find("1.3.0"), propose.PinOptions{Hold: true, Components: []string{"base"}})
	})
	b.on(func(l *lane.Lane) {
		c, err := compose.Choose(t.Context(), l, b.find("1.1.1"), nil)
		require.NoError(t, err)
		require.Equal(t, []string{"base"}, c.Names, "what the lane is held with")
		require.False(t, c.Found)
	})
}

func TestAnEmptyFolderGetsWhatIsRequired(t *testing.T) {
	b := newFed(t, "")
	b.on(func(l *lane.Lane) {
		c, err := compose.Choose(t.Context(), l, b.find("1.2.0"), nil)
		require.NoError(t, err)
		require.Equal(t, []string{"base"}, c.Names)
		f, err := compose.ProposeFetch(t.Context(), l, b.find("1.2.0"), nil, false)
		require.NoError(t, err)
		require.False(t, f.Plan.Empty())
		require.Zero(t, f.Plan.Found)
		got, err := compose.CarryOutFetch(t.Context(), l, f)
		require.NoError(t, err)
		require.GreaterOrEqual(t, got.Received, f.Plan.Fetch)
		f, err = compose.ProposeFetch(t.Context(), l, b.find("1.2.0"), nil, false)
		require.NoError(t, err)
		require.True(t, f.Plan.Empty(), "all of it is here")
	})
	b.carry(func(l *lane.Lane) (*change.Proposal, error) {
		p, err := propose.Pin(t.Context(), l, b.find("1.2.0"), propose.PinOptions{Hold: true})
		if err == nil {
			require.Empty(t, p.Fetches)
		}
		return p, err
	})
	info, err := os.Stat(filepath.Join(b.live, "bin", "quay.exe"))
	require.NoError(t, err)
	if os.PathSeparator == '/' {
		require.NotZero(t, info.Mode()&0o100, "programs can be started")
	}
}

func TestFilesOfKnownBuildsLeaveAndOthersStay(t *testing.T) {
	b := newFed(t, "1.2.0")
	mine := filepath.Join(b.live, "expansion", "mine.txt")
	require.NoError(t, os.WriteFile(mine, []byte("mine"), 0o644))
	changed := filepath.Join(b.live, "data", "audio", "music", "shanty-1.ogv")
	require.NoError(t, os.WriteFile(changed, []byte("my own song"), 0o644))
	b.carry(func(l *lane.Lane) (*change.Proposal, error) {
		return propose.Pin(t.Context(), l, b.find("1.0.0"), propose.PinOptions{Hold: true})
	})
	require.NoFileExists(t, filepath.Join(b.live, "expansion", "night-shift", "night.pak"))
	require.FileExists(t, mine)
	require.FileExists(t, changed, "what is not as in any build is the player's")
	b.on(func(l *lane.Lane) {
		s, err := status.Of(t.Context(), l, status.Glance)
		require.NoError(t, err)
		require.False(t, s.Drift.Any())
		require.Len(t, s.Drift.Extra, 2)
		require.False(t, s.Trouble())
	})
	b.carry(func(l *lane.Lane) (*change.Proposal, error) {
		p, _, err := propose.Undo(t.Context(), l, 0, propose.Ask)
		return p, err
	})
	require.FileExists(t, filepath.Join(b.live, "expansion", "night-shift", "night.pak"))
}

func TestHowMuchOfABuildIsHere(t *testing.T) {
	b := newFed(t, "1.2.0")
	b.on(func(l *lane.Lane) {
		list, err := b.home.Offered("quay")
		require.NoError(t, err)
		p, err := compose.Here(t.Context(), b.home, l.Store, l.Game, list)
		require.NoError(t, err)
		require.True(t, p.Unread, "nothing has been read yet")
		// Files that were written just before a look are not taken as read.
		require.Eventually(t, func() bool {
			_, err := l.Look(t.Context(), 0)
			require.NoError(t, err)
			p, err = compose.Here(t.Context(), b.home, l.Store, l.Game, list)
			require.NoError(t, err)
			return !p.Unread
		}, 20*time.Second, 30*time.Millisecond)
		for _, build := range list {
			if build.Label == "1.2.0" {
				require.Equal(t, build.Bytes, p.Bytes[build])
			} else {
				require.Less(t, p.Bytes[build], build.Bytes)
			}
		}
	})
}
