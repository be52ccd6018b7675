package store

import (
	"context"
	"fmt"

	"morvant/internal/digest"
	"morvant/internal/layout"
)

// Piece is one chunk of a file.
type Piece = layout.Piece

// layoutRow is a line of the index: which record holds this part.
type layoutRow struct {
	file   digest.Digest
	part   int
	record digest.Digest
}

// Layout returns the chunks of the content with this digest, in order. A file no larger than one chunk is its own chunk.
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
		return []Piece{{Digest: file, Size: int(l.entry.Plain)}}, nil
	}
	var pieces []Piece
	var sum, size int64
	for i, r := range records {
		b, err := s.Chunk(ctx, r, nil)
		if err != nil {
			return nil, fmt.Errorf("layout of %s: %w", file.Short(), err)
		}
		l, err := layout.Decode(b)
		if err != nil {
			return nil, err
		}
		if l.File != file || l.Number != i || l.Of != len(records) {
			return nil, fmt.Errorf("%w: it belongs to another file", layout.Err)
		}
		size = l.Size
		for _, p := range l.Pieces {
			sum += int64(p.Size)
		}
		pieces = append(pieces, l.Pieces...)
	}
	if sum != size {
		return nil, fmt.Errorf("%w: chunks of %d bytes in a file of %d", layout.Err, sum, size)
	}
	return pieces, nil
}
