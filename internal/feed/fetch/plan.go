package fetch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"morvant/internal/catalogue"
	"morvant/internal/chunk"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/manifest"
	"morvant/internal/pack"
	"morvant/internal/problem"
	"morvant/internal/progress"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// ErrNoContent is returned for a build of a feed that offers manifests alone.
var ErrNoContent = problem.New("the feed lists this build, but does not have its content", "Get the content from another feed, or from a folder that has it")

// Part is a component of a build that content is wanted of.
type Part struct {
	catalogue.Part
	Manifest *manifest.Manifest
}

// Local is a file of this computer that may hold content that is wanted.
type Local struct {
	Path   string
	Size   int64
	Digest digest.Digest // zero if not known
	Open   func() (*os.File, error)
}

// Request says what content is wanted.
type Request struct {
	Store *store.Store
	Parts []Part
	// Only limits what is wanted to these contents; nil: all files of the parts.
	Only  map[digest.Digest]bool
	Local []Local
	Owner string // see store.Resume
}

// Plan says what a fetch takes, before it is done.
type Plan struct {
	Feed   *feed.Feed
	Files  int   // files whose content is not in the store as a whole
	Bytes  int64 // their size
	Chunks int   // chunks that come over the line
	Fetch  int64 // bytes that come over the line
	Wanted int64 // of those, the ones that are wanted: all of them, unless the server sends whole files only
	Found  int64 // bytes found in files of this computer
	Grow   int64 // bytes that the store grows by, about
	// Weak and Unchecked count files that only a weak digest, or none, tells from other content.
	Weak, Unchecked int

	request Request
	files   []file
	needs   []*need
	told    *toldPlan                     // what an adapter has to do with it; nil: nothing
	own     map[string]manifest.Attribute // by path, of programs and of files whose time is known
	whole   bool                          // no server sends parts of files
}

// Empty reports whether there is nothing to be done.
func (p *Plan) Empty() bool { return p == nil || len(p.files) == 0 && p.told.empty() }

// Pieces lists the chunks of all files that the fetch is for.
func (p *Plan) Pieces() []digest.Digest {
	if p == nil {
		return nil
	}
	list := p.told.names()
	for _, f := range p.files {
		for _, piece := range f.pieces {
			list = append(list, piece.Digest)
		}
	}
	return list
}

// Attributes says which files of the parts are programs, and when files were last changed, by path; other
// files are not in it.
func (p *Plan) Attributes() map[string]manifest.Attribute { return p.own }

// file is a wanted file that is not whole in the store.
type file struct {
	path   string
	size   int64
	digest digest.Digest
	pieces []store.Piece
}

// need is a chunk that the store lacks, and where it will come from.
type need struct {
	digest digest.Digest
	size   int
	path   string // of a file that it is for
	local  *Local // holds it at offset; nil: it must be fetched
	at     int64
	way         // of fetching it
	level  int  // how many fetched chunks in a row it is coded against
	done   bool // it has arrived
}

// CachedLayout returns how the files of a part are put together if that is known
// here, else nil.
func CachedLayout(f *feed.Feed, p Part) *catalogue.Layout {
	packed, err := volume.ReadFile(f.File(catalogue.LayoutFile(p.Layout)), catalogue.MaxPacked)
	if err != nil {
		return nil
	}
	l, err := decodeLayout(packed, p)
	if err != nil {
		return nil // it is fetched anew when it is needed
	}
	return l
}

func decodeLayout(packed []byte, p Part) (*catalogue.Layout, error) {
	b, err := catalogue.Unpack(packed, p.Layout)
	if err != nil {
		return nil, fmt.Errorf("layout %s: %w", p.Layout.Short(), err)
	}
	l, err := catalogue.DecodeLayout(b, p.Manifest)
	if err != nil {
		return nil, fmt.Errorf("layout %s: %w", p.Layout.Short(), err)
	}
	return l, nil
}

// layoutOf returns which layout this feed has for a manifest. Another feed's would
// name packs that this one does not have.
func layoutOf(f *feed.Feed, m digest.Digest) (digest.Digest, error) {
	channels, err := f.Channels()
	if err != nil {
		return digest.Digest{}, err
	}
	for _, c := range channels {
		for _, b := range c.Builds {
			for _, p := range b.Components {
				if p.Manifest == m && !p.Layout.IsZero() {
					return p.Layout, nil
				}
			}
		}
	}
	return digest.Digest{}, nil
}

// layout returns the layout of a part, from the copy or from the feed.
func layout(ctx context.Context, f *feed.Feed, w *feed.Wire, sources []feed.Source, p Part) (*catalogue.Layout, error) {
	if p.Layout.IsZero() {
		return nil, fmt.Errorf("%s: %w", p.Name, ErrNoContent)
	}
	l := CachedLayout(f, p)
	if l != nil {
		return l, nil
	}
	path := catalogue.LayoutFile(p.Layout)
	packed, err := feed.GetNamed(ctx, w, sources, path, func(packed []byte) (err error) {
		l, err = decodeLayout(packed, p)
		return err
	})
	if err != nil {
		return nil, err
	}
	return l, f.Put(path, packed)
}

