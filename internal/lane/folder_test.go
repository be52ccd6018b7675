package lane

import (
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
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
