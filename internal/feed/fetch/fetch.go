package fetch

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/pack"
	"morvant/internal/progress"
	"morvant/internal/store"
	"morvant/internal/volume"
)

const (
	// runSize is up to how much is asked for in one request, in bytes.
	runSize = 8 << 20
	// gap is how many unwanted bytes between two chunks are taken along, as long
	// as they are few beside the wanted ones: cheaper than another request.
	gap = 16 << 10
	// gapShare is the largest part of a request that may be unwanted.
	gapShare = 0.03
	// From servers that send whole files only, so many bytes may be read: worthFactor times as
	// many as are wanted, and worthFree. That is about two packs.
	worthFactor = 8
	worthFree   = 128 << 20
	// againFactor is how many times as much may be read there when the line breaks again and again.
	againFactor = 3
	// skipFree is what may come beside the parts that were asked for, as much as is wanted aside.
	skipFree = 1 << 20
	// tries is how often a bad chunk is asked of each source.
	tries = 2
)

// ContentError says that content came that is not what the catalogue names, from
// every source that was asked.
type ContentError struct {
	Files []string
}

func (e *ContentError) Error() string {
	list := e.Files
	more := ""
	if len(list) > 5 {
		list, more = list[:5], fmt.Sprintf(" and %d more", len(e.Files)-5)
	}
	return fmt.Sprintf("the feed sends wrong content for %s%s", strings.Join(list, ", "), more)
}

// Fetched is what a fetch came to.
type Fetched struct {
	Received int64 // bytes over the line, answers' bodies only
	Found    int64 // bytes taken from files of this computer
	Files    int
}

// Run carries out the plan: everything it names is in the store afterwards. What
// had arrived stays when it is interrupted, and is not fetched again.
func (p *Plan) Run(ctx context.Context, o feed.Options) (*Fetched, error) {
	result := &Fetched{Files: p.Files}
	if p.Empty() {
		return result, nil
	}
	if err := volume.CheckFree(p.request.Store.Dir(), p.Grow); err != nil {
		return nil, err
	}
	w, sources, err := p.Feed.Connect(o)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	w.Rounds = feed.FetchRounds
	if p.told != nil {
		return p.runTold(ctx, w, result, o)
	}
	session, err := p.request.Store.Resume(ctx, p.request.Owner)
	if err != nil {
		return nil, err
	}
	t := &transfer{plan: p, wire: w, sources: sources, session: session, meter: o.Meter, bad: make(map[digest.Digest]*need)}
	if t.coder, err = pack.NewCoder(pack.Fast); err == nil {
		err = t.run(ctx)
		t.coder.Close()
	}
	result.Received, result.Found = w.Received.Load(), t.found.Load()
	if err := errors.Join(err, t.session.Close()); err != nil {
		return result, err
	}
	return result, p.assemble(ctx, o.Meter)
}

// transfer is a plan being carried out.
type transfer struct {
	plan    *Plan
	wire    *feed.Wire
	sources []feed.Source
	session *store.Session
	coder   *pack.Coder
	meter   progress.Meter
	found   atomic.Int64
	arrived atomic.Int64 // chunks
	total   int64        // bytes that are wanted
	skipped atomic.Int64 // bytes read over
	maySkip int64
	deaf    sync.Map // sources that send whole packs only
	whole   bool     // all of them do
	spool   *volume.Spool

	mu  sync.Mutex
	bad map[digest.Digest]*need // arrived wrong
}

