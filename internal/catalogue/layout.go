package catalogue

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/semaphore"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/pack"
)

// The format names and versions of layouts: one that knows no times is written as the first version did.
const (
	LayoutFormat      = "morvant-layout/1"
	TimedLayoutFormat = "morvant-layout/2"
)

// Limits on layouts. They bound what a hostile one can ask for.
const (
	maxLayout = 512 << 20 // bytes of JSON
	maxRatio  = 64        // how much further than its own size a file may inflate
	slack     = 1 << 20   // room that even the smallest file gets
	// smallestPiece bounds how many chunks a file may be cut into: no more than
	// one for each so many bytes, and one for the rest.
	smallestPiece = 4 << 10
	// maxRepeats and fewPieces bound the chunks of all files together: so many times what
	// the layout itself lists, and a few. One chunk stands in many files seldom.
	maxRepeats = 16
	fewPieces  = 4 << 20
	maxPieces  = 32 << 20
	// MaxChain is how many bases in a row a chunk may be coded against.
	MaxChain = 8
)

// Chunk is one piece of content and where it can be fetched from.
type Chunk struct {
	Digest digest.Digest
	Size   int         // bytes once decoded
	Pack   int         // index into Packs
	Offset int64       // of the record in the pack
	Stored int         // bytes of the record's content
	Coding pack.Coding // of the record
	Base   int         // index of the chunk it is coded against, or NoBase
}

// NoBase says that a chunk is coded on its own.
const NoBase = -1

// Entry returns the record of the chunk, of kind Chunk or Again.
func (c Chunk) Entry(kind pack.Kind) pack.Entry {
	return pack.Entry{Digest: c.Digest, Kind: kind, Coding: c.Coding, Plain: uint32(c.Size), Stored: uint32(c.Stored), Offset: c.Offset}
}

// Layout says how the files of one manifest are put together.
type Layout struct {
	Packs  []digest.Digest
	Chunks []Chunk
	// Files maps the digest of a file to the indexes of its chunks. A file that
	// is its own only chunk need not be listed.
	Files    map[digest.Digest][]int
	Programs []string // paths of files that are programs, sorted
	// Times are when the files of the manifest were last changed, in its order, zero where that is not
	// known; nil: of none.
	Times []time.Time
	// Again lists chunks of earlier builds coded against chunks of this one: who
	// has this one comes to them for little. Base is an index into Chunks.
	Again    []Chunk
	byDigest map[digest.Digest]int
}

// layoutJSON is a layout as it is written.
type layoutJSON struct {
	Format   string          `json:"format"`
	Packs    []digest.Digest `json:"packs"`
	Chunks   columns         `json:"chunks"`
	Files    []filePieces    `json:"files"`
	Programs []string        `json:"programs"`
	Times    []string        `json:"times,omitempty"`
	Again    *columns        `json:"again,omitempty"`
}

// columns is a list of chunks with a column for each field, which packs much better
// than a row for each chunk.
type columns struct {
	Digests []digest.Digest `json:"digests"`
	Sizes   []int           `json:"sizes"`
	In      []int           `json:"in"` // index of the pack
	Offsets []int64         `json:"offsets"`
	Stored  []int           `json:"stored"`
	Codings []int           `json:"codings"`
	Bases   []int           `json:"bases,omitempty"` // all NoBase if missing
}

func toColumns(list []Chunk) columns {
	var j columns
	based := false
	for _, c := range list {
		j.Digests = append(j.Digests, c.Digest)
		j.Sizes = append(j.Sizes, c.Size)
		j.In = append(j.In, c.Pack)
		j.Offsets = append(j.Offsets, c.Offset)
		j.Stored = append(j.Stored, c.Stored)
		j.Codings = append(j.Codings, int(c.Coding))
		j.Bases = append(j.Bases, c.Base)
		based = based || c.Base != NoBase
	}
	if !based {
		j.Bases = nil
	}
	return j
}

