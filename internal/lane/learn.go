package lane

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"morvant/internal/adapter"
	"morvant/internal/alias"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/feed/told"
	"morvant/internal/index"
	"morvant/internal/scan"
	"morvant/internal/store"
)

// What distributors name by digests of their own is found among the lane's files by reading them once with the same
// algorithm: while they are read for Morvant's own digest, or again where that is known already. Each file is read
// only if it has the size of one that is looked for.

// unseen are files that adapters have told of and whose content has not been seen, for a lane to look for.
type unseen struct {
	l *Lane
	// ways are the ways to read files that a single digest tells, by size.
	ways map[int64]map[way]bool
	// several are files of which several digests were told, by size.
	several map[int64][]*several
	names   map[digest.Digest]bool // of all that is looked for
}

// way is an algorithm to read files with. What a weak one finds counts for one subscription.
type way struct{ alg, scope string }

// several is a file of which several digests were told. All must hold.
type several struct {
	name  digest.Digest
	scope string // that it counts for alone; empty: it counts anywhere
	file  adapter.File
}

// unseenOf lists what the game's adapters have told of and nobody has seen; nothing if the files of the tree have been
// held against that already.
func unseenOf(l *Lane, t *scan.Tree) *unseen {
	u := &unseen{l: l, ways: make(map[int64]map[way]bool), several: make(map[int64][]*several), names: make(map[digest.Digest]bool)}
	feeds := Adapted(l)
	if len(feeds) == 0 {
		return u
	}
	if was, known := l.Home.Aliases.Known(u.slot()); known && was == stateOf(feeds, t) {
		return u
	}
	offered, err := l.Home.Offered(l.Game.Name)
	if err != nil {
		return u // said where builds are listed
	}
	of := make(map[digest.Digest]func() (*told.Manifest, error)) // by what the index calls it
	scopes := make(map[digest.Digest]string)
	var sources []index.Source
	for _, b := range offered {
		for _, f := range b.Feeds {
			for _, p := range b.Components {
				if f.Adapter == "" {
					continue
				}
				s := f.Source(p)
				if of[s.Name] != nil {
					continue
				}
				of[s.Name], scopes[s.Name] = func() (*told.Manifest, error) { return f.Told(p.Manifest) }, f.Scope()
				sources = append(sources, s)
			}
		}
	}
	slices.Reverse(sources) // the oldest first
	ctx := context.Background()
	v, err := l.Home.Index.Of(ctx, sources)
	if err != nil {
		return u
	}
	ways, whole, err := v.Ways(ctx)
	if err != nil {
		return u
	}
	if !whole {
		for _, read := range of {
			if t, err := read(); err == nil {
				u.addAll(t)
			}
		}
		return u
	}
	for _, w := range ways {
		u.add(w, scopes[w.In], of[w.In])
	}
	return u
}

// slot is where it is remembered which files have been held against what was told.
func (u *unseen) slot() digest.Digest { return digest.Unseen("learnt from " + u.l.CacheKey()) }

// stateOf names what the files of a tree are held against, and the files; zero where some have not been read.
func stateOf(feeds []*feed.Feed, t *scan.Tree) digest.Digest {
	h := digest.NewHasher()
	for _, f := range feeds {
		fmt.Fprintln(h, f.Name, f.Added.UnixNano(), f.Refreshed.UnixNano(), f.Distrusted, f.ToldCount())
	}
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind == scan.File && !e.Known {
			return digest.Digest{}
		}
		if e.Kind == scan.File {
			h.Write(e.Digest[:])
		}
	}
	return h.Digest()
}

// add looks for content that one of the manifests that were told names. told reads that.
func (u *unseen) add(c index.Way, scope string, read func() (*told.Manifest, error)) {
	if u.names[c.Content] {
		return
	}
	if _, known := u.l.Home.Aliases.Known(c.Content); known {
		return
	}
	w := told.ParseWay(c.Way)
	if !w.Scope {
		scope = ""
	}
	if w.Alg != "" {
		u.names[c.Content] = true
		if u.ways[c.Size] == nil {
			u.ways[c.Size] = make(map[way]bool)
		}
		u.ways[c.Size][way{w.Alg, scope}] = true
		return
	}
	t, err := read()
	if err != nil {
		return
	}
	if f := t.File(c.Path); f != nil {
		u.names[c.Content] = true
		u.several[c.Size] = append(u.several[c.Size], &several{c.Content, scope, *f})
	}
}

// addAll is add for all of a manifest.
func (u *unseen) addAll(t *told.Manifest) {
	ways := t.Ways()
	for _, f := range t.Tree.Files {
		if w := ways[f.Path]; w != "" {
			u.add(index.Way{Content: f.Digest, Size: f.Size, Way: w, Path: f.Path}, t.Scope(), func() (*told.Manifest, error) { return t, nil })
		}
	}
}

func (u *unseen) empty() bool { return len(u.names) == 0 }

// Adapted lists the feeds of the game that adapters speak for.
func Adapted(l *Lane) []*feed.Feed {
	feeds, err := l.Home.Feeds(l.Game.Name)
	if err != nil {
		return nil
	}
	return slices.DeleteFunc(feeds, func(f *feed.Feed) bool { return f.Adapter == "" || f.Broken != nil })
}

