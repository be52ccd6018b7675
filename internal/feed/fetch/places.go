package fetch

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"
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

const (
	// askAtOnce is how many pieces an adapter is asked for at once.
	askAtOnce = 1000
	// unknownLength is how much more than its size a piece may take where it is stored: a 64th, and this.
	unknownLength = 1 << 20
	// placeRounds is how often an adapter is asked where something is that has not come.
	placeRounds = 3
)

// span is what one request brings of a piece: all of it, or a part of one that is large.
type span struct {
	piece    *piece
	place    *adapter.Place
	from, to int64 // of what is stored there
	part, of int
	open     bool   // to is a guess: the bytes end where the file does
	got      []byte // what had come when the line broke
	spooled  int    // of an open one: how many parts of the answer the spool has
}

// spans divides a piece whose stored bytes lie between from and to.
func (p *piece) spans(from, to int64) []*span {
	n := max(1, (to-from+runSize-1)/runSize)
	var list []*span
	for i := range n {
		list = append(list, &span{piece: p, from: from + i*runSize, to: min(to, from+(i+1)*runSize), part: int(i), of: int(n)})
	}
	return list
}

// name is what the bytes of a span are known by until the piece is whole.
func (c *span) name() digest.Digest {
	return digest.Unseen(fmt.Sprintf("cut\n%s\n%d of %d", c.piece.name, c.part, c.of))
}

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

// takeLocal takes pieces from files of this computer.
func (d *delivery) takeLocal(ctx context.Context) error {
	byFile := make(map[*Local][]*piece)
	for _, q := range d.plan.told.needs {
		if q.local != nil {
			byFile[q.local] = append(byFile[q.local], q)
		}
	}
	if len(byFile) == 0 {
		return nil
	}
	d.meter.Begin("Taking from files here", d.plan.Found)
	defer d.meter.End()
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(store.Workers())
	for l, pieces := range byFile {
		g.Go(func() error {
			f, err := l.Open()
			if err != nil {
				return fmt.Errorf("%s: %w", l.Path, err)
			}
			defer f.Close()
			slices.SortFunc(pieces, func(a, b *piece) int { return cmp.Compare(a.at, b.at) })
			for _, q := range pieces {
				err := d.put(ctx, q.file, q.name, io.NewSectionReader(f, q.at, q.size), q.checks()...)
				if errors.Is(err, pack.ErrChecksum) {
					return fmt.Errorf("%s: %w; run the command again", l.Path, errMoved)
				}
				if err != nil {
					return fmt.Errorf("%s: %w", l.Path, err)
				}
				d.found.Add(q.size)
				d.meter.Advance(q.size, l.Path)
			}
			return nil
		})
	}
	return g.Wait()
}

// fetch gets pieces over the line, or from files that the adapter puts into its folder.
func (d *delivery) fetch(ctx context.Context, pieces []*piece) error {
	if len(pieces) == 0 {
		return nil
	}
	d.meter.Begin("Fetching", d.plan.Fetch)
	defer d.meter.End()
	byPart := make(map[int][]*piece)
	for _, q := range pieces {
		byPart[q.file.part] = append(byPart[q.file.part], q)
	}
	for _, part := range slices.Sorted(maps.Keys(byPart)) {
		var last error
		kept := d.kept.Load()
		for round := 0; ; round++ {
			if now := d.kept.Load(); now > kept {
				kept, round = now, 0 // places may expire any number of times, as long as something comes that is right
			}
			left := slices.DeleteFunc(slices.Clone(byPart[part]), func(q *piece) bool { return q.done })
			if len(left) == 0 {
				break
			}
			if round == placeRounds {
				return d.missing(left, last)
			}
			for len(left) > 0 {
				some, err := d.some(ctx, d.plan.request.Parts[part], left[:min(len(left), askAtOnce)])
				var local *feed.StoreError
				switch {
				case ctx.Err() != nil:
					return ctx.Err()
				case errors.As(err, &local), errors.Is(err, adapter.ErrProtocol), errors.Is(err, adapter.ErrSilent), errors.Is(err, adapter.ErrEnded):
					return err
				case err != nil && some == nil:
					return err // the adapter does not say where
				case err != nil:
					last = err
				}
				asked := make(map[*piece]bool)
				for _, q := range some {
					asked[q] = true
				}
				left = slices.DeleteFunc(left, func(q *piece) bool { return asked[q] })
			}
		}
	}
	return nil
}

