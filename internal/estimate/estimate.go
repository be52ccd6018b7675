// Package estimate says by how much a store would grow, going by samples of what it would take.
package estimate

import (
	"context"
	"errors"
	"io"

	"morvant/internal/chunk"
	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/store"
)

const (
	// sampleSize is how much of a file is looked at in one place, in bytes: room for
	// some chunks between the first and the last, which are not whole.
	sampleSize = 2 << 20
	// samplePlaces is in how many places content is looked at in all.
	samplePlaces = 24
)

// Source is content that may be put into a store.
type Source struct {
	Size int64
	Open func() (io.ReaderAt, io.Closer, error)
}

// Of says by how many bytes the store would grow, going by samples of the content:
// what of it is in the store already, and how well the rest compresses. It reads up to
// samplePlaces times sampleSize bytes.
func Of(ctx context.Context, s *store.Store, sources []Source) (int64, error) {
	var total int64
	for _, src := range sources {
		total += src.Size
	}
	if total == 0 {
		return 0, nil
	}
	coder, err := pack.NewCoder(pack.Fast)
	if err != nil {
		return 0, err
	}
	defer coder.Close()
	var seen, grows int64
	buf := make([]byte, sampleSize)
	next := int64(0) // where the next sample lies, counted over all sources
	step := max(total/samplePlaces, 1)
	var before int64
	for _, src := range sources {
		for ; next < before+src.Size; next += step {
			if err := ctx.Err(); err != nil {
				return 0, err
			}
			n, err := readSample(src, buf, next-before)
			if err != nil {
				continue // whatever is wrong with the file is said when it is read
			}
			a, b, err := sample(ctx, s, coder, buf[:n], n == len(buf))
			if err != nil {
				return 0, err
			}
			seen += a
			grows += b
		}
		before += src.Size
	}
	if seen == 0 {
		return 0, nil
	}
	return int64(float64(total) * float64(grows) / float64(seen)), nil
}

func readSample(src Source, buf []byte, at int64) (int, error) {
	r, c, err := src.Open()
	if err != nil {
		return 0, err
	}
	defer c.Close()
	at = max(0, min(at, src.Size-int64(len(buf))))
	n, err := r.ReadAt(buf, at)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

// sample cuts a piece of content and says how much of it was looked at, and what it
// would take in the store. Of a piece from the middle of a file the first chunk is not
// cut where the file's would be.
func sample(ctx context.Context, s *store.Store, coder *pack.Coder, data []byte, part bool) (seen, grows int64, err error) {
	cutter := chunk.New()
	var digests []digest.Digest
	var chunks [][]byte
	for first := true; len(data) > 0; first = false {
		n := cutter.Next(data)
		if part && n == len(data) && len(chunks) > 0 {
			break
		}
		if !part || !first || n == len(data) {
			digests = append(digests, digest.Of(data[:n]))
			chunks = append(chunks, data[:n])
		}
		data = data[n:]
	}
	missing, err := s.Missing(ctx, digests)
	if err != nil {
		return 0, 0, err
	}
	for i, plain := range chunks {
		seen += int64(len(plain))
		if !missing[digests[i]] {
			continue
		}
		_, stored := coder.Encode(plain, nil)
		grows += int64(len(stored)) + pack.Overhead
	}
	return seen, grows, nil
}
