package standin

import (
	"encoding/binary"
	"io"
	"math/rand/v2"
	"slices"

	"morvant/internal/digest"
)

// archive is a large file made of extents, each a run of reproducible bytes. It
// is packed the way game archives are: a table in front, then entries of which
// most do not compress. Between releases entries are edited in places, inserted
// (which shifts everything behind them) and appended.
type archive struct {
	extents []extent
}

type extent struct {
	seed uint64
	size int64
	kind kind
	skip int64 // bytes of the run left out at its start
}

type kind uint8

const (
	packed kind = iota // does not compress
	plain              // compresses well, like models and tables
)

// newArchive returns archive number n, of about size bytes, as release i has it.
func newArchive(n uint64, size int64, release int) *archive {
	rng := rand.New(rand.NewPCG(n, 0x9e3779b97f4a7c15))
	a := &archive{}
	entry := max(size/96, 4<<10)
	for total := int64(0); total < size; {
		e := extent{seed: rng.Uint64(), size: entry/2 + rng.Int64N(entry)}
		if rng.IntN(5) == 0 {
			e.kind = plain
		}
		a.extents = append(a.extents, e)
		total += e.size
	}
	for r := 1; r <= release; r++ {
		a.update(rand.New(rand.NewPCG(n, uint64(r))), r)
	}
	return a
}

// update turns the archive into that of the next release. A hotfix edits one
// place; a content update edits, inserts and appends.
func (a *archive) update(rng *rand.Rand, release int) {
	hotfix := release == 3
	edits, inserts, appends := 3, 2, 3
	if hotfix {
		edits, inserts, appends = 1, 0, 0
	}
	for range edits {
		a.edit(rng)
	}
	for range inserts {
		at := rng.IntN(len(a.extents))
		a.extents = slices.Insert(a.extents, at, extent{seed: rng.Uint64(), size: 1 + rng.Int64N(a.extents[at].size)})
	}
	for range appends {
		a.extents = append(a.extents, extent{seed: rng.Uint64(), size: a.extents[0].size, kind: kind(rng.IntN(2))})
	}
}

// edit replaces some bytes in the middle of an extent; nothing moves.
func (a *archive) edit(rng *rand.Rand) {
	at := rng.IntN(len(a.extents))
	e := a.extents[at]
	if e.size < 64 {
		return
	}
	from := rng.Int64N(e.size / 2)
	length := 1 + rng.Int64N(e.size/4)
	a.extents = slices.Replace(a.extents, at, at+1,
		extent{e.seed, from, e.kind, e.skip},
		extent{rng.Uint64(), length, e.kind, 0},
		extent{e.seed, e.size - from - length, e.kind, e.skip + from + length},
	)
}

// writeTo writes the archive: a table of sizes, then the extents.
func (a *archive) writeTo(w io.Writer) error {
	table := binary.LittleEndian.AppendUint32([]byte("QUAYPAK1"), uint32(len(a.extents)))
	for _, e := range a.extents {
		table = binary.LittleEndian.AppendUint64(table, uint64(e.size))
	}
	if _, err := w.Write(table); err != nil {
		return err
	}
	for _, e := range a.extents {
		r := e.reader()
		if _, err := io.CopyN(io.Discard, r, e.skip); err != nil {
			return err
		}
		if _, err := io.CopyN(w, r, e.size); err != nil {
			return err
		}
	}
	return nil
}

func (e extent) reader() io.Reader {
	var seed [8]byte
	binary.LittleEndian.PutUint64(seed[:], e.seed)
	r := rand.NewChaCha8(digest.Of(seed[:]))
	if e.kind == plain {
		return &tabular{source: r}
	}
	return r
}

// tabular turns random bytes into rows that compress to about a third.
type tabular struct {
	source io.Reader
	rest   []byte
}

func (t *tabular) Read(b []byte) (int, error) {
	if len(t.rest) == 0 {
		var r [8]byte
		if _, err := io.ReadFull(t.source, r[:]); err != nil {
			return 0, err
		}
		row := [32]byte{0: 'v', 1: r[0], 2: r[1], 8: 'n', 9: r[2], 10: r[3], 16: 't', 17: r[4], 24: r[5] & 7}
		t.rest = append(t.rest[:0], row[:]...)
	}
	n := copy(b, t.rest)
	t.rest = t.rest[n:]
	return n, nil
}
