package chunk

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
)

func shared(a, b Sketch) int {
	n := 0
	for _, v := range a {
		if slices.Contains(b, v) {
			n++
		}
	}
	return n
}

func TestChunksThatShareMuchHaveSketchesThatDo(t *testing.T) {
	c := New()
	data := make([]byte, 64<<10)
	digest.Expand("a chunk", data)
	sketch := c.Sketch(data)
	require.Len(t, sketch, sketchSize)
	require.True(t, slices.IsSorted(sketch))
	require.Equal(t, sketch, c.Sketch(slices.Clone(data)))

	changed := slices.Clone(data)
	for i := 0; i < len(changed); i += 4000 {
		changed[i] ^= 1
	}
	moved := append([]byte("something in front"), data[1000:]...)
	other := make([]byte, 64<<10)
	digest.Expand("another chunk", other)
	require.Greater(t, shared(sketch, c.Sketch(changed)), sketchSize/2)
	require.Greater(t, shared(sketch, c.Sketch(moved)), sketchSize/2)
	require.Zero(t, shared(sketch, c.Sketch(other)))
	require.Empty(t, c.Sketch([]byte("too short")))
}
