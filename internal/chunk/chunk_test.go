package chunk

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

func random(seed uint64, n int) []byte {
	b := make([]byte, n)
	var key [32]byte
	key[0] = byte(seed)
	rand.NewChaCha8(key).Read(b)
	return b
}

func cutAll(c *Cutter, data []byte) [][]byte {
	var out [][]byte
	for len(data) > 0 {
		n := c.Next(data)
		out = append(out, data[:n])
		data = data[n:]
	}
	return out
}

// slowNext is the definition, one byte at a time.
func slowNext(c *Cutter, data []byte) int {
	if len(data) <= c.sizes.Min {
		return len(data)
	}
	data = data[:min(len(data), c.sizes.Max)]
	var hash uint64
	for i := c.sizes.Min - 64; i < len(data); i++ {
		hash = hash<<1 + c.table[data[i]]
		mask := c.early
		if i >= c.sizes.Avg {
			mask = c.late
		}
		if i >= c.sizes.Min && hash&mask == 0 {
			return i + 1
		}
	}
	return len(data)
}

func TestNextFollowsTheDefinition(t *testing.T) {
	c := New()
	for seed := range uint64(4) {
		data := random(seed, 3<<20+int(seed))
		for len(data) > 0 {
			n := c.Next(data)
			require.Equal(t, slowNext(c, data), n)
			data = data[n:]
		}
	}
}

func TestSizesStayWithinBounds(t *testing.T) {
	c := New()
	for name, data := range map[string][]byte{
		"random": random(1, 8<<20),
		"zeros":  make([]byte, 2<<20),
		"text":   bytes.Repeat([]byte("cranes, tides and cargo\n"), 100_000),
	} {
		chunks := cutAll(c, data)
		require.Equal(t, data, bytes.Join(chunks, nil), name)
		for i, ch := range chunks {
			require.LessOrEqual(t, len(ch), Max, name)
			if i < len(chunks)-1 {
				require.Greater(t, len(ch), Min, name)
			}
		}
	}
	chunks := cutAll(c, random(2, 32<<20))
	average := 32 << 20 / len(chunks)
	require.InDelta(t, Avg, average, Avg/3, "average of random data")
}

func TestAnInsertionChangesOnlyTheChunksAroundIt(t *testing.T) {
	c := New()
	old := random(3, 16<<20)
	at := 5 << 20
	changed := bytes.Join([][]byte{old[:at], []byte("an inserted line"), old[at:]}, nil)
	before := map[string]bool{}
	for _, ch := range cutAll(c, old) {
		before[string(ch)] = true
	}
	fresh := 0
	for _, ch := range cutAll(c, changed) {
		if !before[string(ch)] {
			fresh += len(ch)
		}
	}
	require.Positive(t, fresh)
	require.LessOrEqual(t, fresh, 3*Max)
}

func TestCutsDoNotDependOnWhatFollows(t *testing.T) {
	c := New()
	data := random(4, 4<<20)
	n := c.Next(data)
	require.Equal(t, n, c.Next(data[:Max]))
	require.Equal(t, n, c.Next(append(bytes.Clone(data[:n]), make([]byte, Max)...)))
}

func TestUnusableSizesAreRefused(t *testing.T) {
	for _, s := range []Sizes{{0, 64, 128}, {4096, 1024, 8192}, {1024, 3000, 8192}, {1024, 4096, 2048}} {
		_, err := NewSizes(s)
		require.Error(t, err, "%v", s)
	}
}

func BenchmarkNext(b *testing.B) {
	c := New()
	data := random(5, 8<<20)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		cutAll(c, data)
	}
}

// TestEveryLengthIsCutByTheDefinition: with small sizes, so that the ends, odd and even, are near.
func TestEveryLengthIsCutByTheDefinition(t *testing.T) {
	for _, sizes := range []Sizes{{64, 256, 700}, {65, 256, 256}, {100, 128, 1001}, {256, 256, 256}} {
		c, err := NewSizes(sizes)
		require.NoError(t, err, "%v", sizes)
		data := random(9, 20_000)
		for n := range 1500 {
			for at := 0; at+n < len(data); at += 1999 {
				part := data[at : at+n]
				require.Equal(t, slowNext(c, part), c.Next(part), "%v: %d bytes from %d", sizes, n, at)
			}
		}
		for at := range len(data) - 700 { // so that every place for a cut is hit
			for n := 699; n <= 700; n++ {
				part := data[at : at+n]
				require.Equal(t, slowNext(c, part), c.Next(part), "%v: %d bytes from %d", sizes, n, at)
			}
		}
	}
}

func TestSizesThatCannotBeUsed(t *testing.T) {
	for _, sizes := range []Sizes{{63, 256, 1024}, {512, 256, 1024}, {64, 256, 255}, {64, 300, 1024}, {64, 64, 1024}, {0, 0, 0}} {
		_, err := NewSizes(sizes)
		require.Error(t, err, "%v", sizes)
	}
	for _, sizes := range []Sizes{{64, 128, 128}, {128, 128, 128}} {
		_, err := NewSizes(sizes)
		require.NoError(t, err, "%v", sizes)
	}
}