// chunks reads the columns. packs and chunks are how many of those there are.
func (j *columns) chunks(packs, chunks int) ([]Chunk, error) {
	n := len(j.Digests)
	for _, column := range []int{len(j.Sizes), len(j.In), len(j.Offsets), len(j.Stored), len(j.Codings)} {
		if column != n {
			return nil, fmt.Errorf("%w: columns of %d and %d chunks", ErrFormat, n, column)
		}
	}
	if j.Bases != nil && len(j.Bases) != n {
		return nil, fmt.Errorf("%w: bases for %d of %d chunks", ErrFormat, len(j.Bases), n)
	}
	list := make([]Chunk, n)
	seen := make(map[digest.Digest]bool, n)
	for i := range n {
		if j.Codings[i] < 0 || j.Codings[i] > math.MaxUint8 {
			return nil, fmt.Errorf("%w: coding %d", ErrFormat, j.Codings[i])
		}
		c := Chunk{Digest: j.Digests[i], Size: j.Sizes[i], Pack: j.In[i], Offset: j.Offsets[i], Stored: j.Stored[i], Coding: pack.Coding(j.Codings[i]), Base: NoBase}
		if j.Bases != nil {
			c.Base = j.Bases[i]
		}
		if err := c.check(packs, chunks); err != nil {
			return nil, err
		}
		if seen[c.Digest] {
			return nil, fmt.Errorf("%w: the chunk %s appears twice", ErrFormat, c.Digest.Short())
		}
		seen[c.Digest] = true
		list[i] = c
	}
	return list, nil
}

type filePieces struct {
	Digest digest.Digest `json:"digest"`
	Runs   []int         `json:"runs"` // first chunk, number of chunks, and so on
}

// Encode returns the bytes of the layout. order says in which order to list files.
func (l *Layout) Encode(order []digest.Digest) ([]byte, error) {
	j := layoutJSON{Format: LayoutFormat, Packs: l.Packs, Programs: l.Programs, Chunks: toColumns(l.Chunks)}
	if len(l.Times) > 0 {
		j.Format = TimedLayoutFormat
		for _, t := range l.Times {
			j.Times = append(j.Times, manifest.FormatTime(t))
		}
	}
	if len(l.Again) > 0 {
		again := toColumns(l.Again)
		j.Again = &again
	}
	for _, d := range order {
		if pieces, ok := l.Files[d]; ok {
			j.Files = append(j.Files, filePieces{d, runs(pieces)})
		}
	}
	return json.Marshal(j, json.FormatNilSliceAsNull(false))
}

// runs writes a list of indexes as first and count of each run of neighbours.
func runs(list []int) []int {
	var out []int
	for i := 0; i < len(list); {
		n := 1
		for i+n < len(list) && list[i+n] == list[i]+n {
			n++
		}
		out = append(out, list[i], n)
		i += n
	}
	return out
}

// DecodeLayout reads a layout that belongs to the manifest m, and checks that it
// does: every file of the manifest is put together from chunks that add up.
func DecodeLayout(b []byte, m *manifest.Manifest) (*Layout, error) {
	if err := checkFormat(b, LayoutFormat, TimedLayoutFormat); err != nil {
		return nil, err
	}
	var j layoutJSON
	if err := decode(b, &j); err != nil {
		return nil, err
	}
	if timed := j.Format == TimedLayoutFormat; timed && len(j.Times) != len(m.Files) || !timed && len(j.Times) > 0 {
		return nil, fmt.Errorf("%w: %d times of %d files", ErrFormat, len(j.Times), len(m.Files))
	}
	n := len(j.Chunks.Digests)
	l := &Layout{Packs: j.Packs, Programs: j.Programs, Files: make(map[digest.Digest][]int, len(j.Files)), byDigest: make(map[digest.Digest]int, n)}
	for _, text := range j.Times {
		t, err := manifest.ParseTime(text)
		if err != nil {
			return nil, fmt.Errorf("%w: the time \"%.40s\"", ErrFormat, text)
		}
		l.Times = append(l.Times, t)
	}
	var err error
	if l.Chunks, err = j.Chunks.chunks(len(j.Packs), n); err != nil {
		return nil, err
	}
	for i, c := range l.Chunks {
		l.byDigest[c.Digest] = i
	}
	if j.Again != nil {
		if l.Again, err = j.Again.chunks(len(j.Packs), n); err != nil {
			return nil, err
		}
	}
	for _, c := range l.Again {
		if c.Base == NoBase || l.Chunks[c.Base].Digest == c.Digest {
			return nil, fmt.Errorf("%w: a chunk listed again without another base", ErrFormat)
		}
	}
	if err := l.checkChains(); err != nil {
		return nil, err
	}
	return l, l.fill(j.Files, m)
}

