// Package layout holds the record that says which chunks make up a file.
package layout

import (
	"encoding/binary"
	"errors"
	"fmt"

	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/problem"
)

// Err is returned for a layout that contradicts itself.
var Err = errors.New("not a layout")

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
	version  = 1
	head     = 52
	perPiece = 36
	// PerPart is how many chunks a record lists at most.
	PerPart  = 1 << 16
	maxParts = 1 << 12
)

// Part is one part of the list.
type Part struct {
	File       digest.Digest
	Size       int64 // of the file, in bytes
	Number, Of int   // from 0
	Pieces     []Piece
}

// Encode returns the records for a file of these chunks.
func Encode(file digest.Digest, size int64, pieces []Piece) [][]byte {
	parts := (len(pieces) + PerPart - 1) / PerPart
	out := make([][]byte, 0, parts)
	for i := range parts {
		list := pieces[i*PerPart : min(len(pieces), (i+1)*PerPart)]
		b := make([]byte, 0, head+len(list)*perPiece)
		b = binary.LittleEndian.AppendUint32(b, version)
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

// Decode reads a record and checks that it does not contradict itself.
func Decode(b []byte) (Part, error) {
	var l Part
	if len(b) < head || (len(b)-head)%perPiece != 0 {
		return l, fmt.Errorf("%w: %d bytes", Err, len(b))
	}
	if v := binary.LittleEndian.Uint32(b); v != version {
		return l, fmt.Errorf("layout of version %d: %w", v, problem.ErrNewer)
	}
	l.File = digest.Digest(b[4:36])
	l.Size = int64(binary.LittleEndian.Uint64(b[36:]))
	l.Number = int(binary.LittleEndian.Uint32(b[44:]))
	l.Of = int(binary.LittleEndian.Uint32(b[48:]))
	n := (len(b) - head) / perPiece
	if l.Size < 0 || l.Of < 1 || l.Of > maxParts || l.Number < 0 || l.Number >= l.Of || n == 0 || n > PerPart {
		return l, fmt.Errorf("%w: part %d of %d with %d chunks of %d bytes", Err, l.Number, l.Of, n, l.Size)
	}
	l.Pieces = make([]Piece, n)
	var sum int64
	for i := range l.Pieces {
		at := b[head+i*perPiece:]
		p := Piece{digest.Digest(at[:32]), int(binary.LittleEndian.Uint32(at[32:]))}
		if p.Size < 1 || p.Size > pack.MaxPlain {
			return l, fmt.Errorf("%w: a chunk of %d bytes", Err, p.Size)
		}
		sum += int64(p.Size)
		l.Pieces[i] = p
	}
	if sum > l.Size || l.Of == 1 && sum != l.Size {
		return l, fmt.Errorf("%w: chunks of %d bytes in a file of %d", Err, sum, l.Size)
	}
	return l, nil
}