// Make finds out what has to be fetched: the chunks that neither the store nor a
// local file holds. It reads local files where that may save fetching.
func Make(ctx context.Context, f *feed.Feed, r Request, o feed.Options) (*Plan, error) {
	if f.Adapter != "" {
		return makeTold(ctx, f, r, o)
	}
	w, sources, err := f.Connect(o)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	p := &Plan{Feed: f, request: r, own: make(map[string]manifest.Attribute)}
	ws := newWays()
	targets := make(map[digest.Digest]*need)
	for _, part := range r.Parts {
		if len(part.Manifest.Files) == 0 {
			continue
		}
		if part.Layout, err = layoutOf(f, part.Part.Manifest); err != nil {
			return nil, err
		}
		layout, err := layout(ctx, f, w, sources, part)
		if err != nil {
			return nil, err
		}
		for _, program := range layout.Programs {
			p.own[program] = manifest.Attribute{Mode: 0o755}
		}
		for i, t := range layout.Times {
			if f := part.Manifest.Files[i]; !t.IsZero() {
				p.own[f.Path] = manifest.Attribute{Mode: p.own[f.Path].Mode, MTime: t}
			}
		}
		fresh, err := p.add(ctx, part.Manifest, layout, targets)
		if err != nil {
			return nil, err
		}
		if len(fresh) > 0 {
			ws.add(layout)
			if err := waysBack(ctx, f, w, sources, part, fresh, ws); err != nil {
				return nil, err
			}
		}
	}
	if err := p.resolve(ctx, targets, ws, o.Meter); err != nil {
		return nil, err
	}
	return p, p.probe(ctx, sources)
}

// probe finds out what the fetch costs from servers that send whole files only.
func (p *Plan) probe(ctx context.Context, sources []feed.Source) error {
	p.Wanted = p.Fetch
	var over []*need
	for _, n := range p.needs {
		if n.local == nil {
			over = append(over, n)
		}
	}
	if len(over) == 0 || !feed.OnlyWhole(ctx, sources, catalogue.PackFile(over[0].pack)) {
		return ctx.Err()
	}
	p.whole = true
	p.Fetch = toRead(wholePacks(over))
	return worth(p.Fetch, p.Wanted)
}

// resolve decides where each chunk comes from.
func (p *Plan) resolve(ctx context.Context, targets map[digest.Digest]*need, ws *ways, meter progress.Meter) error {
	wanted := make(map[digest.Digest]*need)
	for d, n := range targets {
		wanted[d] = n
	}
	for d, size := range ws.bases(targets) {
		wanted[d] = &need{digest: d, size: size}
	}
	missing, err := p.request.Store.Missing(ctx, slices.Collect(maps.Keys(wanted)))
	if err != nil {
		return err
	}
	for d := range wanted {
		if !missing[d] {
			delete(wanted, d)
		}
	}
	if err := p.search(ctx, wanted, targets, meter); err != nil {
		return err
	}
	p.needs = ws.choose(targets, wanted)
	slices.SortFunc(p.needs, func(a, b *need) int {
		return cmp.Or(cmp.Compare(a.path, b.path), slices.Compare(a.digest[:], b.digest[:]))
	})
	for _, n := range p.needs {
		p.Grow += int64(n.size) + pack.Overhead
		if n.local != nil {
			p.Found += int64(n.size)
			continue
		}
		p.Chunks++
		p.Fetch += n.entry.Size()
		if !n.entry.Coding.NeedsBase() {
			p.Grow -= int64(n.size) - int64(n.entry.Stored)
		}
	}
	return nil
}

// add lists the files of a part that the store lacks, and their missing chunks,
// and returns those that are new to targets.
func (p *Plan) add(ctx context.Context, m *manifest.Manifest, layout *catalogue.Layout, targets map[digest.Digest]*need) ([]*need, error) {
	var wanted []manifest.File
	var contents []digest.Digest
	listed := make(map[digest.Digest]bool)
	for _, f := range m.Files {
		if !listed[f.Digest] && (p.request.Only == nil || p.request.Only[f.Digest]) {
			listed[f.Digest] = true
			wanted = append(wanted, f)
			contents = append(contents, f.Digest)
		}
	}
	lacks, err := p.request.Store.Lacks(ctx, contents)
	if err != nil {
		return nil, err
	}
	fresh := make(map[digest.Digest]*need)
	for _, f := range wanted {
		if !lacks[f.Digest] {
			continue
		}
		out := file{path: f.Path, size: f.Size, digest: f.Digest}
		for _, i := range layout.Pieces(f.Digest) {
			c := layout.Chunks[i]
			out.pieces = append(out.pieces, store.Piece{Digest: c.Digest, Size: c.Size})
			if targets[c.Digest] == nil && fresh[c.Digest] == nil {
				fresh[c.Digest] = &need{digest: c.Digest, size: c.Size, path: f.Path}
			}
		}
		p.files = append(p.files, out)
		p.Files++
		p.Bytes += f.Size
	}
	missing, err := p.request.Store.Missing(ctx, slices.Collect(maps.Keys(fresh)))
	if err != nil {
		return nil, err
	}
	var list []*need
	for d, n := range fresh {
		if missing[d] {
			targets[d] = n
			list = append(list, n)
		}
	}
	return list, nil
}

