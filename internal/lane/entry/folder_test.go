package entry_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/lanes"
	"morvant/internal/plan"
	"morvant/internal/state"
	"morvant/internal/volume"
)

func TestWhatADiskCannotHoldIsNamed(t *testing.T) {
	l := &lane.Lane{Tried: &volume.Traits{NoLinks: true, MaxFile: 1<<32 - 1}}
	file := func(size int64) *plan.Plan {
		return &plan.Plan{Steps: []plan.Step{{Path: "data.pak", After: &plan.Node{Kind: plan.File, Size: size, Digest: digest.Of([]byte("x"))}}}}
	}
	require.NoError(t, l.CanHold(file(1<<32-1)))
	err := l.CanHold(file(1 << 32))
	require.ErrorIs(t, err, lane.ErrCannotHold)
	require.ErrorContains(t, err, "data.pak is larger than the 4 GB")
	link := &plan.Plan{Steps: []plan.Step{{Path: "lib", After: &plan.Node{Kind: plan.Link, Target: "lib.2"}}}}
	require.ErrorContains(t, l.CanHold(link), "it cannot hold links, and lib is one")
	l.Tried = &volume.Traits{}
	require.NoError(t, l.CanHold(link))
	require.NoError(t, l.CanHold(file(1<<40)))
}

// TestALaneWhoseMarkerCannotBeReadIsParkedAllTheSame: an error of the disk at that moment left
// it under the other lane's name.
func TestALaneWhoseMarkerCannotBeReadIsParkedAllTheSame(t *testing.T) {
	dir := t.TempDir()
	s := &state.Switch{From: "main", To: "old", Place: filepath.Join(dir, "Quay [old]"), Park: filepath.Join(dir, "Quay [main]")}
	from, to := lane.Identity{Game: "quay", Lane: "main"}, lane.Identity{Game: "quay", Lane: "old"}
	require.False(t, lanes.LeftAt(s, from), "nothing is there")
	require.NoError(t, os.Mkdir(s.Place, 0o755))
	require.True(t, lanes.LeftAt(s, from), "no marker can be read")
	require.NoError(t, lane.WriteMarker(s.Place, lane.Marker{Game: to.Game, Lane: to.Lane, State: "free"}))
	require.False(t, lanes.LeftAt(s, from), "it is the other one still")
	require.NoError(t, lane.WriteMarker(s.Place, lane.Marker{Game: from.Game, Lane: from.Lane, State: "free"}))
	require.True(t, lanes.LeftAt(s, from))
	require.NoError(t, os.Remove(filepath.Join(s.Place, ".morvant", "lane.toml")))
	require.NoError(t, os.Mkdir(s.Park, 0o755))
	require.False(t, lanes.LeftAt(s, from), "it has its own place already")
}
