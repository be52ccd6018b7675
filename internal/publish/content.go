package publish

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"sync"

	"github.com/go-json-experiment/json"

	"morvant/internal/catalogue"
	"morvant/internal/chunk"
	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/process"
	"morvant/internal/store"
	"morvant/internal/volume"
)

const (
	openPrefix = ".open-" // files being written
	packSuffix = ".pack"
	// damagedSuffix is added to the names of packs that are not whole any more.
	damagedSuffix = ".damaged"
	// packSize is where a pack is closed and the next begun, in bytes.
	packSize = 64 << 20
)

// group says who may have the chunks of a pack. It is the pack's first record.
type group struct {
	Component string `json:"component"`
	Channel   string `json:"channel,omitempty"` // if it is locked
}

// place is where a chunk stands in the feed.
type place struct {
	pack  digest.Digest
	entry pack.Entry
	base  digest.Digest // what it is coded against; zero: nothing
	depth int           // how many bases in a row it needs, or unknown
}

const unknown = -1

// contents writes what builds consist of.
type contents struct {
	dir    *feedDir
	coder  *pack.Coder
	cutter *chunk.Cutter
	mu     sync.RWMutex // guards have while chunks are being coded
	have   map[group]map[digest.Digest]*place
	open   map[group]*openPack
	cut    map[digest.Digest][]store.Piece // of files, as the store has cut them
	// again holds, for each part that is written, chunks of the build before it
	// that are coded against chunks of this one.
	again map[*Part]map[digest.Digest]*place
	packs map[digest.Digest]bool // that the feed has, whole
}

type openPack struct {
	file    *os.File
	writer  *pack.Writer
	waiting []*place // whose pack is known once it has its name
}

// write brings everything that the builds need into the feed's folder, then lists
// them in their channels.
func (d *feedDir) write(ctx context.Context, builds, same []*Build) (err error) {
	coder, err := pack.NewCoder(pack.Small)
	if err != nil {
		return err
	}
	defer coder.Close()
	c := &contents{
		dir: d, coder: coder, cutter: chunk.New(), have: make(map[group]map[digest.Digest]*place),
		open: make(map[group]*openPack), again: make(map[*Part]map[digest.Digest]*place),
		cut: make(map[digest.Digest][]store.Piece), packs: make(map[digest.Digest]bool),
	}
	// What is packed stays also when the work is cut off: the next run uses it.
	defer func() { err = errors.Join(err, c.finish()) }()
	if !d.ManifestsOnly {
		if err := c.inventory(ctx); err != nil {
			return err
		}
		builds = append(builds, c.damaged(same)...)
		slices.SortStableFunc(builds, func(a, b *Build) int { return a.Date.Compare(b.Date) })
		var total int64
		for _, b := range builds {
			for _, p := range b.Parts {
				total += p.Manifest.Bytes()
			}
		}
		d.Meter.Begin("Publishing", total)
		defer d.Meter.End()
		for i, b := range builds {
			for _, name := range partNames(b) {
				before, err := c.before(ctx, builds[:i], b, name)
				if err == nil {
					err = c.chunks(ctx, d.group(b, name), b.Parts[name], before)
				}
				if err != nil {
					return fmt.Errorf("%s of %s: %w", name, b.Label, err)
				}
			}
		}
		if err := c.finish(); err != nil {
			return err
		}
	}
	for _, b := range builds {
		var parts []catalogue.Part
		for _, name := range partNames(b) {
			p, err := c.describe(ctx, d.group(b, name), name, b.Parts[name])
			if err != nil {
				return fmt.Errorf("%s of %s: %w", name, b.Label, err)
			}
			parts = append(parts, p)
		}
		d.addBuild(b, parts)
	}
	for _, dir := range []string{"manifests", "layouts"} {
		if err := volume.SyncFolder(d.file(dir)); err != nil {
			return err
		}
	}
	return nil
}