// missing is the error for pieces that have not come.
func (d *delivery) missing(left []*piece, last error) error {
	var wrong []*toldFile
	for _, q := range left {
		if q.bad {
			wrong = append(wrong, q.file)
		}
	}
	if len(wrong) > 0 {
		return contentError(wrong)
	}
	if last != nil {
		return last
	}
	return fmt.Errorf("the adapter %s: %w: it does not say where %s is", d.spoken.Name(), adapter.ErrProtocol, left[0].file.path)
}

// some asks for places and gets what is there. It returns the pieces that were answered for.
func (d *delivery) some(ctx context.Context, part Part, pieces []*piece) ([]*piece, error) {
	byPath := make(map[string]*adapter.Want)
	index := make(map[string]map[int]*piece)
	ask := adapter.ContentParams{Build: d.buildOf(part), Component: part.Name, Manifest: part.ID}
	for _, q := range pieces {
		path := q.file.path
		if byPath[path] == nil {
			byPath[path], index[path] = &adapter.Want{Path: path}, make(map[int]*piece)
		}
		if w := byPath[path]; len(q.file.file.Pieces) > 0 {
			w.Pieces = append(w.Pieces, q.index)
		}
		index[path][q.index] = q
	}
	for _, path := range slices.Sorted(maps.Keys(byPath)) {
		ask.Want = append(ask.Want, *byPath[path])
	}
	places, until, err := d.places(ctx, ask, func(path string) bool {
		for _, q := range index[path] {
			return !q.file.file.Forgeable()
		}
		return false
	})
	if adapter.Is(err, adapter.CodeNoBuild) && !d.reread {
		// Perhaps the build is not listed any more, and its manifest is still there.
		d.reread = true
		if err := d.plan.Feed.Reread(ctx, d.spoken, d.options); err != nil {
			return nil, err
		}
		return d.some(ctx, part, pieces)
	}
	if err != nil {
		return nil, d.plan.Feed.Meant(err)
	}
	bySource := make(map[string][]*span)
	sources := make(map[string]feed.Source)
	var told []*piece
	answered := make(map[*piece]bool)
	for i := range places {
		at := &places[i]
		q := index[at.Path][at.Piece]
		if q == nil {
			return nil, fmt.Errorf("the adapter %s: %w: %s has no piece %d", d.spoken.Name(), adapter.ErrProtocol, at.Path, at.Piece)
		}
		if answered[q] {
			continue // one place is enough
		}
		answered[q] = true
		if at.Length > mostStored(q.size) {
			return nil, fmt.Errorf("the adapter %s: %w: a piece of %s has %d bytes, and would take %d", d.spoken.Name(), adapter.ErrProtocol, at.Path, q.size, at.Length)
		}
		key, source, err := d.source(ctx, at)
		if err != nil {
			return nil, err
		}
		sources[key] = source
		told = append(told, q)
		bySource[key] = append(bySource[key], d.spansAt(q, at)...)
	}
	if len(told) == 0 {
		return nil, fmt.Errorf("the adapter %s: %w: it does not say where %s is", d.spoken.Name(), adapter.ErrProtocol, pieces[0].file.path)
	}
	if !until.IsZero() {
		var cancel context.CancelFunc
		ctx, cancel = context.WithDeadlineCause(ctx, until, errExpired)
		defer cancel()
	}
	g, groupCtx := errgroup.WithContext(ctx)
	g.SetLimit(feed.Connections)
	var mu sync.Mutex
	var last error
	for _, key := range slices.Sorted(maps.Keys(bySource)) {
		for _, list := range spanRuns(bySource[key]) {
			g.Go(func() error {
				err := d.wire.Attempt(groupCtx, []feed.Source{sources[key]}, d.arrived.Load, func(s feed.Source) error { return d.stream(groupCtx, s, &list) })
				var local *feed.StoreError
				if errors.As(err, &local) {
					return err
				}
				if err != nil {
					mu.Lock()
					last = err
					mu.Unlock()
				}
				return nil // other places may do
			})
		}
	}
	if err := g.Wait(); err != nil {
		return told, err
	}
	if errors.Is(context.Cause(ctx), errExpired) {
		return told, errExpired
	}
	return told, last
}

var errExpired = errors.New("the places have expired")