func (t *transfer) run(ctx context.Context) error {
	if err := t.collect(ctx); err != nil {
		return err
	}
	var levels [][]*need
	var total int64
	for _, n := range t.plan.needs {
		if n.local != nil {
			continue
		}
		for len(levels) <= n.level {
			levels = append(levels, nil)
		}
		levels[n.level] = append(levels[n.level], n)
		total += n.entry.Size()
	}
	if total == 0 {
		return nil
	}
	t.total, t.maySkip = total, total+skipFree
	t.meter.Begin("Fetching", total)
	defer t.meter.End()
	if t.plan.whole {
		return t.fetchWhole(ctx, levels)
	}
	for i, needs := range levels {
		if i > 0 {
			// What the next chunks are coded against must be readable.
			if err := t.turn(ctx); err != nil {
				return err
			}
		}
		err := t.fetchAll(ctx, needs)
		if errors.Is(err, feed.ErrNoRanges) {
			levels[i] = t.left(needs)
			return t.fetchWhole(ctx, levels[i:])
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// left returns those needs that have not arrived.
func (t *transfer) left(needs []*need) []*need {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(needs), func(n *need) bool { return n.done || t.bad[n.digest] != nil })
}

// turn brings everything so far into the store and begins a new session.
func (t *transfer) turn(ctx context.Context) error {
	if err := t.session.Close(); err != nil {
		return err
	}
	session, err := t.plan.request.Store.Resume(ctx, t.plan.request.Owner)
	if err != nil {
		return err
	}
	t.session = session
	return nil
}

// fetchAll gets chunks, again from other sources where they arrive wrong.
func (t *transfer) fetchAll(ctx context.Context, needs []*need) error {
	if err := t.fetch(ctx, runsOf(needs, runSize), t.sources); err != nil {
		return err
	}
	return t.again(ctx)
}

// fetchWhole reads each pack once, from its beginning to the last that is needed of it. What is coded
// against something else waits in a file until all is here.
func (t *transfer) fetchWhole(ctx context.Context, levels [][]*need) (err error) {
	list := wholePacks(slices.Concat(levels...))
	read := toRead(list)
	if err := worth(read, t.total); err != nil {
		return err
	}
	if t.spool, err = volume.NewSpool(t.plan.request.Store.Dir()); err != nil {
		return &feed.StoreError{Err: err}
	}
	defer func() { err = errors.Join(err, t.spool.Close()) }()
	t.whole, t.maySkip = true, againFactor*read
	t.meter.End()
	t.meter.Begin("Fetching whole files, as the server sends no parts of them", read)
	if err := t.fetch(ctx, list, t.sources); err != nil {
		return err
	}
	for _, needs := range levels {
		if len(needs) > 0 && needs[0].level > 0 {
			if err := t.turn(ctx); err != nil {
				return err
			}
			if err := t.unspool(ctx, needs); err != nil {
				return err
			}
		}
		if err := t.again(ctx); err != nil {
			return err
		}
	}
	return nil
}

// unspool takes what has waited for what it is coded against.
func (t *transfer) unspool(ctx context.Context, needs []*need) error {
	for _, n := range needs {
		stored, err := t.spool.Get(n.digest.String())
		if err == nil {
			_, err = t.take(ctx, n, stored, nil)
		}
		var local *feed.StoreError
		if errors.As(err, &local) {
			return err
		}
		if err != nil {
			t.bad[n.digest] = n
		}
	}
	return ctx.Err()
}

// toRead adds up what is read of packs that come whole.
func toRead(list []*run) int64 {
	var n int64
	for _, r := range list {
		n += r.to
	}
	return n
}

// worth returns an error if too much would have to be read for what is wanted.
func worth(read, wanted int64) error {
	if read <= worthFactor*wanted+worthFree {
		return nil
	}
	return fmt.Errorf("%w: %d MB would have to be read to get %d MB", feed.ErrNoRanges, read/1e6, wanted/1e6)
}

// skip reads over bytes that were not asked for.
func (t *transfer) skip(in io.Reader, n int64) error {
	if n <= 0 {
		return nil
	}
	if t.skipped.Add(n) > t.maySkip {
		return fmt.Errorf("%w: it sends far more than it is asked for", feed.ErrHostile)
	}
	_, err := io.CopyN(io.Discard, in, n)
	if t.whole {
		t.meter.Advance(n, "")
	}
	return short(err)
}

// wholePacks makes one run of everything that is needed of a pack.
func wholePacks(needs []*need) []*run {
	var list []*run
	for _, r := range runsOf(needs, 0) {
		if n := len(list); n > 0 && list[n-1].pack == r.pack {
			list[n-1].needs = append(list[n-1].needs, r.needs...)
			list[n-1].to = r.to
			continue
		}
		list = append(list, r)
	}
	return list
}

// errMoved is returned where a local file has changed since it was searched.
var errMoved = errors.New("the file has changed since it was looked at")

// collect takes chunks from local files.
func (t *transfer) collect(ctx context.Context) error {
	byFile := make(map[*Local][]*need)
	for _, n := range t.plan.needs {
		if n.local != nil {
			byFile[n.local] = append(byFile[n.local], n)
		}
	}
	if len(byFile) == 0 {
		return nil
	}
	t.meter.Begin("Taking from files here", t.plan.Found)
	defer t.meter.End()
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(store.Workers())
	for l, needs := range byFile {
		g.Go(func() error {
			if err := t.takeFrom(ctx, l, needs); err != nil {
				return fmt.Errorf("%s: %w", l.Path, err)
			}
			return nil
		})
	}
	return g.Wait()
}

func (t *transfer) takeFrom(ctx context.Context, l *Local, needs []*need) error {
	slices.SortFunc(needs, func(a, b *need) int { return cmp.Compare(a.at, b.at) })
	f, err := l.Open()
	if err != nil {
		return err
	}
	defer f.Close()
	var buf []byte
	for _, n := range needs {
		if err := ctx.Err(); err != nil {
			return err
		}
		buf = slices.Grow(buf[:0], n.size)[:n.size]
		if _, err := f.ReadAt(buf, n.at); err != nil && !errors.Is(err, io.EOF) || digest.Of(buf) != n.digest {
			return fmt.Errorf("%w; run the command again", errMoved)
		}
		if err := t.session.PutPlain(ctx, n.digest, buf); err != nil {
			return err
		}
		t.found.Add(int64(n.size))
		t.meter.Advance(int64(n.size), l.Path)
	}
	return nil
}

// run is chunks that are asked for in one request, in their order in the pack.
type run struct {
	pack     digest.Digest
	needs    []*need
	from, to int64
}

// runsOf puts neighbours together, up to size bytes a run.
func runsOf(needs []*need, size int64) []*run {
	needs = slices.Clone(needs)
	slices.SortFunc(needs, func(a, b *need) int {
		return cmp.Or(slices.Compare(a.pack[:], b.pack[:]), cmp.Compare(a.entry.Offset, b.entry.Offset))
	})
	extent := func(n *need) (from, to int64) { return n.entry.Offset, n.entry.Offset + n.entry.Size() }
	var list []*run
	for _, group := range neighbours(needs, extent, func(a, b *need) bool { return a.pack == b.pack }, size) {
		r := &run{pack: group[0].pack, needs: group}
		r.from, _ = extent(group[0])
		_, r.to = extent(group[len(group)-1])
		list = append(list, r)
	}
	return list
}

// neighbours divides a list that is in order into what one request can bring: what lies side by side, or close enough.
func neighbours[T any](list []T, extent func(T) (from, to int64), together func(a, b T) bool, size int64) [][]T {
	var runs [][]T
	var first, end, wasted int64
	for i, x := range list {
		from, to := extent(x)
		if i > 0 && together(list[i-1], x) && to-first <= size {
			if skip := from - end; skip == 0 || skip > 0 && skip <= gap && float64(wasted+skip) <= gapShare*float64(to-first) {
				wasted += skip
				end = to
				runs[len(runs)-1] = append(runs[len(runs)-1], x)
				continue
			}
		}
		first, end, wasted = from, to, 0
		runs = append(runs, []T{x})
	}
	return runs
}

// fetch gets runs, several at a time.
func (t *transfer) fetch(ctx context.Context, list []*run, sources []feed.Source) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(feed.Connections)
	for i := range list {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error { return t.get(ctx, list[i], sources) })
	}
	return g.Wait()
}

