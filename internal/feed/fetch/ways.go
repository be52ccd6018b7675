package fetch

import (
	"cmp"
	"context"
	"slices"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/pack"
)

// way is one way of fetching a chunk: a record of a pack, which may need another
// chunk to be decoded.
type way struct {
	entry pack.Entry
	pack  digest.Digest
	base  digest.Digest // zero: it needs none
}

// ways are all known ways to chunks.
type ways struct {
	of   map[digest.Digest][]way
	size map[digest.Digest]int
}

func newWays() *ways {
	return &ways{of: make(map[digest.Digest][]way), size: make(map[digest.Digest]int)}
}

// add takes over the ways that a layout tells.
func (ws *ways) add(l *catalogue.Layout) {
	put := func(c catalogue.Chunk, kind pack.Kind) {
		w := way{entry: c.Entry(kind), pack: l.Packs[c.Pack]}
		if c.Base != catalogue.NoBase {
			w.base = l.Chunks[c.Base].Digest
		}
		if !slices.Contains(ws.of[c.Digest], w) {
			ws.of[c.Digest] = append(ws.of[c.Digest], w)
			ws.size[c.Digest] = c.Size
		}
	}
	for _, c := range l.Chunks {
		put(c, pack.Chunk)
	}
	for _, c := range l.Again {
		put(c, pack.Again)
	}
}

// bases lists the chunks that may be needed to decode targets, with their sizes.
func (ws *ways) bases(targets map[digest.Digest]*need) map[digest.Digest]int {
	found := make(map[digest.Digest]int)
	var visit func(d digest.Digest)
	visit = func(d digest.Digest) {
		for _, w := range ws.of[d] {
			if w.base.IsZero() {
				continue
			}
			if _, seen := found[w.base]; !seen && targets[w.base] == nil {
				found[w.base] = ws.size[w.base]
				visit(w.base)
			}
		}
	}
	for d := range targets {
		visit(d)
	}
	return found
}

// choose picks the cheapest way to each target and returns everything that is
// needed for that: targets, and what they are coded against. lacking holds what is
// not in the store; what a local file holds costs nothing.
func (ws *ways) choose(targets, lacking map[digest.Digest]*need) []*need {
	pick := ws.cheapest(lacking)
	needs := make(map[digest.Digest]*need)
	var list []*need
	var take func(d digest.Digest, path string) int
	take = func(d digest.Digest, path string) int {
		n := lacking[d]
		if n == nil {
			return 0 // in the store
		}
		if have := needs[d]; have != nil {
			return have.level
		}
		needs[d] = n
		list = append(list, n)
		n.path = cmp.Or(n.path, path)
		if n.local != nil {
			return 0
		}
		n.way = pick[d]
		if !n.base.IsZero() {
			n.level = 1 + take(n.base, n.path)
		}
		return n.level
	}
	for d, n := range targets {
		take(d, n.path)
	}
	return list
}

// cheapest returns, for each chunk that is lacking and not in a local file, the way
// by which the fewest bytes come: those of the record, and of what it is coded
// against. It relaxes all ways until none gets cheaper (R. Bellman, On a routing
// problem, 1958); a way that leads back to its own chunk never does.
func (ws *ways) cheapest(lacking map[digest.Digest]*need) map[digest.Digest]way {
	pick := make(map[digest.Digest]way)
	cost := make(map[digest.Digest]int64)
	price := func(d digest.Digest) (int64, bool) {
		if n := lacking[d]; n == nil || n.local != nil {
			return 0, true
		}
		c, ok := cost[d]
		return c, ok
	}
	for range 2 * catalogue.MaxChain {
		settled := true
		for d, n := range lacking {
			if n.local != nil {
				continue
			}
			for _, w := range ws.of[d] {
				c := w.entry.Size()
				if !w.base.IsZero() {
					base, ok := price(w.base)
					if !ok {
						continue
					}
					c += base
				}
				if was, known := cost[d]; !known || c < was {
					cost[d], pick[d] = c, w
					settled = false
				}
			}
		}
		if settled {
			break
		}
	}
	return pick
}

const (
	// layoutShare is the part of what could be saved that reading another layout
	// may cost.
	layoutShare = 0.125
	// entryCost is about how many bytes of a packed layout a chunk takes.
	entryCost = 48
	// usualChunk is the usual size of a chunk, in bytes.
	usualChunk = 64 << 10
)

// waysBack adds the ways that lead to chunks of a build from newer ones, as far as
// reading how costs little beside what it may save. What cannot be read is left
// out: there is always another way.
func waysBack(ctx context.Context, f *feed.Feed, w *feed.Wire, sources []feed.Source, part Part, fresh []*need, ws *ways) error {
	var missing int64
	for _, n := range fresh {
		missing += int64(n.size)
	}
	newer, err := newer(f, part)
	if err != nil {
		return err
	}
	for _, p := range newer[:min(len(newer), catalogue.MaxChain)] {
		cost := int64(entryCost) * (p.Bytes/usualChunk + int64(p.Files))
		m, err := f.Manifest(p.Manifest)
		if err != nil {
			continue
		}
		next := Part{Part: p, Manifest: m}
		l := CachedLayout(f, next)
		if l == nil {
			if float64(cost) > layoutShare*float64(missing) {
				return nil
			}
			if l, err = layout(ctx, f, w, sources, next); err != nil {
				return ctx.Err()
			}
		}
		ws.add(l)
	}
	return ctx.Err()
}

// newer lists what later builds of the same channel have of a part's component,
// the nearest first.
func newer(f *feed.Feed, part Part) ([]catalogue.Part, error) {
	channels, err := f.Channels()
	if err != nil {
		return nil, err
	}
	var list []catalogue.Part
	listed := make(map[digest.Digest]bool)
	for _, c := range channels {
		found := false
		for _, b := range c.Builds {
			for _, p := range b.Components {
				switch {
				case p.Name != part.Name:
				case p.Manifest == part.Part.Manifest:
					found = true
				case found && !p.Layout.IsZero() && !listed[p.Manifest]:
					listed[p.Manifest] = true
					list = append(list, p)
				}
			}
		}
	}
	return list, nil
}
