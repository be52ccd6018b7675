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

// TestASketchFollowsTheDefinition: the least of the hashes of all windows of 32 bytes.
func TestASketchFollowsTheDefinition(t *testing.T) {
	c := New()
	for _, n := range []int{0, 31, 32, 33, 2000, 70_000} {
		data := random(uint64(n), n)
		var want []uint64
		for i := 31; i < n; i++ {
			var hash uint64
			for _, b := range data[i-31 : i+1] {
				hash = hash<<2 + c.table[b]
			}
			if hash>>(64-5) == 0 {
				want = append(want, hash*0x9E3779B97F4A7C15)
			}
		}
		slices.Sort(want)
		want = slices.Compact(want)
		require.Equal(t, Sketch(append([]uint64{}, want[:min(16, len(want))]...)), c.Sketch(data), "%d bytes", n)
	}
	// A window that is found by chance alone is found at the very beginning, too.
	for seed := range uint64(200) {
		data := random(seed, 32)
		var hash uint64
		for _, b := range data {
			hash = hash<<2 + c.table[b]
		}
		require.Equal(t, hash>>(64-5) == 0, len(c.Sketch(data)) == 1)
	}
}