// get gets one run, going on behind what has arrived when the line breaks.
func (t *transfer) get(ctx context.Context, r *run, sources []feed.Source) error {
	path := catalogue.PackFile(r.pack)
	done := func() int64 { return t.arrived.Load() }
	if !t.whole {
		hearing := slices.DeleteFunc(slices.Clone(sources), func(s feed.Source) bool { _, deaf := t.deaf.Load(s); return deaf })
		if len(hearing) > 0 {
			sources = hearing
		}
	}
	return t.wire.Attempt(ctx, sources, done, func(s feed.Source) error {
		if len(r.needs) == 0 {
			return nil
		}
		return t.stream(ctx, s, path, r)
	})
}

// stream reads chunks of a run off one answer. What has arrived leaves the run.
func (t *transfer) stream(ctx context.Context, s feed.Source, path string, r *run) error {
	from, to := r.needs[0].entry.Offset, r.to
	body, at, err := s.Open(ctx, path, from, to)
	if err != nil {
		return err
	}
	defer body.Close()
	if feed.IgnoresRanges(at, from) && !t.whole {
		t.deaf.Store(s, true)
		return feed.ErrNoRanges
	}
	in := bufio.NewReaderSize(body, 16<<10) // large chunks pass it by
	var buf, plain []byte
	for len(r.needs) > 0 {
		n := r.needs[0]
		e := n.entry
		if err := t.skip(in, e.Offset-at); err != nil {
			return err
		}
		at = e.Offset
		buf = slices.Grow(buf[:0], int(e.Size()))[:e.Size()]
		if _, err := io.ReadFull(in, buf); err != nil {
			return short(err)
		}
		at += e.Size()
		stored, err := pack.Stored(buf, e)
		switch {
		case err != nil:
		case t.whole && n.level > 0:
			if err := t.spool.Put(n.digest.String(), stored); err != nil {
				return &feed.StoreError{Err: err}
			}
		default:
			if plain, err = t.take(ctx, n, stored, plain); err != nil {
				var local *feed.StoreError
				if errors.As(err, &local) {
					return err
				}
			}
		}
		r.needs = r.needs[1:]
		if err != nil {
			t.mu.Lock()
			t.bad[e.Digest] = n
			t.mu.Unlock()
			continue
		}
		n.done = true
		t.arrived.Add(1)
		t.meter.Advance(e.Size(), n.path)
	}
	return nil
}