const (
	// readFactor is how many bytes of local files are worth reading to save
	// fetching one: disks are that much faster than lines.
	readFactor = 32
	// ownChunk is the size up to which a file is always its own only chunk.
	ownChunk = 16 << 10
)

// search looks for wanted chunks in local files. Targets are what it is about; the
// others may help to decode them.
func (p *Plan) search(ctx context.Context, wanted, targets map[digest.Digest]*need, meter progress.Meter) error {
	if len(targets) == 0 || len(p.request.Local) == 0 {
		return nil
	}
	left := maps.Clone(wanted)
	var bytes int64
	for _, n := range targets {
		bytes += int64(n.size)
	}
	whole := make(map[digest.Digest]*file)
	likely := make(map[string]bool) // paths and base names of files that lack chunks
	for i := range p.files {
		f := &p.files[i]
		whole[f.digest] = f
		likely[f.path], likely[path.Base(f.path)] = true, true
	}
	found := func(l *Local, d digest.Digest, at int64) {
		if n := left[d]; n != nil {
			n.local, n.at = l, at
			if targets[d] != nil {
				bytes -= int64(n.size)
			}
			delete(left, d)
		}
	}
	pieces := func(l *Local, list []store.Piece) {
		var at int64
		for _, piece := range list {
			found(l, piece.Digest, at)
			at += int64(piece.Size)
		}
	}
	var unread []*Local
	for i := range p.request.Local {
		l := &p.request.Local[i]
		if f := whole[l.Digest]; f != nil && f.size == l.Size {
			pieces(l, f.pieces)
			continue
		}
		switch list, err := p.cutOf(ctx, l); {
		case err != nil:
			return err
		case list != nil:
			pieces(l, list)
		default:
			unread = append(unread, l)
		}
	}
	rank := func(l *Local) int {
		switch {
		case likely[l.Path]:
			return 0
		case likely[path.Base(l.Path)]:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(unread, func(a, b *Local) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(b.Size, a.Size))
	})
	var read []*Local
	var total int64
	for _, l := range unread {
		if rank(l) < 2 || total+l.Size <= readFactor*bytes {
			read = append(read, l)
			total += l.Size
		}
	}
	if len(left) == 0 || len(read) == 0 {
		return nil
	}
	meter.Begin("Searching files here", total)
	defer meter.End()
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(store.Workers())
	for _, l := range read {
		g.Go(func() error {
			err := cut(ctx, l, func(d digest.Digest, at int64, n int) bool {
				meter.Advance(int64(n), l.Path)
				mu.Lock()
				defer mu.Unlock()
				found(l, d, at)
				return len(left) > 0
			})
			if err != nil && ctx.Err() == nil {
				// It only might have helped.
				meter.Warn(fmt.Sprintf("%s cannot be searched: %v", l.Path, err))
				return nil
			}
			return err
		})
	}
	return g.Wait()
}

// cutOf returns the chunks of a local file if they are known without reading it.
func (p *Plan) cutOf(ctx context.Context, l *Local) ([]store.Piece, error) {
	if l.Digest.IsZero() {
		return nil, nil
	}
	if l.Size <= ownChunk {
		return []store.Piece{{Digest: l.Digest, Size: int(l.Size)}}, nil
	}
	list, err := p.request.Store.Layout(ctx, l.Digest)
	if err != nil {
		return nil, ctx.Err() // not in the store, or damaged there
	}
	return list, nil
}

// cutBuffer is how much of a local file is read at a time, in bytes.
const cutBuffer = 4 << 20

// cut names the chunks of a local file, until visit has enough.
func cut(ctx context.Context, l *Local, visit func(d digest.Digest, at int64, n int) bool) error {
	f, err := l.Open()
	if err != nil {
		return err
	}
	defer f.Close()
	cutter := chunk.New()
	buf := make([]byte, min(cutBuffer, max(int(min(l.Size, cutBuffer)), 1)+cutter.Max()))
	have, at := 0, int64(0)
	for {
		n, err := io.ReadFull(f, buf[have:])
		end := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !end {
			return err
		}
		have += n
		done := 0
		for have-done >= cutter.Max() || end && done < have {
			if err := ctx.Err(); err != nil {
				return err
			}
			n := cutter.Next(buf[done:have])
			if !visit(digest.Of(buf[done:done+n]), at, n) {
				return nil
			}
			done += n
			at += int64(n)
		}
		if end {
			return nil
		}
		have = copy(buf, buf[done:have])
	}
}