func (c Chunk) check(packs, chunks int) error {
	switch {
	case c.Size < 0 || c.Size > pack.MaxPlain || c.Stored < 0 || c.Stored > pack.MaxPlain+1<<16:
		return fmt.Errorf("%w: a chunk of %d bytes, stored in %d", ErrFormat, c.Size, c.Stored)
	case c.Pack < 0 || c.Pack >= packs || c.Offset < 0 || c.Offset > manifest.MaxSize:
		return fmt.Errorf("%w: a chunk at %d of pack number %d", ErrFormat, c.Offset, c.Pack)
	case c.Base < NoBase || c.Base >= chunks:
		return fmt.Errorf("%w: a chunk against number %d", ErrFormat, c.Base)
	case (c.Base != NoBase) != c.Coding.NeedsBase():
		return fmt.Errorf("%w: coding %d with base %d", ErrFormat, c.Coding, c.Base)
	}
	if c.Coding == pack.Bare {
		return fmt.Errorf("%w: a bare chunk", ErrFormat)
	}
	return c.Entry(pack.Chunk).Check()
}

// checkChains makes sure that following bases ends soon.
func (l *Layout) checkChains() error {
	for i := range l.Chunks {
		steps := 0
		for at := l.Chunks[i].Base; at != NoBase; at = l.Chunks[at].Base {
			if steps++; steps > MaxChain {
				return fmt.Errorf("%w: a chunk with more than %d bases in a row", ErrFormat, MaxChain)
			}
		}
	}
	return nil
}

func (l *Layout) fill(files []filePieces, m *manifest.Manifest) error {
	sizes := make(map[digest.Digest]int64, len(m.Files))
	for _, f := range m.Files {
		if size, known := sizes[f.Digest]; known && size != f.Size {
			return fmt.Errorf("%w: \"%s\" has another size than a file of the same content", ErrFormat, f.Path)
		}
		sizes[f.Digest] = f.Size
	}
	if err := l.bound(files); err != nil {
		return err
	}
	for _, f := range files {
		size, wanted := sizes[f.Digest]
		if _, twice := l.Files[f.Digest]; twice || !wanted {
			return fmt.Errorf("%w: a file %s that is listed twice or not of the build", ErrFormat, f.Digest.Short())
		}
		pieces, err := l.pieces(f, size)
		if err != nil {
			return err
		}
		l.Files[f.Digest] = pieces
	}
	for d, size := range sizes {
		if _, ok := l.Files[d]; ok {
			continue
		}
		i, ok := l.byDigest[d]
		if !ok || int64(l.Chunks[i].Size) != size {
			return fmt.Errorf("%w: it does not say how the file %s is put together", ErrFormat, d.Short())
		}
	}
	for i, p := range l.Programs {
		if _, ok := m.File(p); !ok || i > 0 && p <= l.Programs[i-1] {
			return fmt.Errorf("%w: the program \"%s\" is not of the build or out of order", ErrFormat, p)
		}
	}
	return nil
}

