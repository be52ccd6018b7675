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
	"time"

	"golang.org/x/sync/errgroup"

	"morvant/internal/adapter"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/pack"
	"morvant/internal/store"
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
	ask, index := d.wanted(part, pieces)
	places, until, err := d.places(ctx, ask, func(path string) bool {
		for _, q := range index[path] {
			return !q.file.file.Forgeable()
		}
		return false
	})
	if adapter.Is(err, adapter.CodeNoBuild) && !d.reread {
		// Perhaps the build is not listed any more, and its manifest is still there.
		d.reread = true
		if err := d.spoken.Relist(ctx); err != nil {
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
	if err := d.get(ctx, until, sources, bySource); err != nil {
		return told, err
	}
	var read []string
	for i := range places {
		if f := places[i].File; f != "" && !slices.Contains(read, f) {
			read = append(read, f)
		}
	}
	if len(read) > 0 && d.spoken.Said.Protocol > 1 {
		d.spoken.Done(ctx, read)
	}
	return told, nil
}

// wanted makes the question where pieces are, and an index of them by path and number.
func (d *delivery) wanted(part Part, pieces []*piece) (adapter.ContentParams, map[string]map[int]*piece) {
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
	return ask, index
}

// get gets what is at places, several at a time, until they expire. Where one fails, the others are tried all the same; the
// last such error is returned.
func (d *delivery) get(ctx context.Context, until time.Time, sources map[string]feed.Source, bySource map[string][]*span) error {
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
		return err
	}
	if errors.Is(context.Cause(ctx), errExpired) {
		return errExpired
	}
	return last
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
