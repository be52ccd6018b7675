package publish

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/store"
	"morvant/internal/volume"
)

const (
	openPrefix = ".open-" // files being written
	packSuffix = ".pack"
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
}

// contents writes what builds consist of.
type contents struct {
	dir   *feedDir
	coder *pack.Coder
	have  map[group]map[digest.Digest]place
	open  map[group]*openPack
}

type openPack struct {
	file    *os.File
	writer  *pack.Writer
	waiting []digest.Digest // chunks whose place is known once the pack has its name
}

// write brings everything that the builds need into the feed's folder, then lists
// them in their channels.
func (d *feedDir) write(ctx context.Context, builds []*Build) (err error) {
	coder, err := pack.NewCoder(pack.Small)
	if err != nil {
		return err
	}
	defer coder.Close()
	c := &contents{dir: d, coder: coder, have: make(map[group]map[digest.Digest]place), open: make(map[group]*openPack)}
	defer c.discard()
	if !d.ManifestsOnly {
		if err := c.inventory(); err != nil {
			return err
		}
		var total int64
		for _, b := range builds {
			for _, p := range b.Parts {
				total += p.Manifest.Bytes()
			}
		}
		d.Meter.Begin("Publishing", total)
		defer d.Meter.End()
		for _, b := range builds {
			for _, name := range partNames(b) {
				if err := c.chunks(ctx, d.group(b, name), b.Parts[name]); err != nil {
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
		if err := syncDir(d.file(dir)); err != nil {
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

// inventory reads which chunks the packs of the feed hold, also those that an
// interrupted run has left, and removes what that run had not finished.
func (c *contents) inventory() error {
	dir := c.dir.file("packs")
	list, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range list {
		name, isPack := strings.CutSuffix(e.Name(), packSuffix)
		switch {
		case strings.HasPrefix(e.Name(), openPrefix):
			if err := os.Remove(filepath.Join(dir, e.Name())); err != nil {
				return err
			}
		case isPack:
			if err := c.take(filepath.Join(dir, e.Name()), name); err != nil {
				return fmt.Errorf("pack %.12s of the feed: %w", name, err)
			}
		}
	}
	return nil
}

func (c *contents) take(file, name string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	found, entries, err := pack.ReadIndex(f, info.Size())
	if err != nil {
		return err
	}
	if found.String() != name || len(entries) == 0 {
		return pack.ErrChecksum
	}
	g, err := readGroup(f, entries[0], c.coder)
	if err != nil {
		return err
	}
	for _, e := range entries[1:] {
		c.of(g)[e.Digest] = place{found, e}
	}
	return nil
}

func readGroup(f *os.File, e pack.Entry, coder *pack.Coder) (group, error) {
	var g group
	if e.Kind != pack.Note {
		return g, fmt.Errorf("%w: it does not say which component it is of", pack.ErrFormat)
	}
	stored, err := pack.ReadStored(f, e, nil)
	if err != nil {
		return g, err
	}
	note, err := coder.Decode(e, stored, nil)
	if err != nil {
		return g, err
	}
	return g, json.Unmarshal(note, &g)
}

// GroupOf reads which component a pack of a feed belongs to, and to which channel
// if that is locked. Servers that hand out packs to some only need it.
func GroupOf(file string) (component, channel string, err error) {
	f, err := os.Open(file)
	if err != nil {
		return "", "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", "", err
	}
	_, entries, err := pack.ReadIndex(f, info.Size())
	if err != nil || len(entries) == 0 {
		return "", "", errors.Join(err, pack.ErrFormat)
	}
	coder, err := pack.NewCoder(pack.Fast)
	if err != nil {
		return "", "", err
	}
	defer coder.Close()
	g, err := readGroup(f, entries[0], coder)
	return g.Component, g.Channel, err
}

func (c *contents) of(g group) map[digest.Digest]place {
	if c.have[g] == nil {
		c.have[g] = make(map[digest.Digest]place)
	}
	return c.have[g]
}

// lookup finds a chunk that whoever may have group g may have.
func (c *contents) lookup(g group, d digest.Digest) (place, bool) {
	if p, ok := c.of(g)[d]; ok {
		return p, true
	}
	p, ok := c.of(group{Component: g.Component})[d]
	return p, ok
}

// chunks packs the chunks of a part that the feed does not have yet. They are
// coded side by side and written in the order of the files, so that neighbours
// can be fetched together.
func (c *contents) chunks(ctx context.Context, g group, p *Part) error {
	var want []store.Piece
	queued := make(map[digest.Digest]bool)
	for _, file := range digests(p.Manifest) {
		pieces, err := c.dir.Store.Layout(ctx, file)
		if err != nil {
			return err
		}
		for _, piece := range pieces {
			if _, have := c.lookup(g, piece.Digest); have || queued[piece.Digest] {
				c.dir.Meter.Advance(int64(piece.Size), "")
				continue
			}
			queued[piece.Digest] = true
			want = append(want, piece)
		}
	}
	return c.code(ctx, want, func(piece store.Piece, coding pack.Coding, stored []byte) error {
		c.dir.Meter.Advance(int64(piece.Size), "")
		return c.append(g, piece, coding, stored)
	})
}

// coded is a chunk on its way from the store into a pack.
type coded struct {
	coding pack.Coding
	stored []byte
	err    error
}

// code reads and codes chunks on all processors and hands them on in order.
func (c *contents) code(ctx context.Context, pieces []store.Piece, take func(store.Piece, pack.Coding, []byte) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ahead := 4 * runtime.GOMAXPROCS(0)
	queue := make(chan chan coded, ahead)
	slots := make(chan struct{}, runtime.GOMAXPROCS(0))
	go func() {
		defer close(queue)
		for _, piece := range pieces {
			result := make(chan coded, 1)
			select {
			case queue <- result:
			case <-ctx.Done():
				return
			}
			slots <- struct{}{}
			go func() {
				defer func() { <-slots }()
				plain, err := c.dir.Store.Chunk(ctx, piece.Digest, nil)
				if err != nil {
					result <- coded{err: err}
					return
				}
				coding, stored := c.coder.Encode(plain, nil)
				result <- coded{coding, stored, nil}
			}()
		}
	}()
	for i := 0; i < len(pieces); i++ {
		result, ok := <-queue
		if !ok {
			break
		}
		r := <-result
		if r.err != nil {
			return r.err
		}
		if err := take(pieces[i], r.coding, r.stored); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func (c *contents) append(g group, piece store.Piece, coding pack.Coding, stored []byte) error {
	p := c.open[g]
	if p == nil {
		f, err := os.CreateTemp(c.dir.file("packs"), openPrefix+"*")
		if err != nil {
			return err
		}
		p = &openPack{file: f, writer: pack.NewWriter(f)}
		c.open[g] = p
		note, err := json.Marshal(g)
		if err != nil {
			return err
		}
		if _, err := p.writer.Append(digest.Of(note), pack.Note, pack.Plain, len(note), note); err != nil {
			return err
		}
	}
	e, err := p.writer.Append(piece.Digest, pack.Chunk, coding, piece.Size, stored)
	if err != nil {
		return err
	}
	c.of(g)[piece.Digest] = place{entry: e} // the name comes with close
	p.waiting = append(p.waiting, piece.Digest)
	c.dir.result.Chunks++
	if p.writer.Size() >= packSize {
		return c.close(g)
	}
	return nil
}

// close finishes the open pack of a group and gives it its name.
func (c *contents) close(g group) error {
	p := c.open[g]
	delete(c.open, g)
	name, err := p.writer.Finish()
	if err = errors.Join(err, p.file.Chmod(0o644), p.file.Close()); err == nil {
		err = os.Rename(p.file.Name(), c.dir.file(catalogue.PackFile(name)))
	}
	if err != nil {
		os.Remove(p.file.Name())
		return err
	}
	for _, d := range p.waiting {
		at := c.of(g)[d]
		at.pack = name
		c.of(g)[d] = at
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
	return syncDir(c.dir.file("packs"))
}

// discard removes packs that were not finished.
func (c *contents) discard() {
	for _, p := range c.open {
		p.file.Close()
		os.Remove(p.file.Name())
	}
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
	for _, chunk := range layout.Chunks {
		part.Download += chunk.Entry().Size()
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

// layout says where the chunks of a part are.
func (c *contents) layout(ctx context.Context, g group, p *Part) (*catalogue.Layout, error) {
	l := &catalogue.Layout{Files: make(map[digest.Digest][]int), Programs: p.Programs}
	packs := make(map[digest.Digest]int)
	index := make(map[digest.Digest]int)
	for _, file := range digests(p.Manifest) {
		pieces, err := c.dir.Store.Layout(ctx, file)
		if err != nil {
			return nil, err
		}
		var list []int
		for _, piece := range pieces {
			i, known := index[piece.Digest]
			if !known {
				at, ok := c.lookup(g, piece.Digest)
				if !ok {
					return nil, fmt.Errorf("the chunk %s: %w", piece.Digest.Short(), store.ErrMissing)
				}
				if _, ok := packs[at.pack]; !ok {
					packs[at.pack] = len(l.Packs)
					l.Packs = append(l.Packs, at.pack)
				}
				i = len(l.Chunks)
				index[piece.Digest] = i
				l.Chunks = append(l.Chunks, catalogue.Chunk{
					Digest: piece.Digest, Size: piece.Size, Pack: packs[at.pack],
					Offset: at.entry.Offset, Stored: int(at.entry.Stored), Coding: at.entry.Coding, Base: catalogue.NoBase,
				})
			}
			list = append(list, i)
		}
		if len(list) != 1 || l.Chunks[list[0]].Digest != file {
			l.Files[file] = list
		}
	}
	return l, nil
}

// named writes a packed file under the name of its content, unless it is there.
func (c *contents) named(path string, body []byte) error {
	if _, err := os.Stat(c.dir.file(path)); err == nil {
		return nil
	}
	packed, err := catalogue.Pack(body)
	if err != nil {
		return err
	}
	c.dir.result.Written += int64(len(packed))
	return c.dir.put(path, packed)
}

func syncDir(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return volume.SyncDir(f)
}
