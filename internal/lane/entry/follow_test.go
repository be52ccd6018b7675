package entry_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/propose"
	"morvant/internal/state"
	"morvant/internal/version"
	"morvant/internal/watch"
)

// newFollowing is a bench with builds 1, 2 and 3, held to 2 and following updates, with a of 1 laid over it.
func newFollowing(t *testing.T) (b *bench, three map[string]string) {
	t.Helper()
	b = newBench(t, game.Settings{Version: []version.Rule{{File: "v.txt", Find: `^version (\S+)$`}}})
	b.put(map[string]string{"a": "a of 1", "b": "b of 1", "v.txt": "version 1\n"})
	one := b.snapshot("1")
	three = map[string]string{"a": "a of 3", "b": "b of 3", "v.txt": "version 3\n"}
	b.put(three)
	b.snapshot("3")
	b.put(map[string]string{"a": "a of 2", "b": "b of 2", "v.txt": "version 2\n"})
	two := b.snapshot("2")
	b.pin(two, propose.PinOptions{Follow: true, Add: over(one, "a")})
	return b, three
}

func (b *bench) followUp(later time.Duration) (f *watch.Followed) {
	b.Helper()
	b.on(func(l *lane.Lane) {
		l.Now = func() time.Time { return time.Now().Add(later) }
		var err error
		f, err = watch.FollowUp(b.Context(), l)
		require.NoError(b, err)
	})
	return f
}

// TestAnUpdateIsFollowedUnderAnOverlayThatStands, to a known build and to one that nobody knows, and taken back exactly.
func TestAnUpdateIsFollowedUnderAnOverlayThatStands(t *testing.T) {
	b, three := newFollowing(t)
	before := b.held()
	b.put(map[string]string{"b": three["b"], "v.txt": three["v.txt"]})
	f := b.followUp(time.Hour)
	require.NotNil(t, f)
	require.Empty(t, f.Waits)
	require.False(t, f.Recorded)
	require.Equal(t, "3", f.To.Label)
	require.Equal(t, "a of 1", b.read(b.live, "a"), "what is laid over it lies there still")
	require.Equal(t, before.Overlays, b.held().Overlays)
	require.Nil(t, b.followUp(time.Hour), "once")

	b.put(map[string]string{"a": "a of 4", "b": "b of 4", "v.txt": "version 4\n"})
	f = b.followUp(time.Hour)
	require.NotNil(t, f)
	require.Empty(t, f.Waits)
	require.True(t, f.Recorded)
	require.Equal(t, "4", f.To.Label)
	require.Equal(t, "a of 1", b.read(b.live, "a"), "laid over the new build")
	require.Equal(t, "b of 4", b.read(b.live, "b"))
	b.unpin()
	require.Equal(t, "a of 4", b.read(b.live, "a"), "the newest that was followed, whole")
	require.Equal(t, "b of 4", b.read(b.live, "b"))
	require.Equal(t, state.Pin{}, b.held())
}

// TestAnOverlayThatThePlayerHasEditedIsNoUpdate: nothing of theirs is recorded as a build, nor laid over.
func TestAnOverlayThatThePlayerHasEditedIsNoUpdate(t *testing.T) {
	b, _ := newFollowing(t)
	b.put(map[string]string{"a": "a by hand"})
	require.Nil(t, b.followUp(time.Hour))
	require.Equal(t, "a by hand", b.read(b.live, "a"))
	require.True(t, b.status().Drift.Any(), "it is told")
}

// TestAnOverlayThatThePlayerHasEditedIsNotLostToAnUpdate: their file is recorded with what came before the overlay is laid again.
func TestAnOverlayThatThePlayerHasEditedIsNotLostToAnUpdate(t *testing.T) {
	b, three := newFollowing(t)
	b.put(map[string]string{"a": "a by hand", "b": three["b"], "v.txt": three["v.txt"]})
	f := b.followUp(time.Hour)
	if f == nil || f.Waits != "" {
		require.Equal(t, "a by hand", b.read(b.live, "a"))
		return
	}
	require.NotEqual(t, "3", f.To.Label, "it is not that build")
	b.on(func(l *lane.Lane) {
		m, err := f.To.ReadManifest(t.Context(), l.Store)
		require.NoError(t, err)
		is, there := m.File("a")
		require.True(t, there)
		require.Equal(t, digest.Of([]byte("a by hand")), is.Digest)
	})
}

// TestAnUpdateThatIsStillBeingWrittenIsWaitedFor: it is not recorded while files have just changed.
func TestAnUpdateThatIsStillBeingWrittenIsWaitedFor(t *testing.T) {
	b, _ := newFollowing(t)
	b.file(b.live, "b", "b of 5")
	b.file(b.live, "v.txt", "version 5\n")
	f := b.followUp(0)
	require.NotNil(t, f)
	require.NotEmpty(t, f.Waits)
	require.Equal(t, "b of 5", b.read(b.live, "b"))
	list, err := b.home.Recorded(t.Context(), "quay")
	require.NoError(t, err)
	require.Len(t, list, 3)
	f = b.followUp(time.Hour)
	require.NotNil(t, f)
	require.Empty(t, f.Waits)
	require.Equal(t, "5", f.To.Label)
}
