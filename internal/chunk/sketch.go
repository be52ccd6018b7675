package chunk

import "slices"

// Sketch is a sample of what a chunk consists of: the least of the hashes of its
// windows, by which chunks that share much are found without comparing them
// (A. Broder, On the resemblance and containment of documents, 1997).
type Sketch []uint64

const (
	// sketchSize is how many hashes are kept. Chunks that share a tenth of their
	// windows still share one of them, most likely.
	sketchSize = 16
	// sampled is how many of the highest bits of a window's hash must be zero for
	// it to be looked at: one window in 32.
	sampled = 5
	// spread turns the hash, whose high bits have been used up, into an even one.
	spread = 0x9E3779B97F4A7C15
)

// Sketch returns the sketch of a chunk. Windows are 32 bytes long.
func (c *Cutter) Sketch(data []byte) Sketch {
	var hash uint64
	s := make(Sketch, 0, sketchSize)
	for i, b := range data {
		hash = hash<<2 + c.table[b]
		if i < 31 || hash>>(64-sampled) != 0 {
			continue
		}
		if v := hash * spread; len(s) < sketchSize || v < s[sketchSize-1] {
			s = s.insert(v)
		}
	}
	return s
}

// insert adds a hash to the sorted sketch; the greatest leaves a full one.
func (s Sketch) insert(v uint64) Sketch {
	i, there := slices.BinarySearch(s, v)
	if there {
		return s
	}
	if len(s) == sketchSize {
		s = s[:sketchSize-1]
	}
	return slices.Insert(s, i, v)
}
