package publish

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/process"
	"morvant/internal/volume"
)

// inventory reads which chunks the packs of the feed hold, also those that an
// interrupted run has left, and removes what that run had not finished.
// A pack that is damaged is put aside: its chunks are packed again.
func (c *contents) inventory(ctx context.Context) error {
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
			file := filepath.Join(dir, e.Name())
			err := c.take(ctx, file, name)
			if errors.Is(err, pack.ErrChecksum) || errors.Is(err, pack.ErrFormat) {
				c.dir.result.Damaged++
				err = process.Rename(file, file+damagedSuffix)
			}
			if err != nil {
				return fmt.Errorf("pack %.12s of the feed: %w", name, err)
			}
		}
	}
	return nil
}

// damaged returns those of the builds whose content the feed does not have whole any more. The
// others of the feed are looked at, and noted, where a pack was found damaged or all is to be
// checked: that reads what every build consists of.
func (c *contents) damaged(builds []*Build) []*Build {
	var list []*Build
	for _, channel := range c.dir.channelNames() {
		for i := range c.dir.channels[channel].Builds {
			have := &c.dir.channels[channel].Builds[i]
			j := slices.IndexFunc(builds, func(b *Build) bool { return b.Channel == channel && b.Label == have.Label })
			if j < 0 && c.dir.result.Damaged == 0 && !c.dir.Check || c.whole(have) {
				continue
			}
			name := channel + "/" + have.Label
			if j < 0 {
				c.dir.result.Broken = append(c.dir.result.Broken, name)
				continue
			}
			c.dir.result.Mended = append(c.dir.result.Mended, name)
			list = append(list, builds[j])
		}
	}
	return list
}

// whole reports whether the feed has what a build's layouts name.
func (c *contents) whole(b *catalogue.Build) bool {
	for i := range b.Components {
		p := &b.Components[i]
		if p.Layout.IsZero() {
			continue // of manifests alone
		}
		_, l, err := c.listed(p)
		if err != nil || slices.ContainsFunc(l.Packs, func(d digest.Digest) bool { return !c.packs[d] }) {
			return false
		}
	}
	return true
}

// checkRecords reads every chunk of a pack that is not coded against another.
func checkRecords(ctx context.Context, f *os.File, entries []pack.Entry, coder *pack.Coder) error {
	var stored, plain []byte
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		var err error
		if stored, err = pack.ReadStored(f, e, stored); err != nil {
			return err
		}
		if e.Coding.NeedsBase() {
			continue
		}
		if plain, err = coder.Decode(e, stored, plain); err != nil {
			return err
		}
	}
	return nil
}

func (c *contents) take(ctx context.Context, file, name string) error {
	f, err := volume.Open(file)
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
	if c.dir.Check {
		if err := checkRecords(ctx, f, entries, c.coder); err != nil {
			return err
		}
	}
	c.packs[found] = true
	for _, e := range entries[1:] {
		if e.Kind != pack.Chunk {
			continue
		}
		p := &place{pack: found, entry: e}
		if e.Coding.NeedsBase() {
			stored, err := pack.ReadStored(f, e, nil)
			if err != nil {
				return err
			}
			if p.base, err = pack.BaseOf(stored); err != nil {
				return err
			}
			p.depth = unknown
		}
		c.add(g, e.Digest, p)
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
	f, err := volume.Open(file)
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

func (c *contents) add(g group, d digest.Digest, at *place) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.have[g] == nil {
		c.have[g] = make(map[digest.Digest]*place)
	}
	c.have[g][d] = at
}

// lookup finds a chunk that whoever may have group g may have.
func (c *contents) lookup(g group, d digest.Digest) (*place, bool) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if p, ok := c.have[g][d]; ok {
		return p, true
	}
	p, ok := c.have[group{Component: g.Component}][d]
	return p, ok
}

// depthOf returns how many bases in a row a chunk needs.
func (c *contents) depthOf(g group, at *place) int {
	if at.depth == unknown {
		at.depth = catalogue.MaxChain // for a feed whose chains have no end
		if base, ok := c.lookup(g, at.base); ok {
			at.depth = min(catalogue.MaxChain, 1+c.depthOf(g, base))
		}
	}
	return at.depth
}
