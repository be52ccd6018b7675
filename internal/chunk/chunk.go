// Package chunk cuts a stream into chunks where its content says so, so that an
// insertion into a large file changes only the chunks around it.
//
// A gear hash rolls over the bytes (W. Xia et al., "FastCDC: a Fast and
// Efficient Content-Defined Chunking Approach", USENIX ATC 2016): for each byte
// the hash is shifted left by one and the byte's entry in a table of random
// numbers is added. A chunk ends where chosen bits of the hash are all zero. The
// cutting is normalised: before the average size more bits must be zero, after
// it fewer, which draws the sizes together.
//
// Where a chunk ends depends on nothing but the bytes of that chunk, so equal
// content after an equal boundary is cut the same way in every file.
package chunk

import (
	"encoding/binary"
	"fmt"
	"math/bits"

	"morvant/internal/digest"
)

// The sizes in use, in bytes. docs/performance.md tells how they were chosen.
const (
	Min = 16 << 10
	Avg = 64 << 10
	Max = 256 << 10
)

// normalisation is how many bits the two masks differ from the plain one.
const normalisation = 2

// tableSeed names the gear table; another table would cut every file elsewhere.
const tableSeed = "morvant gear table 1"

// Sizes bounds the chunks of a Cutter, in bytes.
type Sizes struct{ Min, Avg, Max int }

// Cutter finds the ends of chunks. It holds no state between calls and may be
// used by several goroutines at once.
type Cutter struct {
	sizes        Sizes
	early, late  uint64 // masks before and after the average size
	table        [256]uint64
	shiftedTable [256]uint64 // table << 1, for two bytes at a step
}

// New returns a cutter for the sizes in use.
func New() *Cutter {
	c, err := NewSizes(Sizes{Min, Avg, Max})
	if err != nil {
		panic(err) // the constants are valid
	}
	return c
}

// NewSizes returns a cutter for other sizes; Avg must be a power of two.
func NewSizes(s Sizes) (*Cutter, error) {
	if s.Min < 64 || s.Avg < s.Min || s.Max < s.Avg || bits.OnesCount(uint(s.Avg)) != 1 || bits.Len(uint(s.Avg)) < 8 {
		return nil, fmt.Errorf("chunk sizes %d, %d, %d cannot be used", s.Min, s.Avg, s.Max)
	}
	c := &Cutter{sizes: s}
	width := bits.Len(uint(s.Avg)) - 1
	c.early = highBits(width + normalisation)
	c.late = highBits(width - normalisation)
	var raw [256 * 8]byte
	digest.Expand(tableSeed, raw[:])
	for i := range c.table {
		c.table[i] = binary.LittleEndian.Uint64(raw[8*i:])
		c.shiftedTable[i] = c.table[i] << 1
	}
	return c, nil
}

// highBits returns a mask of the n highest bits but one: bits that many of the
// last 64 bytes have had a part in. The topmost is left out for roll's sake.
func highBits(n int) uint64 { return ^uint64(0) << (64 - n) >> 1 }

// Max returns the longest chunk that Next can return.
func (c *Cutter) Max() int { return c.sizes.Max }

// Next returns the length of the first chunk of data. Unless data is the end of
// the stream it must hold at least Max bytes, or the cut could come too early.
func (c *Cutter) Next(data []byte) int {
	s := c.sizes
	if len(data) <= s.Min {
		return len(data)
	}
	data = data[:min(len(data), s.Max)]
	middle := min(len(data), s.Avg)
	// The hash forgets a byte after 64 steps; starting that far before the
	// first possible cut gives it all the bytes it would remember.
	hash, at := c.roll(0, data[:middle], s.Min-64, s.Min, c.early)
	if at > 0 {
		return at
	}
	if _, at = c.roll(hash, data, middle, middle, c.late); at > 0 {
		return at
	}
	return len(data)
}

// roll moves the hash from position i on and returns the first position, no
// earlier than from, at which a chunk may end; zero if there is none.
func (c *Cutter) roll(hash uint64, data []byte, i, from int, mask uint64) (uint64, int) {
	for ; i < from; i++ {
		hash = hash<<1 + c.table[data[i]]
	}
	// Two bytes at a step: after the first, twice the hash is at hand, and no
	// mask holds the top bit that doubling loses.
	shifted := mask << 1
	for ; i+1 < len(data); i += 2 {
		hash = hash<<2 + c.shiftedTable[data[i]]
		if hash&shifted == 0 {
			return 0, i + 1
		}
		hash += c.table[data[i+1]]
		if hash&mask == 0 {
			return 0, i + 2
		}
	}
	for ; i < len(data); i++ {
		hash = hash<<1 + c.table[data[i]]
		if hash&mask == 0 {
			return 0, i + 1
		}
	}
	return hash, 0
}
