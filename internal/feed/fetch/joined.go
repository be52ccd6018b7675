package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"golang.org/x/sync/errgroup"

	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/store"
)

// content reads contents of the store, one behind the other.
func (d *delivery) content(ctx context.Context, list []digest.Digest) io.ReadCloser {
	r, w := io.Pipe()
	go func() {
		for _, own := range list {
			if err := d.plan.request.Store.WriteTo(ctx, w, own); err != nil {
				w.CloseWithError(err)
				return
			}
		}
		w.Close()
	}()
	return r
}

// joinLarge puts pieces together that came in several parts.
func (d *delivery) joinLarge(ctx context.Context) error {
	if len(d.large) == 0 {
		return nil
	}
	d.meter.Begin("Checking", -1)
	defer d.meter.End()
	var wrong []*toldFile
	for _, l := range d.large {
		var names, list []digest.Digest
		for _, c := range l.spans {
			own, _ := d.plan.Feed.Known.Known(c.name())
			names, list = append(names, c.name()), append(list, own)
		}
		in := d.content(ctx, list)
		r, done, err := decoded(l.coding, in, l.piece.size)
		if err == nil {
			err = d.put(ctx, l.piece.file, l.piece.name, r, l.piece.checks()...)
		}
		done()
		in.Close()
		if err != nil && !errors.Is(err, pack.ErrChecksum) {
			return err
		}
		// Whole, or worth nothing.
		if forgetErr := d.plan.Feed.Known.Forget(ctx, names...); forgetErr != nil {
			return forgetErr
		}
		if err != nil {
			l.piece.file.contradicts = errors.Is(err, errContradicts)
			wrong = append(wrong, l.piece.file)
		}
		d.meter.Advance(l.piece.size, l.piece.file.path)
	}
	clear(d.large)
	if len(wrong) > 0 {
		return contentError(wrong)
	}
	return nil
}

// assemble puts files together of their pieces, and returns those that come out wrong.
func (d *delivery) assemble(ctx context.Context, files []*toldFile) (wrong []*toldFile, err error) {
	if len(files) == 0 {
		return nil, nil
	}
	d.meter.Begin("Checking", d.plan.Bytes)
	defer d.meter.End()
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(store.Workers())
	for _, f := range files {
		g.Go(func() error {
			var names, list []digest.Digest
			for _, q := range f.pieces {
				own, ok := d.plan.Feed.Known.Known(q.name)
				if !ok {
					return fmt.Errorf("%s: %w", f.path, store.ErrMissing)
				}
				names, list = append(names, q.name), append(list, own)
			}
			in := d.content(ctx, list)
			defer in.Close()
			err := d.put(ctx, f, f.name, in, f.file.Digest)
			if errors.Is(err, pack.ErrChecksum) {
				// Which of the pieces is wrong nobody knows.
				d.mu.Lock()
				f.contradicts = !slices.ContainsFunc(f.pieces, func(q *piece) bool { return q.check == "" })
				wrong = append(wrong, f)
				d.mu.Unlock()
				return d.plan.Feed.Known.Forget(ctx, names...)
			}
			d.meter.Advance(f.file.Size, f.path)
			return err
		})
	}
	return wrong, g.Wait()
}
