package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
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
	wrong := make(map[string]bool)
	for _, l := range d.large {
		var names, list []digest.Digest
		for _, c := range l.spans {
			own, _ := d.plan.Feed.Known.Known(c.name())
			names, list = append(names, c.name()), append(list, own)
		}
		in := d.content(ctx, list)
		r, done, err := decoded(l.coding, in, l.piece.size)
		if err == nil {
			err = d.put(ctx, l.piece.name, r, l.piece.checks()...)
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
			wrong[l.piece.file.path] = true
		}
		d.meter.Advance(l.piece.size, l.piece.file.path)
	}
	if len(wrong) > 0 {
		return &ContentError{slices.Sorted(maps.Keys(wrong))}
	}
	return nil
}

// assemble puts files together of their pieces.
func (d *delivery) assemble(ctx context.Context) error {
	files := slices.DeleteFunc(slices.Clone(d.plan.told.files), func(f *toldFile) bool { return len(f.pieces) == 1 })
	wrong := make(map[string]bool)
	if len(files) == 0 {
		return nil
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
			err := d.put(ctx, f.name, in, f.file.Digest)
			if errors.Is(err, pack.ErrChecksum) {
				// Which of the pieces is wrong nobody knows.
				d.mu.Lock()
				wrong[f.path] = true
				d.mu.Unlock()
				return d.plan.Feed.Known.Forget(ctx, names...)
			}
			d.meter.Advance(f.file.Size, f.path)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if len(wrong) > 0 {
		return &ContentError{slices.Sorted(maps.Keys(wrong))}
	}
	return nil
}
