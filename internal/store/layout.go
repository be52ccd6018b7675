package store

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/problem"
)

// ErrLayout is returned for a layout that contradicts itself.
var ErrLayout = errors.New("not a layout")

// Piece is one chunk of a file.
type Piece struct {
	Digest digest.Digest
	Size   int
}

// A layout record holds one part of the list of a file's chunks:
//
//	version (4 bytes), digest of the file (32), size of the file (8),
//	number of this part (4), number of parts (4),
//	then for each chunk its digest (32) and size (4)
//
// so that no record grows past pack.MaxPlain, however large the file.
const (
	layoutVersion = 1
	layoutHead    = 52
	layoutPiece   = 36
	piecesPerPart = 1 << 16
	maxParts      = 1 << 12
)

// layoutRow is a line of the index: which record holds this part.
type layoutRow struct {
	file   digest.Digest
	part   int
	record digest.Digest
}

type layoutPart struct {
	file        digest.Digest
	size        int64
	part, parts int
	pieces      []Piece
}

func encodeLayout(file digest.Digest, size int64, pieces []Piece) [][]byte {
	parts := (len(pieces) + piecesPerPart - 1) / piecesPerPart
	out := make([][]byte, 0, parts)
	for i := range parts {
		list := pieces[i*piecesPerPart : min(len(pieces), (i+1)*piecesPerPart)]
		b := make([]byte, 0, layoutHead+len(list)*layoutPiece)
		b = binary.LittleEndian.AppendUint32(b, layoutVersion)
		b = append(b, file[:]...)
		b = binary.LittleEndian.AppendUint64(b, uint64(size))
		b = binary.LittleEndian.AppendUint32(b, uint32(i))
		b = binary.LittleEndian.AppendUint32(b, uint32(parts))
		for _, p := range list {
			b = append(b, p.Digest[:]...)
			b = binary.LittleEndian.AppendUint32(b, uint32(p.Size))
		}
		out = append(out, b)
	}
	return out
}

func decodeLayout(b []byte) (layoutPart, error) {
	var l layoutPart
	if len(b) < layoutHead || (len(b)-layoutHead)%layoutPiece != 0 {
		return l, fmt.Errorf("%w: %d bytes", ErrLayout, len(b))
	}
	if v := binary.LittleEndian.Uint32(b); v != layoutVersion {
		return l, fmt.Errorf("layout of version %d: %w", v, problem.ErrNewer)
	}
	l.file = digest.Digest(b[4:36])
	l.size = int64(binary.LittleEndian.Uint64(b[36:]))
	l.part = int(binary.LittleEndian.Uint32(b[44:]))
	l.parts = int(binary.LittleEndian.Uint32(b[48:]))
	n := (len(b) - layoutHead) / layoutPiece
	if l.size < 0 || l.parts < 1 || l.parts > maxParts || l.part < 0 || l.part >= l.parts || n == 0 || n > piecesPerPart {
		return l, fmt.Errorf("%w: part %d of %d with %d chunks of %d bytes", ErrLayout, l.part, l.parts, n, l.size)
	}
	l.pieces = make([]Piece, n)
	var sum int64
	for i := range l.pieces {
		at := b[layoutHead+i*layoutPiece:]
		p := Piece{digest.Digest(at[:32]), int(binary.LittleEndian.Uint32(at[32:]))}
		if p.Size < 1 || p.Size > pack.MaxPlain {
			return l, fmt.Errorf("%w: a chunk of %d bytes", ErrLayout, p.Size)
		}
		sum += int64(p.Size)
		l.pieces[i] = p
	}
	if sum > l.size || l.parts == 1 && sum != l.size {
		return l, fmt.Errorf("%w: chunks of %d bytes in a file of %d", ErrLayout, sum, l.size)
	}
	return l, nil
}

// Layout returns the chunks of the content with this digest, in order. A file
// no larger than one chunk is its own chunk.
func (s *Store) Layout(ctx context.Context, file digest.Digest) ([]Piece, error) {
	records, err := s.layoutRecords(ctx, file)
	if err != nil {
		return nil, err
	}
	if len(records) == 0 {
		l, err := s.locate(ctx, file)
		if err != nil {
			return nil, err
		}
		return []Piece{{file, int(l.entry.Plain)}}, nil
	}
	var pieces []Piece
	var sum, size int64
	for i, r := range records {
		b, err := s.Chunk(ctx, r, nil)
		if err != nil {
			return nil, fmt.Errorf("layout of %s: %w", file.Short(), err)
		}
		l, err := decodeLayout(b)
		if err != nil {
			return nil, err
		}
		if l.file != file || l.part != i || l.parts != len(records) {
			return nil, fmt.Errorf("%w: it belongs to another file", ErrLayout)
		}
		size = l.size
		for _, p := range l.pieces {
			sum += int64(p.Size)
		}
		pieces = append(pieces, l.pieces...)
	}
	if sum != size {
		return nil, fmt.Errorf("%w: chunks of %d bytes in a file of %d", ErrLayout, sum, size)
	}
	return pieces, nil
}
