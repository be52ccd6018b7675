package lane

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/plan"
	"morvant/internal/volume"
)

func TestWhatADiskCannotHoldIsNamed(t *testing.T) {
	l := &Lane{tried: &volume.Traits{NoLinks: true, MaxFile: 1<<32 - 1}}
	file := func(size int64) *plan.Plan {
		return &plan.Plan{Steps: []plan.Step{{Path: "data.pak", After: &plan.Node{Kind: plan.File, Size: size, Digest: digest.Of([]byte("x"))}}}}
	}
	require.NoError(t, l.canHold(file(1<<32-1)))
	err := l.canHold(file(1 << 32))
	require.ErrorIs(t, err, ErrCannotHold)
	require.ErrorContains(t, err, "data.pak is larger than the 4 GB")
	link := &plan.Plan{Steps: []plan.Step{{Path: "lib", After: &plan.Node{Kind: plan.Link, Target: "lib.2"}}}}
	require.ErrorContains(t, l.canHold(link), "it cannot hold links, and lib is one")
	l.tried = &volume.Traits{}
	require.NoError(t, l.canHold(link))
	require.NoError(t, l.canHold(file(1<<40)))
}

// TestALaneWhoseMarkerCannotBeReadIsParkedAllTheSame: an error of the disk at that moment left
// it under the other lane's name.
func TestALaneWhoseMarkerCannotBeReadIsParkedAllTheSame(t *testing.T) {
	dir := t.TempDir()
	s := &game.Switch{From: "main", To: "old", Place: filepath.Join(dir, "Quay [old]"), Park: filepath.Join(dir, "Quay [main]")}
	from, to := identity{"quay", "main"}, identity{"quay", "old"}
	require.False(t, leftAt(s, from), "nothing is there")
	require.NoError(t, os.Mkdir(s.Place, 0o755))
	require.True(t, leftAt(s, from), "no marker can be read")
	require.NoError(t, writeMarker(s.Place, marker{Game: to.game, Lane: to.lane, State: "free"}))
	require.False(t, leftAt(s, from), "it is the other one still")
	require.NoError(t, writeMarker(s.Place, marker{Game: from.game, Lane: from.lane, State: "free"}))
	require.True(t, leftAt(s, from))
	require.NoError(t, os.Remove(filepath.Join(s.Place, ".morvant", "lane.toml")))
	require.NoError(t, os.Mkdir(s.Park, 0o755))
	require.False(t, leftAt(s, from), "it has its own place already")
}
