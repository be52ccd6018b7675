package catalogue

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
)

// TestLimitsOfACatalogue: what is just within is taken, what is just beyond is not.
func TestLimitsOfACatalogue(t *testing.T) {
	part := func(c *Channel) *Part { return &c.Builds[0].Components[0] }
	channel := func(f func(c *Channel)) error {
		c := sampleChannel()
		f(c)
		return c.check()
	}
	year := func(y int) func(*Channel) {
		return func(c *Channel) { c.Builds[0].Date = time.Date(y, 6, 1, 0, 0, 0, 0, time.UTC) }
	}
	many := func(n int) func(*Channel) {
		return func(c *Channel) {
			for i := range n - 1 {
				p := c.Builds[0].Components[0]
				p.Name = fmt.Sprintf("c%04d", i)
				c.Builds[0].Components = append(c.Builds[0].Components, p)
			}
		}
	}
	for name, f := range map[string]func(c *Channel){
		"a long note":         func(c *Channel) { c.Builds[0].Note = strings.Repeat("n", maxNote) },
		"the first year":      year(1678),
		"the last year":       year(2261),
		"nothing in it":       func(c *Channel) { *part(c) = Part{Name: "base", Manifest: part(c).Manifest, Layout: part(c).Layout} },
		"as many as there be": func(c *Channel) { part(c).Files = manifest.MaxEntries },
		"as large as there be": func(c *Channel) {
			part(c).Bytes, part(c).Download = manifest.MaxSize, manifest.MaxSize
		},
		"many components": many(maxComponents),
		"many builds": func(c *Channel) {
			c.Builds = make([]Build, maxBuilds)
			for i := range c.Builds {
				c.Builds[i] = sampleChannel().Builds[0]
				c.Builds[i].Label = fmt.Sprint(i)
			}
		},
	} {
		require.NoError(t, channel(f), name)
	}
	for name, f := range map[string]func(c *Channel){
		"serial 0":        func(c *Channel) { c.Serial = 0 },
		"a longer note":   func(c *Channel) { c.Builds[0].Note = strings.Repeat("n", maxNote+1) },
		"before":          year(1677),
		"after":           year(2262),
		"files below 0":   func(c *Channel) { part(c).Files = -1 },
		"bytes below 0":   func(c *Channel) { part(c).Bytes = -1 },
		"fetch below 0":   func(c *Channel) { part(c).Download = -1 },
		"too many files":  func(c *Channel) { part(c).Files = manifest.MaxEntries + 1 },
		"too many bytes":  func(c *Channel) { part(c).Bytes = manifest.MaxSize + 1 },
		"too much fetch":  func(c *Channel) { part(c).Download = manifest.MaxSize + 1 },
		"many components": many(maxComponents + 1),
		"too many builds": func(c *Channel) { c.Builds = make([]Build, maxBuilds+1) },
		"files together": func(c *Channel) {
			part(c).Files = manifest.MaxEntries
			many(2)(c)
		},
		"bytes together": func(c *Channel) {
			part(c).Bytes = manifest.MaxSize
			many(2)(c)
		},
	} {
		require.Error(t, channel(f), name)
	}
	feed := func(f func(f *Feed)) error {
		s := sampleFeed()
		f(s)
		b, err := s.Encode()
		require.NoError(t, err)
		_, err = DecodeFeed(b)
		return err
	}
	require.NoError(t, feed(func(f *Feed) { f.Components[1].Title = strings.Repeat("t", maxNote) }))
	require.Error(t, feed(func(f *Feed) { f.Components[1].Title = strings.Repeat("t", maxNote+1) }))
	require.Error(t, feed(func(f *Feed) { f.Components[1].Name = "../x" }))
	require.Error(t, feed(func(f *Feed) { f.Serial = 0 }))
	require.NoError(t, feed(func(f *Feed) { f.Serial = 1 }))
}

func TestLimitsOfRuns(t *testing.T) {
	l := &Layout{Chunks: make([]Chunk, 3)}
	for i := range l.Chunks {
		l.Chunks[i].Size = smallestPiece
	}
	file := func(runs ...int) filePieces { return filePieces{Digest: digest.Of([]byte("f")), Runs: runs} }
	for _, good := range [][]int{{0, 3}, {2, 1}, {0, 1, 1, 2}, {0, 2, 0, 1}} {
		n := 0
		for i := 1; i < len(good); i += 2 {
			n += good[i]
		}
		pieces, err := l.pieces(file(good...), int64(n)*smallestPiece)
		require.NoError(t, err, "%v", good)
		require.Len(t, pieces, n)
	}
	for _, bad := range [][]int{{0}, {-1, 1}, {0, 0}, {0, 4}, {3, 1}, {2, 2}, {1, 3}} {
		_, err := l.pieces(file(bad...), 3*smallestPiece)
		require.ErrorIs(t, err, ErrFormat, "%v", bad)
	}
	// One more than the size lets expect is for the last, shorter one.
	_, err := l.pieces(file(0, 3, 0, 1), 3*smallestPiece)
	require.NotErrorIs(t, err, nil)
	require.NotContains(t, fmt.Sprint(err), "more than")
	_, err = l.pieces(file(0, 3, 0, 2), 3*smallestPiece)
	require.ErrorContains(t, err, "more than 4 chunks")
}

func TestALayoutIsBoundedByWhatItLists(t *testing.T) {
	l := &Layout{Chunks: make([]Chunk, 10)}
	most := maxRepeats*(10+2) + fewPieces
	runs := func(total int) []filePieces { return []filePieces{{Runs: []int{0, total - 5, 0, 5}}} }
	require.NoError(t, l.bound(runs(most)))
	require.ErrorContains(t, l.bound(runs(most+1)), fmt.Sprintf("files of %d chunks", most+1))
	require.NoError(t, l.bound([]filePieces{{Runs: []int{0, -5}}}), "refused where runs are read")
	require.ErrorContains(t, l.bound(runs(maxPieces+1)), "more than")
}

func TestChainsEnd(t *testing.T) {
	l := &Layout{}
	for i := range MaxChain + 1 {
		l.Chunks = append(l.Chunks, Chunk{Base: i - 1})
	}
	l.Chunks[0].Base = NoBase
	require.NoError(t, l.checkChains())
	l.Chunks = append(l.Chunks, Chunk{Base: MaxChain})
	require.ErrorContains(t, l.checkChains(), "bases in a row")
}