// bound refuses a layout whose files come to more chunks than its own size lets expect,
// before any of them is unrolled.
func (l *Layout) bound(files []filePieces) error {
	listed, total := int64(len(l.Chunks)), int64(0)
	for _, f := range files {
		listed += int64(len(f.Runs) / 2)
		for i := 1; i < len(f.Runs); i += 2 {
			total += int64(max(f.Runs[i], 0))
			if total > maxPieces {
				return fmt.Errorf("%w: files of more than %d chunks", ErrFormat, maxPieces)
			}
		}
	}
	if most := maxRepeats*listed + fewPieces; total > most {
		return fmt.Errorf("%w: files of %d chunks, where %d are listed", ErrFormat, total, listed)
	}
	return nil
}

// pieces unrolls the runs of one file. The count is bounded by the file's size
// before anything is allocated.
func (l *Layout) pieces(f filePieces, size int64) ([]int, error) {
	if len(f.Runs)%2 != 0 {
		return nil, fmt.Errorf("%w: half a run", ErrFormat)
	}
	most := size/smallestPiece + 1
	var count, sum int64
	for i := 0; i < len(f.Runs); i += 2 {
		first, n := f.Runs[i], f.Runs[i+1]
		if first < 0 || n < 1 || n > len(l.Chunks) || first > len(l.Chunks)-n {
			return nil, fmt.Errorf("%w: a run of %d chunks from %d", ErrFormat, n, first)
		}
		if count += int64(n); count > most {
			return nil, fmt.Errorf("%w: more than %d chunks for a file of %d bytes", ErrFormat, most, size)
		}
	}
	pieces := make([]int, 0, count)
	for i := 0; i < len(f.Runs); i += 2 {
		for c := range f.Runs[i+1] {
			at := f.Runs[i] + c
			pieces = append(pieces, at)
			sum += int64(l.Chunks[at].Size)
		}
	}
	if sum != size {
		return nil, fmt.Errorf("%w: chunks of %d bytes in a file of %d", ErrFormat, sum, size)
	}
	return pieces, nil
}

// Pieces returns the indexes of the chunks of a file of the manifest.
func (l *Layout) Pieces(file digest.Digest) []int {
	if pieces, ok := l.Files[file]; ok {
		return pieces
	}
	if i, ok := l.byDigest[file]; ok {
		return []int{i}
	}
	return nil
}

// Pack returns b as a zstd frame.
func Pack(b []byte) ([]byte, error) {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	return enc.EncodeAll(b, nil), enc.Close()
}

// unpacking bounds the bytes that all frames being unpacked may come to.
var unpacking = semaphore.NewWeighted(maxLayout)

// Unpack returns what Pack was given, if its digest is d. A frame that inflates
// beyond every honest measure is cut off.
func Unpack(packed []byte, d digest.Digest) ([]byte, error) {
	b, err := Inflate(packed)
	if err == nil && digest.Of(b) != d {
		err = fmt.Errorf("%s: %w", d.Short(), errors.Join(ErrFormat, pack.ErrChecksum))
	}
	if err != nil {
		return nil, err
	}
	return b, nil
}

// Inflate is Unpack for what this computer has packed itself, and knows no digest of.
func Inflate(packed []byte) ([]byte, error) {
	limit := int64(min(maxLayout, maxRatio*len(packed)+slack))
	// What many frames unpack to is bounded as well: they wait for each other.
	if err := unpacking.Acquire(context.Background(), limit); err != nil {
		return nil, err
	}
	defer unpacking.Release(limit)
	dec, err := zstd.NewReader(bytes.NewReader(packed), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(64<<20), zstd.WithDecoderLowmem(true))
	if err != nil {
		return nil, err
	}
	defer dec.Close()
	b, err := io.ReadAll(io.LimitReader(dec, limit+1))
	switch {
	case int64(len(b)) > limit:
		return nil, fmt.Errorf("%w: %d bytes inflate to more than %d", ErrFormat, len(packed), limit)
	case err != nil:
		return nil, fmt.Errorf("%w: %v", ErrFormat, err)
	}
	return b, nil
}