// looked is remembered of content that has been read in a way.
func looked(w way, own digest.Digest) digest.Digest {
	if w.scope == "" {
		return digest.Unseen(fmt.Sprintf("looked at with %s\n%s", w.alg, own))
	}
	return digest.Unseen(fmt.Sprintf("looked at with %s for %s\n%s", w.alg, w.scope, own))
}

// learning makes a sink learn what it is given goes by elsewhere, too.
func (u *unseen) learning(sink scan.Sink) scan.Sink {
	algs := make(map[string]bool)
	for _, list := range u.ways {
		for w := range list {
			algs[w.alg] = true
		}
	}
	if len(algs) == 0 {
		return sink
	}
	return func(ctx context.Context, r io.Reader, read func(int)) (digest.Digest, int64, error) {
		hashers := make(map[string]*digest.ForeignHasher)
		for alg := range algs {
			hashers[alg] = digest.NewForeignHasher(alg)
			r = io.TeeReader(r, hashers[alg])
		}
		own, size, err := sink(ctx, r, read)
		if err != nil || u.ways[size] == nil {
			return own, size, err
		}
		return own, size, u.learnt(ctx, own, size, slices.Collect(maps.Keys(u.ways[size])), hashers)
	}
}

// learnt remembers what content goes by elsewhere.
func (u *unseen) learnt(ctx context.Context, own digest.Digest, size int64, ways []way, hashers map[string]*digest.ForeignHasher) error {
	known := make(map[digest.Digest]digest.Digest)
	for _, w := range ways {
		known[looked(w, own)] = own
		f, err := hashers[w.alg].Foreign()
		if err != nil || !u.counts(own, w.scope) {
			continue // made to be mistaken: it is known by its own digest alone
		}
		told := adapter.File{Size: size, Digest: f.String()}
		known[adapter.Teller{Scope: w.scope}.Name(&told)] = own
	}
	return u.l.Home.Aliases.Learn(ctx, known)
}

// counts reports whether content may stand for what weak digests of a subscription tell: what came by weak digests of
// another one does not.
func (u *unseen) counts(own digest.Digest, scope string) bool {
	came, weakly := u.l.Home.Aliases.Known(alias.Came(own))
	return scope == "" || !weakly || came == digest.Of([]byte(scope))
}

// learn finds out which files of a tree that has been read are those of distributors.
func (u *unseen) learn(ctx context.Context, t *scan.Tree) error {
	if u.empty() {
		return u.learntAll(ctx, t)
	}
	g, groupCtx := errgroup.WithContext(ctx)
	g.SetLimit(store.Workers())
	begun := sync.OnceFunc(func() { u.l.Meter.Begin("Reading as the distributor does", -1) })
	done := make(map[digest.Digest]bool)
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File || !e.Known || done[e.Digest] {
			continue
		}
		done[e.Digest] = true
		var ways []way
		for w := range u.ways[e.Stamp.Size] {
			if _, known := u.l.Home.Aliases.Known(looked(w, e.Digest)); !known {
				ways = append(ways, w)
			}
		}
		var list []*several
		for _, p := range u.several[e.Stamp.Size] {
			if _, known := u.l.Home.Aliases.Known(looked(way{alg: p.name.String()}, e.Digest)); !known {
				list = append(list, p)
			}
		}
		if len(ways)+len(list) == 0 {
			continue
		}
		begun()
		g.Go(func() error { return u.learnFile(groupCtx, e, ways, list) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return u.learntAll(ctx, t)
}

// learntAll remembers that the files of a tree have been held against all that was told.
func (u *unseen) learntAll(ctx context.Context, t *scan.Tree) error {
	feeds := Adapted(u.l)
	if len(feeds) == 0 {
		return nil
	}
	state := stateOf(feeds, t)
	if was, known := u.l.Home.Aliases.Known(u.slot()); state.IsZero() || known && was == state {
		return nil
	}
	return u.l.Home.Aliases.Learn(ctx, map[digest.Digest]digest.Digest{u.slot(): state})
}

// learnFile reads a file whose digest is known. What cannot be read, or has changed, teaches nothing.
func (u *unseen) learnFile(ctx context.Context, e *scan.Entry, ways []way, list []*several) error {
	f, err := scan.OpenFile(u.l.Root, e.Path)
	if err != nil {
		return nil
	}
	defer f.Close()
	own := digest.NewHasher()
	out := []io.Writer{own}
	hashers := make(map[string]*digest.ForeignHasher)
	for _, w := range ways {
		if hashers[w.alg] == nil {
			hashers[w.alg] = digest.NewForeignHasher(w.alg)
			out = append(out, hashers[w.alg])
		}
	}
	verifiers := make([]*adapter.Verifier, len(list))
	for i, p := range list {
		verifiers[i] = p.file.Verifier()
		out = append(out, verifiers[i])
	}
	if _, err := io.Copy(io.MultiWriter(out...), f); err != nil || own.Digest() != e.Digest {
		return ctx.Err()
	}
	u.l.Meter.Advance(e.Stamp.Size, e.Path)
	if err := u.learnt(ctx, e.Digest, e.Stamp.Size, ways, hashers); err != nil {
		return err
	}
	known := make(map[digest.Digest]digest.Digest)
	for i, p := range list {
		known[looked(way{alg: p.name.String()}, e.Digest)] = e.Digest
		if verifiers[i].Fits() && u.counts(e.Digest, p.scope) {
			known[p.name] = e.Digest
		}
	}
	return u.l.Home.Aliases.Learn(ctx, known)
}
