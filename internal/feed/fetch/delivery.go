package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/semaphore"

	"morvant/internal/adapter"
	"morvant/internal/alias"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/pack"
	"morvant/internal/progress"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// delivery is a plan of told pieces being carried out.
type delivery struct {
	plan    *Plan
	spoken  *feed.Spoken
	wire    *feed.Wire
	session *store.Session
	meter   progress.Meter
	options feed.Options
	reread  bool // the list of builds has been read anew, for want of one
	putting *semaphore.Weighted
	arrived atomic.Int64 // bytes
	kept    atomic.Int64 // contents that were right
	found   atomic.Int64

	clock   sync.Once // says that the clock may be wrong
	spools  sync.Once
	spool   *volume.Spool // of answers whose length nobody knows
	noSpool error

	mu    sync.Mutex
	large map[*piece]*large
}

// large is a piece that came in several parts.
type large struct {
	piece  *piece
	coding string
	spans  []*span
	left   int // of them, that are not here
}

// runTold is Run for a plan that an adapter has to do with.
func (p *Plan) runTold(ctx context.Context, w *feed.Wire, result *Fetched, o feed.Options) (*Fetched, error) {
	d := &delivery{plan: p, wire: w, meter: o.Meter, options: o, putting: semaphore.NewWeighted(int64(store.Workers())), large: make(map[*piece]*large)}
	over := slices.DeleteFunc(slices.Clone(p.told.needs), func(q *piece) bool { return q.local != nil })
	defer func() {
		if d.spoken != nil {
			d.spoken.Close()
		}
		if d.spool != nil {
			d.spool.Close()
		}
	}()
	if len(over) > 0 {
		if err := d.speak(ctx); err != nil {
			return result, err
		}
	}
	err := d.inSession(ctx, func() error {
		if err := d.takeLocal(ctx); err != nil {
			return err
		}
		return d.fetch(ctx, over)
	})
	result.Received, result.Found = w.Received.Load(), d.found.Load()
	if err == nil {
		err = d.inSession(ctx, func() error { return d.joinLarge(ctx) })
	}
	if err == nil {
		err = d.assembleAll(ctx)
	}
	result.Received = w.Received.Load()
	return result, err
}

// assembleAll puts files together of their pieces. Where pieces that were here before make a wrong file, they come once
// more.
func (d *delivery) assembleAll(ctx context.Context) error {
	files := slices.DeleteFunc(slices.Clone(d.plan.told.files), func(f *toldFile) bool { return len(f.pieces) == 1 })
	for {
		var wrong []*toldFile
		err := d.inSession(ctx, func() (err error) { wrong, err = d.assemble(ctx, files); return err })
		if err != nil || len(wrong) == 0 {
			return err
		}
		var again []*piece
		for _, f := range wrong {
			for _, q := range f.pieces {
				if !q.done && !f.contradicts { // it was here, or in another file
					again = append(again, q)
				}
			}
		}
		if len(again) == 0 {
			return contentError(wrong)
		}
		if err := d.speak(ctx); err != nil {
			return err
		}
		if err := d.inSession(ctx, func() error { return d.fetch(ctx, again) }); err != nil {
			return err
		}
		if err := d.inSession(ctx, func() error { return d.joinLarge(ctx) }); err != nil {
			return err
		}
		for _, q := range again {
			q.done = true
		}
		files = wrong
	}
}

// speak begins to talk with the adapter, once.
func (d *delivery) speak(ctx context.Context) (err error) {
	if d.spoken == nil {
		d.spoken, err = d.plan.Feed.Speak(ctx, d.options)
	}
	return err
}

// contentError is the error for files whose content is wrong.
func contentError(files []*toldFile) error {
	wrong, contradicting := make(map[string]bool), make(map[string]bool)
	for _, f := range files {
		if wrong[f.path] = true; f.contradicts {
			contradicting[f.path] = true
		}
	}
	if len(contradicting) > 0 {
		return fmt.Errorf("%w: %s", ErrContradiction, strings.Join(slices.Sorted(maps.Keys(contradicting)), ", "))
	}
	return &ContentError{slices.Sorted(maps.Keys(wrong))}
}

// inSession does something that puts content into the store. What has been put is findable afterwards.
func (d *delivery) inSession(ctx context.Context, do func() error) error {
	var err error
	if d.session, err = d.plan.request.Store.Resume(ctx, d.plan.request.Owner); err != nil {
		return err
	}
	return errors.Join(do(), d.session.Close())
}

// errContradicts is wrapped where content has one of the digests that were told of it and lacks another.
var errContradicts = errors.New("it has one of the digests that were told of it, and not another")

// put brings bytes into the store, and remembers what they are known by. checks are the distributor's digests: all
// must hold.
func (d *delivery) put(ctx context.Context, f *toldFile, name digest.Digest, r io.Reader, checks ...string) error {
	if err := d.putting.Acquire(ctx, 1); err != nil {
		return err
	}
	defer d.putting.Release(1)
	var hashers []*digest.ForeignHasher
	var want []digest.Foreign
	for _, check := range checks {
		if f, err := digest.ParseForeign(check); err == nil {
			h := digest.NewForeignHasher(f.Alg)
			hashers, want = append(hashers, h), append(want, f)
			r = io.TeeReader(r, h)
		}
	}
	// Read to its end before it is believed: what does not fit is nobody's content in the store, and trimmed.
	own, _, err := d.session.Put(ctx, r, nil)
	if err != nil {
		if errors.Is(err, pack.ErrChecksum) || ctx.Err() != nil {
			return err
		}
		return &feed.StoreError{Err: err}
	}
	right := 0
	for i, h := range hashers {
		got, hashErr := h.Foreign()
		if hashErr == nil && got == want[i] {
			right++
		}
		err = errors.Join(err, hashErr)
	}
	switch {
	case right < len(want) && right > 0:
		return errors.Join(pack.ErrChecksum, errContradicts, err)
	case right < len(want):
		return errors.Join(pack.ErrChecksum, err)
	}
	facts := map[digest.Digest]digest.Digest{name: own}
	if name == f.name && f.file.Ground() != adapter.Strong {
		facts[alias.Came(own)] = digest.Of([]byte(f.scope))
	}
	if err := d.plan.Feed.Known.Learn(ctx, facts); err != nil {
		return &feed.StoreError{Err: err}
	}
	d.kept.Add(1)
	return nil
}

// checks lists the digests that tell whether the bytes of a piece are right.
func (p *piece) checks() []string {
	if len(p.file.pieces) == 1 && p.check != p.file.file.Digest {
		return []string{p.check, p.file.file.Digest}
	}
	return []string{p.check}
}