func partNames(b *Build) []string {
	var names []string
	for name := range b.Parts {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// chunks packs the chunks of a part that the feed does not have yet, where it pays
// against chunks of the build before. They are coded side by side and written in
// the order of the files, so that neighbours can be fetched together.
func (c *contents) chunks(ctx context.Context, g group, p *Part, before []digest.Digest) error {
	var want []store.Piece
	all := make(map[digest.Digest]bool)
	for _, file := range digests(p.Manifest) {
		pieces, err := c.pieces(ctx, file)
		if err != nil {
			return err
		}
		for _, piece := range pieces {
			if _, have := c.lookup(g, piece.Digest); have || all[piece.Digest] {
				c.dir.Meter.Advance(int64(piece.Size), "")
			} else {
				want = append(want, piece)
			}
			all[piece.Digest] = true
		}
	}
	bases, err := c.bases(ctx, g, before, all)
	if err != nil {
		return err
	}
	c.again[p] = make(map[digest.Digest]*place)
	return c.code(ctx, want, bases, func(piece store.Piece, r coded) error {
		c.dir.Meter.Advance(int64(piece.Size), "")
		if err := c.append(g, piece, r); err != nil {
			return err
		}
		if r.again == nil || c.again[p][r.base] != nil {
			return nil
		}
		at, err := c.place(g, r.base, pack.Again, pack.Based, r.baseSize, r.again)
		if err != nil {
			return err
		}
		at.base = piece.Digest
		c.again[p][r.base] = at
		return nil
	})
}

// pieces returns the chunks of a file.
func (c *contents) pieces(ctx context.Context, file digest.Digest) ([]store.Piece, error) {
	if list, ok := c.cut[file]; ok {
		return list, nil
	}
	list, err := c.dir.Store.Layout(ctx, file)
	if err == nil {
		c.cut[file] = list
	}
	return list, err
}

func (c *contents) append(g group, piece store.Piece, r coded) error {
	at, err := c.place(g, piece.Digest, pack.Chunk, r.coding, piece.Size, r.stored)
	if err != nil {
		return err
	}
	at.base, at.depth = r.base, r.depth
	c.add(g, piece.Digest, at)
	c.dir.result.Chunks++
	return nil
}

// place writes a record into the open pack of a group.
func (c *contents) place(g group, d digest.Digest, kind pack.Kind, coding pack.Coding, plain int, stored []byte) (*place, error) {
	p := c.open[g]
	if p != nil && p.writer.Size() >= packSize {
		if err := c.close(g); err != nil {
			return nil, err
		}
		p = nil
	}
	if p == nil {
		f, err := os.CreateTemp(c.dir.file("packs"), openPrefix+"*")
		if err != nil {
			return nil, err
		}
		p = &openPack{file: f, writer: pack.NewWriter(f)}
		c.open[g] = p
		note, err := json.Marshal(g)
		if err != nil {
			return nil, err
		}
		if _, err := p.writer.Append(digest.Of(note), pack.Note, pack.Plain, len(note), note); err != nil {
			return nil, err
		}
	}
	e, err := p.writer.Append(d, kind, coding, plain, stored)
	if err != nil {
		return nil, err
	}
	at := &place{entry: e} // the pack's name comes with close
	p.waiting = append(p.waiting, at)
	return at, nil
}

// close finishes the open pack of a group and gives it its name.
func (c *contents) close(g group) error {
	p := c.open[g]
	delete(c.open, g)
	name, err := p.writer.Finish()
	if err = errors.Join(err, p.file.Chmod(0o644), p.file.Close()); err == nil {
		err = process.Rename(p.file.Name(), c.dir.file(catalogue.PackFile(name)))
	}
	if err != nil {
		os.Remove(p.file.Name())
		return err
	}
	for _, at := range p.waiting {
		at.pack = name
	}
	info, err := os.Stat(c.dir.file(catalogue.PackFile(name)))
	if err != nil {
		return err
	}
	c.dir.result.Written += info.Size()
	return nil
}

func (c *contents) finish() error {
	for g := range c.open {
		if err := c.close(g); err != nil {
			return err
		}
	}
	return volume.SyncFolder(c.dir.file("packs"))
}

// describe writes the manifest and the layout of a part.
func (c *contents) describe(ctx context.Context, g group, name string, p *Part) (catalogue.Part, error) {
	m := p.Manifest
	part := catalogue.Part{Name: name, Manifest: m.Digest(), Files: len(m.Files), Bytes: m.Bytes()}
	if err := c.named(catalogue.ManifestFile(part.Manifest), m.Encode()); err != nil {
		return part, err
	}
	if c.dir.ManifestsOnly {
		return part, nil
	}
	layout, err := c.layout(ctx, g, p)
	if err != nil {
		return part, err
	}
	for _, ch := range layout.Chunks {
		part.Download += ch.Entry(pack.Chunk).Size()
	}
	body, err := layout.Encode(digests(m))
	if err != nil {
		return part, err
	}
	if _, err := catalogue.DecodeLayout(body, m); err != nil {
		return part, fmt.Errorf("the layout cannot be read back: %w", err)
	}
	part.Layout = digest.Of(body)
	return part, c.named(catalogue.LayoutFile(part.Layout), body)
}

// layout says where the chunks of a part are, and what they are coded against.
func (c *contents) layout(ctx context.Context, g group, p *Part) (*catalogue.Layout, error) {
	t := &table{contents: c, group: g, packs: make(map[digest.Digest]int), index: make(map[digest.Digest]int)}
	t.Files, t.Programs, t.Times = make(map[digest.Digest][]int), p.Programs, p.Times
	for _, file := range digests(p.Manifest) {
		pieces, err := c.pieces(ctx, file)
		if err != nil {
			return nil, err
		}
		var list []int
		for _, piece := range pieces {
			i, err := t.chunk(piece.Digest)
			if err != nil {
				return nil, err
			}
			list = append(list, i)
		}
		if len(list) != 1 || t.Chunks[list[0]].Digest != file {
			t.Files[file] = list
		}
	}
	for _, d := range slices.SortedFunc(maps.Keys(c.again[p]), func(a, b digest.Digest) int { return slices.Compare(a[:], b[:]) }) {
		at := c.again[p][d]
		t.Again = append(t.Again, t.entry(at, t.index[at.base]))
	}
	return &t.Layout, nil
}

// table is a layout that is being put together.
type table struct {
	catalogue.Layout
	contents *contents
	group    group
	packs    map[digest.Digest]int
	index    map[digest.Digest]int
}

// chunk returns the index of a chunk, adding it and what it is coded against.
func (t *table) chunk(d digest.Digest) (int, error) {
	if i, known := t.index[d]; known {
		return i, nil
	}
	at, ok := t.contents.lookup(t.group, d)
	if !ok {
		return 0, fmt.Errorf("the chunk %s: %w", d.Short(), store.ErrMissing)
	}
	base := catalogue.NoBase
	if at.entry.Coding.NeedsBase() {
		var err error
		if base, err = t.chunk(at.base); err != nil {
			return 0, err
		}
	}
	i := len(t.Chunks)
	t.index[d] = i
	t.Chunks = append(t.Chunks, t.entry(at, base))
	return i, nil
}

func (t *table) entry(at *place, base int) catalogue.Chunk {
	in, known := t.packs[at.pack]
	if !known {
		in = len(t.Packs)
		t.packs[at.pack] = in
		t.Packs = append(t.Packs, at.pack)
	}
	return catalogue.Chunk{
		Digest: at.entry.Digest, Size: int(at.entry.Plain), Pack: in,
		Offset: at.entry.Offset, Stored: int(at.entry.Stored), Coding: at.entry.Coding, Base: base,
	}
}

// named writes a packed file under the name of its content, unless it is there.
func (c *contents) named(path string, body []byte) error {
	if packed, err := volume.ReadFile(c.dir.file(path), catalogue.MaxPacked); err == nil {
		if _, err := catalogue.Unpack(packed, digest.Of(body)); err == nil {
			return nil
		}
	}
	packed, err := catalogue.Pack(body)
	if err != nil {
		return err
	}
	c.dir.result.Written += int64(len(packed))
	return volume.Replace(c.dir.file(path), packed, 0o644)
}