// places asks where pieces are, and once more where the answer has expired when it comes. If that has expired as well,
// most likely this computer's clock is wrong: the places are tried all the same.
func (d *delivery) places(ctx context.Context, ask adapter.ContentParams, strong func(path string) bool) ([]adapter.Place, time.Time, error) {
	for try := 0; ; try++ {
		places, until, err := d.spoken.Content(ctx, ask, strong)
		ago := time.Since(until)
		if err != nil || until.IsZero() || ago < 0 {
			return places, until, err
		}
		if try > 0 {
			d.clock.Do(func() {
				d.meter.Warn(fmt.Sprintf("what the adapter %s answers has expired %s ago by the clock of this computer; is the clock right? Morvant tries it all the same", d.spoken.Name(), ago.Round(time.Second)))
			})
			return places, time.Time{}, nil
		}
	}
}

// buildOf returns the id of a build that has a part, for the adapter; empty if none is listed.
func (d *delivery) buildOf(part Part) string {
	channels, err := d.plan.Feed.Channels()
	if err != nil {
		return ""
	}
	for _, c := range channels {
		for _, b := range slices.Backward(c.Builds) {
			for _, p := range b.Components {
				if p.Manifest == part.Part.Manifest && b.Asked() != "" {
					return b.Asked()
				}
			}
		}
	}
	return ""
}

// source returns where a place is. What is the same place has the same key.
func (d *delivery) source(ctx context.Context, at *adapter.Place) (string, feed.Source, error) {
	if at.File != "" {
		// Links out of the folder are not followed, see volume.OpenIn.
		dir, err := filepath.Abs(d.plan.Feed.File("adapter"))
		return "file " + at.File, &fixed{d.wire.Within(dir), at.File}, err
	}
	u, err := url.Parse(at.URL)
	if err != nil {
		return "", nil, err
	}
	var key strings.Builder
	key.WriteString(at.URL)
	for _, k := range slices.Sorted(maps.Keys(at.Headers)) {
		fmt.Fprintf(&key, "\n%s: %s", k, at.Headers[k])
	}
	source, err := d.wire.Place(ctx, u, at.Headers)
	if err != nil {
		err = fmt.Errorf("the adapter %s: %s: %w", d.spoken.Name(), at.Path, err)
	}
	return key.String(), source, err
}

// fixed is a source of one file.
type fixed struct {
	feed.Source
	path string
}

func (f *fixed) Open(ctx context.Context, _ string, from, to int64) (io.ReadCloser, int64, error) {
	return f.Source.Open(ctx, f.path, from, to)
}

// mostStored is how much a piece of a size may take, however it is coded.
func mostStored(size int64) int64 { return size + size/64 + unknownLength }

// spansAt divides what is at a place, and leaves out the parts that have come before.
func (d *delivery) spansAt(q *piece, at *adapter.Place) []*span {
	length, open := at.Length, false
	if length == 0 {
		switch {
		case at.Coding == "" || at.Coding == "identity":
			length = q.size
		case len(q.file.file.Pieces) > 0 && q.file.file.Pieces[q.index].Stored > 0:
			length = q.cost
		default:
			length, open = mostStored(q.size), true
		}
	}
	if open {
		return []*span{{piece: q, place: at, from: at.Offset, to: at.Offset + length, of: 1, open: true}}
	}
	all := q.spans(at.Offset, at.Offset+length)
	for _, c := range all {
		c.place = at
	}
	if len(all) == 1 {
		return all
	}
	left := slices.DeleteFunc(slices.Clone(all), func(c *span) bool { return d.have(c) })
	q.done = len(left) == 0
	d.mu.Lock()
	defer d.mu.Unlock()
	d.large[q] = &large{q, at.Coding, all, len(left)}
	return left
}

// have reports whether a part of a large piece is in the store.
func (d *delivery) have(c *span) bool {
	own, ok := d.plan.Feed.Known.Known(c.name())
	if !ok {
		return false
	}
	has, err := d.plan.request.Store.Has(context.Background(), own)
	return err == nil && has
}

// spanRuns puts neighbours together, up to runSize bytes a run.
func spanRuns(list []*span) [][]*span {
	slices.SortFunc(list, func(a, b *span) int { return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.to, b.to)) })
	return neighbours(list, func(c *span) (from, to int64) { return c.from, c.to }, func(a, b *span) bool { return !a.open && !b.open }, runSize)
}