// take checks a record that has arrived and puts its chunk into the store. room is
// for decoding, and returned for the next one.
func (t *transfer) take(ctx context.Context, n *need, stored, room []byte) ([]byte, error) {
	if !n.entry.Coding.NeedsBase() {
		plain, err := t.coder.Decode(n.entry, stored, room)
		if err != nil {
			return room, err
		}
		if n.entry.Coding != pack.Plain {
			room = plain // a plain one is part of what arrived
		}
		if err := t.session.PutChunk(n.entry, stored); err != nil {
			return room, &feed.StoreError{Err: err}
		}
		return room, nil
	}
	if base, err := pack.BaseOf(stored); err != nil || base != n.base {
		return room, fmt.Errorf("chunk %s: %w: another base", n.digest.Short(), pack.ErrChecksum)
	}
	base, err := t.plan.request.Store.Chunk(ctx, n.base, nil)
	if err != nil {
		return room, &feed.StoreError{Err: err}
	}
	plain, err := pack.DecodeAgainst(n.entry, stored, base)
	if err != nil {
		return room, err
	}
	if err := t.session.PutPlain(ctx, n.digest, plain); err != nil {
		return room, &feed.StoreError{Err: err}
	}
	return room, nil
}

// short explains an answer that ended early.
func short(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return feed.ErrShort
	}
	return err
}

// again asks every source for the chunks that arrived wrong, one by one, and
// reports those that stay wrong.
func (t *transfer) again(ctx context.Context) error {
	for range tries {
		for _, s := range t.sources {
			if len(t.bad) == 0 {
				return nil
			}
			needs := slices.Collect(maps.Values(t.bad))
			t.bad = make(map[digest.Digest]*need)
			if err := t.fetch(ctx, runsOf(needs, 0), []feed.Source{s}); err != nil {
				if ctx.Err() != nil {
					return ctx.Err()
				}
				var local *feed.StoreError
				if errors.As(err, &local) {
					return err
				}
				for _, n := range needs {
					t.bad[n.digest] = n
				}
			}
		}
	}
	if len(t.bad) == 0 {
		return nil
	}
	files := make(map[string]bool)
	for _, n := range t.bad {
		if n.path != "" {
			files[n.path] = true
		}
	}
	for _, f := range t.plan.files {
		if slices.ContainsFunc(f.pieces, func(p store.Piece) bool { return t.bad[p.Digest] != nil }) {
			files[f.path] = true
		}
	}
	return &ContentError{slices.Sorted(maps.Keys(files))}
}

// assemble records how the files are put together, now that all chunks are there.
func (p *Plan) assemble(ctx context.Context, meter progress.Meter) error {
	session := p.request.Store.Begin()
	meter.Begin("Checking", p.Bytes)
	defer meter.End()
	var mu sync.Mutex
	var wrong []string
	g, groupCtx := errgroup.WithContext(ctx)
	g.SetLimit(store.Workers())
	for _, f := range p.files {
		g.Go(func() error {
			err := session.Assemble(groupCtx, f.digest, f.pieces, func(n int) { meter.Advance(int64(n), f.path) })
			if errors.Is(err, pack.ErrChecksum) {
				mu.Lock()
				wrong = append(wrong, f.path)
				mu.Unlock()
				return nil
			}
			return err
		})
	}
	if err := errors.Join(g.Wait(), session.Close()); err != nil {
		return err
	}
	if len(wrong) > 0 {
		slices.Sort(wrong)
		return &ContentError{wrong}
	}
	return nil
}
