package watch

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/block"
	"morvant/internal/game"
)

func TestChangesAnywhereInALaneAreTold(t *testing.T) {
	dir, launcher := filepath.Join(t.TempDir(), "Quay"), t.TempDir()
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.Mkdir(filepath.Join(dir, ".morvant"), 0o755))
	staging := filepath.Join(launcher, "staging")
	g := &game.Game{Settings: game.Settings{Block: []block.Rule{{Kind: block.Occupy, Path: staging}}}}
	n := newsOf(g, dir, func(why string) { require.Fail(t, why) })
	defer n.close()
	comes := func(what string) {
		t.Helper()
		select {
		case err := <-n.come:
			require.NoError(t, err)
		case <-time.After(20 * time.Second):
			require.Fail(t, "nothing is told of "+what)
		}
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "new"), 0o755))
	comes("a folder")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "new", "b"), nil, 0o644))
	comes("a file in a folder that was made meanwhile")
	require.NoError(t, os.Mkdir(staging, 0o755))
	select {
	case <-n.beside:
	case <-time.After(20 * time.Second):
		require.Fail(t, "nothing is told of the launcher's staging folder")
	}
	// The lane is parked, and another one takes its place.
	require.NoError(t, os.Rename(dir, dir+" [parked]"))
	require.NoError(t, os.Mkdir(dir, 0o755))
	comes("another folder in its place")
	n.close()
	for range n.come { // closed with the watcher
	}
	require.True(t, own(dir, filepath.Join(dir, ".morvant", "lane.toml")), "what Morvant does itself is no news")
	require.False(t, own(dir, filepath.Join(dir, ".morvant-notes")))
	(&news{}).close()
	require.Nil(t, (&news{}).come, "without a watcher nothing is told")
}

func TestWhatLimitsAWatchIsSaid(t *testing.T) {
	require.Contains(t, limitAdvice(os.ErrPermission), "looks at the folder now and then instead")
	require.Contains(t, limitAdvice(&os.PathError{Op: "watch", Path: "x", Err: errFull{}}), "max_user_watches")
	var why []string
	n := newsOf(&game.Game{}, filepath.Join(t.TempDir(), "nothing"), func(w string) { why = append(why, w) })
	n.close()
	require.Empty(t, why, "a folder that is gone has no news")
}

type errFull struct{}

func (errFull) Error() string { return "no space left on device" }