// stream reads spans off one answer. What has arrived leaves the list.
func (d *delivery) stream(ctx context.Context, s feed.Source, list *[]*span) error {
	if len(*list) == 0 {
		return nil
	}
	first, end := (*list)[0], (*list)[len(*list)-1]
	from := first.from + int64(len(first.got))
	body, at, err := s.Open(ctx, "", from, end.to)
	if err != nil {
		return err
	}
	defer body.Close()
	if from-at > skipFree {
		return feed.ErrNoRanges
	}
	in := bufio.NewReaderSize(body, 16<<10)
	for len(*list) > 0 {
		c := (*list)[0]
		next := c.from + int64(len(c.got))
		if _, err := io.CopyN(io.Discard, in, next-at); err != nil {
			return short(err)
		}
		more, err := d.read(in, c)
		if at = next + int64(more); err != nil {
			return short(err)
		}
		var raw io.Reader = bytes.NewReader(c.got)
		if c.open {
			raw = &unspooling{d: d, c: c}
		}
		c.got = nil
		if err := d.take(ctx, c, raw); err != nil {
			if !errors.Is(err, pack.ErrChecksum) {
				return err
			}
			d.mu.Lock()
			c.piece.bad = true
			c.piece.file.contradicts = errors.Is(err, errContradicts)
			d.mu.Unlock()
		}
		*list = (*list)[1:]
	}
	return nil
}

// read reads the rest of a span, and keeps what has come where that breaks off.
func (d *delivery) read(in io.Reader, c *span) (n int, err error) {
	if c.open {
		return d.readOpen(in, c)
	}
	rest := make([]byte, c.to-c.from-int64(len(c.got)))
	n, err = io.ReadFull(in, rest)
	c.got = append(c.got, rest[:n]...)
	d.arrived.Add(int64(n))
	d.meter.Advance(int64(n), c.piece.file.path)
	return n, err
}

// spoolPart is how much of an answer of unknown length is in memory at a time, in bytes.
const spoolPart = 256 << 10

// readOpen reads an answer to its end, into the spool. Nobody knows how much there is: where the line breaks, it comes
// from the beginning.
func (d *delivery) readOpen(in io.Reader, c *span) (n int, err error) {
	d.spools.Do(func() { d.spool, d.noSpool = volume.NewSpool(d.plan.request.Store.Dir()) })
	if d.noSpool != nil {
		return 0, &feed.StoreError{Err: d.noSpool}
	}
	in = io.LimitReader(in, c.to-c.from)
	buf := make([]byte, spoolPart)
	for c.spooled = 0; ; c.spooled++ {
		k := 0
		var err error
		for k < len(buf) && err == nil { // io.ReadFull would not tell the end from a line that breaks
			var more int
			more, err = in.Read(buf[k:])
			k += more
		}
		n += k
		d.arrived.Add(int64(k))
		d.meter.Advance(int64(k), c.piece.file.path)
		if err := d.spool.Put(c.spoolName(c.spooled), buf[:k]); err != nil {
			return n, &feed.StoreError{Err: err}
		}
		switch {
		case err == io.EOF:
			c.spooled++
			return n, nil
		case err != nil:
			return n, err
		}
	}
}

// spoolName names a part of an answer in the spool.
func (c *span) spoolName(i int) string { return fmt.Sprintf("%s %d", c.piece.name, i) }

// unspooling reads an answer that is in the spool.
type unspooling struct {
	d    *delivery
	c    *span
	next int
	rest []byte
}

func (u *unspooling) Read(b []byte) (int, error) {
	for len(u.rest) == 0 {
		if u.next == u.c.spooled {
			return 0, io.EOF
		}
		var err error
		if u.rest, err = u.d.spool.Get(u.c.spoolName(u.next)); err != nil {
			return 0, &feed.StoreError{Err: err}
		}
		u.next++
	}
	n := copy(b, u.rest)
	u.rest = u.rest[n:]
	return n, nil
}

// take brings what has come of a piece into the store.
func (d *delivery) take(ctx context.Context, c *span, raw io.Reader) error {
	if c.of > 1 {
		if err := d.put(ctx, c.piece.file, c.name(), raw); err != nil {
			return err
		}
		d.mu.Lock()
		defer d.mu.Unlock()
		l := d.large[c.piece]
		l.left--
		c.piece.done = l.left == 0
		return nil
	}
	r, done, err := decoded(c.place.Coding, raw, c.piece.size)
	defer done()
	if err != nil {
		return err
	}
	if err := d.put(ctx, c.piece.file, c.piece.name, r, c.piece.checks()...); err != nil {
		return err
	}
	c.piece.done = true
	return nil
}
