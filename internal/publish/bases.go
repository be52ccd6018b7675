package publish

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/pack"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// What content-defined cutting leaves over of an update, chunks in which something
// small has changed, is coded against the chunk of the build before that is most
// like it. The other way round the old chunk is coded against the new one as well,
// as a record of kind Again: most players come from the newest build.

// before lists the chunks of a component in the build that came before b: the last
// one of its channel, else of any. earlier are builds of this run, the oldest first.
func (c *contents) before(ctx context.Context, earlier []*Build, b *Build, component string) ([]digest.Digest, error) {
	var found *Build
	var listed *catalogue.Part
	rank := func(channel string) int {
		if channel == b.Channel {
			return 1
		}
		return 0
	}
	at, best := b.Date, -1
	consider := func(channel string, date time.Time, build *Build, part *catalogue.Part) {
		if date.After(b.Date) || rank(channel) < best || rank(channel) == best && date.Before(at) {
			return
		}
		best, at, found, listed = rank(channel), date, build, part
	}
	for _, ch := range c.dir.channels {
		for i := range ch.Builds {
			old := &ch.Builds[i]
			if j := slices.IndexFunc(old.Components, func(p catalogue.Part) bool { return p.Name == component && !p.Layout.IsZero() }); j >= 0 {
				consider(ch.Channel, old.Date, nil, &old.Components[j])
			}
		}
	}
	for _, build := range earlier {
		if build.Parts[component] != nil {
			consider(build.Channel, build.Date, build, nil)
		}
	}
	switch {
	case found != nil:
		return c.ownChunks(ctx, found.Parts[component].Manifest)
	case listed != nil:
		return c.listedChunks(listed), nil
	}
	return nil, nil
}

// ownChunks lists the chunks of a manifest whose content is in the store.
func (c *contents) ownChunks(ctx context.Context, m *manifest.Manifest) ([]digest.Digest, error) {
	var list []digest.Digest
	for _, file := range digests(m) {
		pieces, err := c.pieces(ctx, file)
		if err != nil {
			return nil, err
		}
		for _, p := range pieces {
			list = append(list, p.Digest)
		}
	}
	return list, nil
}

// listed reads the manifest and the layout of a part that the feed has.
func (c *contents) listed(p *catalogue.Part) (*manifest.Manifest, *catalogue.Layout, error) {
	read := func(path string, d digest.Digest) ([]byte, error) {
		packed, err := volume.ReadFile(c.dir.file(path), catalogue.MaxPacked)
		if err != nil {
			return nil, err
		}
		return catalogue.Unpack(packed, d)
	}
	b, err := read(catalogue.ManifestFile(p.Manifest), p.Manifest)
	if err != nil {
		return nil, nil, err
	}
	m, err := manifest.Decode(b)
	if err != nil {
		return nil, nil, err
	}
	if b, err = read(catalogue.LayoutFile(p.Layout), p.Layout); err != nil {
		return nil, nil, err
	}
	l, err := catalogue.DecodeLayout(b, m)
	return m, l, err
}

// listedChunks lists the chunks of a part that the feed has; none if what it says of them
// cannot be read any more.
func (c *contents) listedChunks(p *catalogue.Part) []digest.Digest {
	m, l, err := c.listed(p)
	if err != nil {
		return nil
	}
	var list []digest.Digest
	for _, file := range m.Files {
		for _, i := range l.Pieces(file.Digest) {
			list = append(list, l.Chunks[i].Digest)
		}
	}
	return list
}

// bases finds, for a new chunk, the old one that is most like it.
type bases struct {
	group  group
	list   []digest.Digest
	byHash map[uint64][]int // of the sketches of list
}

// bases gathers the chunks of before that went out of use with this build: what
// replaces them is most likely much like them.
func (c *contents) bases(ctx context.Context, g group, before []digest.Digest, stay map[digest.Digest]bool) (*bases, error) {
	b := &bases{group: g, byHash: make(map[uint64][]int)}
	seen := make(map[digest.Digest]bool)
	for _, d := range before {
		if at, ok := c.lookup(g, d); ok && !stay[d] && !seen[d] && c.depthOf(g, at) < catalogue.MaxChain {
			seen[d] = true
			b.list = append(b.list, d)
		}
	}
	var mu sync.Mutex
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(store.Workers())
	for i, d := range b.list {
		work.Go(func() error {
			plain, err := c.plain(ctx, g, d)
			if err != nil {
				return err
			}
			sketch := c.cutter.Sketch(plain)
			mu.Lock()
			defer mu.Unlock()
			for _, v := range sketch {
				b.byHash[v] = append(b.byHash[v], i)
			}
			return nil
		})
	}
	return b, work.Wait()
}

// nearest returns the base that shares most of the chunk's sketch.
func (b *bases) nearest(sketch []uint64) (digest.Digest, bool) {
	votes := make(map[int]int)
	best := -1
	for _, v := range sketch {
		for _, i := range b.byHash[v] {
			if votes[i]++; best < 0 || votes[i] > votes[best] || votes[i] == votes[best] && i < best {
				best = i
			}
		}
	}
	if best < 0 {
		return digest.Digest{}, false
	}
	return b.list[best], true
}

// plain returns the bytes of a chunk, from the store or from the feed itself.
func (c *contents) plain(ctx context.Context, g group, d digest.Digest) ([]byte, error) {
	plain, err := c.dir.Store.Chunk(ctx, d, nil)
	if !errors.Is(err, store.ErrMissing) {
		return plain, err
	}
	at, ok := c.lookup(g, d)
	if !ok {
		return nil, err
	}
	f, err := volume.Open(c.dir.file(catalogue.PackFile(at.pack)))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	stored, err := pack.ReadStored(f, at.entry, nil)
	if err != nil {
		return nil, err
	}
	if !at.entry.Coding.NeedsBase() {
		return c.coder.Decode(at.entry, stored, nil)
	}
	base, err := c.plain(ctx, g, at.base)
	if err != nil {
		return nil, err
	}
	return pack.DecodeAgainst(at.entry, stored, base)
}

const (
	// surely is the part of a chunk's size below which coding it against a base is
	// taken without comparing with other codings.
	surely = 0.25
	// gain is what coding against a base must come to beside coding alone.
	gain = 0.75
)

// encode codes one chunk, and the one before it against it.
func (c *contents) encode(ctx context.Context, d digest.Digest, b *bases) coded {
	plain, err := c.dir.Store.Chunk(ctx, d, nil)
	if err != nil {
		return coded{err: err}
	}
	r := coded{}
	base, ok := digest.Digest{}, false
	if len(b.list) > 0 {
		base, ok = b.nearest(c.cutter.Sketch(plain))
	}
	if !ok {
		r.coding, r.stored = c.coder.Encode(plain, nil)
		return r
	}
	old, err := c.plain(ctx, b.group, base)
	if err != nil {
		return coded{err: err}
	}
	against, err := pack.EncodeAgainst(plain, base, old)
	if err != nil {
		return coded{err: err}
	}
	if float64(len(against)) > surely*float64(len(plain)) {
		r.coding, r.stored = c.coder.Encode(plain, nil)
		if float64(len(against)) > gain*float64(len(r.stored)) {
			return r
		}
	}
	at, _ := c.lookup(b.group, base)
	r.coding, r.stored, r.base, r.depth, r.baseSize = pack.Based, against, base, at.depth+1, len(old)
	if r.again, err = pack.EncodeAgainst(old, d, plain); err != nil {
		return coded{err: err}
	}
	return r
}
