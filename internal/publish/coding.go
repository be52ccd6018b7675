package publish

import (
	"context"
	"runtime"
	"sync"

	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/store"
)

// coded is a chunk on its way from the store into a pack.
type coded struct {
	coding   pack.Coding
	stored   []byte
	base     digest.Digest // of coding Based
	depth    int
	again    []byte // the base coded against the chunk
	baseSize int
	err      error
}

// code reads and codes chunks on all processors and hands them on in order. When it
// returns, nobody works any more on what it was given.
func (c *contents) code(ctx context.Context, pieces []store.Piece, b *bases, take func(store.Piece, coded) error) error {
	var work sync.WaitGroup
	defer work.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	queue := make(chan chan coded, 4*runtime.GOMAXPROCS(0))
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	work.Go(func() {
		defer close(queue)
		for _, piece := range pieces {
			result := make(chan coded, 1)
			select {
			case queue <- result:
			case <-ctx.Done():
				return
			}
			slots <- struct{}{}
			work.Go(func() {
				defer func() { <-slots }()
				result <- c.encode(ctx, piece.Digest, b)
			})
		}
	})
	for _, piece := range pieces {
		result, ok := <-queue
		if !ok {
			break
		}
		r := <-result
		if r.err != nil {
			return r.err
		}
		if err := take(piece, r); err != nil {
			return err
		}
	}
	return ctx.Err()
}
