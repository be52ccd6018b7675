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
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/scan"
	"morvant/internal/store"
)

// What distributors name by digests of their own is found among the lane's files by reading them once with the same
// algorithm: while they are read for Morvant's own digest, or again where that is known already. Each file is read
// only if it has the size of one that is looked for.

// unseen are files that adapters have told of and whose content has not been seen, for a lane to look for.
type unseen struct {
	l      *Lane
	algs   map[int64]map[string]bool // algorithms, by size
	pieces map[int64][]*toldPieces   // files that only their pieces have digests of
}

type toldPieces struct {
	name digest.Digest
	file *adapter.File
}

// unseenOf lists what the game's adapters have told of and nobody has seen; nothing if the files of the tree have been
// held against that already.
func unseenOf(l *Lane, t *scan.Tree) *unseen {
	u := &unseen{l: l, algs: make(map[int64]map[string]bool), pieces: make(map[int64][]*toldPieces)}
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
	seen := make(map[digest.Digest]bool)
	for _, b := range offered {
		for _, f := range b.Feeds {
			for _, p := range b.Components {
				if f.Adapter == "" || seen[p.Manifest] {
					continue
				}
				if t, err := f.Told(p.Manifest); err == nil {
					seen[p.Manifest] = true
					u.add(t)
				}
			}
		}
	}
	return u
}

// slot is where it is remembered which files have been held against what was told.
func (u *unseen) slot() digest.Digest { return digest.Unseen("learnt from " + u.l.CacheKey()) }

// stateOf names what the files of a tree are held against, and the files; zero where some have not been read.
func stateOf(feeds []*feed.Feed, t *scan.Tree) digest.Digest {
	h := digest.NewHasher()
	for _, f := range feeds {
		fmt.Fprintln(h, f.Name, f.Refreshed.UnixNano(), f.ToldCount())
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

func (u *unseen) add(t *feed.Told) {
	listed := make(map[digest.Digest]bool)
	for i := range t.Manifest.Files {
		f := &t.Manifest.Files[i]
		name, checked := f.Name(t.ID)
		if f.Size == 0 || !checked || listed[name] {
			continue
		}
		listed[name] = true
		if _, known := u.l.Home.Aliases.Known(name); known {
			continue
		}
		d, err := digest.ParseForeign(f.Digest)
		if err != nil {
			u.pieces[f.Size] = append(u.pieces[f.Size], &toldPieces{name, f})
			continue
		}
		if u.algs[f.Size] == nil {
			u.algs[f.Size] = make(map[string]bool)
		}
		u.algs[f.Size][d.Alg] = true
	}
}

func (u *unseen) empty() bool { return len(u.algs) == 0 && len(u.pieces) == 0 }

// Adapted lists the feeds of the game that adapters speak for.
func Adapted(l *Lane) []*feed.Feed {
	feeds, err := l.Home.Feeds(l.Game.Name)
	if err != nil {
		return nil
	}
	return slices.DeleteFunc(feeds, func(f *feed.Feed) bool { return f.Adapter == "" || f.Broken != nil })
}

// looked is remembered of content that has been read with an algorithm.
func looked(alg string, own digest.Digest) digest.Digest {
	return digest.Unseen(fmt.Sprintf("looked at with %s\n%s", alg, own))
}

// learning makes a sink learn what it is given goes by elsewhere, too.
func (u *unseen) learning(sink scan.Sink) scan.Sink {
	algs := make(map[string]bool)
	for _, list := range u.algs {
		maps.Copy(algs, list)
	}
	if len(algs) == 0 {
		return sink
	}
	return func(ctx context.Context, r io.Reader, read func(int)) (digest.Digest, int64, error) {
		var hashers []*digest.ForeignHasher
		for _, alg := range slices.Sorted(maps.Keys(algs)) {
			h := digest.NewForeignHasher(alg)
			hashers = append(hashers, h)
			r = io.TeeReader(r, h)
		}
		own, size, err := sink(ctx, r, read)
		if err != nil || u.algs[size] == nil {
			return own, size, err
		}
		return own, size, u.learnt(ctx, own, size, hashers)
	}
}

// learnt remembers what content goes by elsewhere.
func (u *unseen) learnt(ctx context.Context, own digest.Digest, size int64, hashers []*digest.ForeignHasher) error {
	known := make(map[digest.Digest]digest.Digest)
	for _, h := range hashers {
		f, err := h.Foreign()
		if err != nil {
			continue // made to be mistaken: it is known by its own digest alone
		}
		known[digest.Unseen(fmt.Sprintf("%s/%d", f, size))] = own
		known[looked(f.Alg, own)] = own
	}
	return u.l.Home.Aliases.Learn(ctx, known)
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
		var algs []string
		for alg := range u.algs[e.Stamp.Size] {
			if _, known := u.l.Home.Aliases.Known(looked(alg, e.Digest)); !known {
				algs = append(algs, alg)
			}
		}
		var pieces []*toldPieces
		for _, p := range u.pieces[e.Stamp.Size] {
			if _, known := u.l.Home.Aliases.Known(looked(p.name.String(), e.Digest)); !known {
				pieces = append(pieces, p)
			}
		}
		if len(algs)+len(pieces) == 0 {
			continue
		}
		begun()
		g.Go(func() error { return u.learnFile(groupCtx, e, algs, pieces) })
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
func (u *unseen) learnFile(ctx context.Context, e *scan.Entry, algs []string, pieces []*toldPieces) error {
	f, err := scan.OpenFile(u.l.Root, e.Path)
	if err != nil {
		return nil
	}
	defer f.Close()
	own := digest.NewHasher()
	var hashers []*digest.ForeignHasher
	out := []io.Writer{own}
	for _, alg := range algs {
		h := digest.NewForeignHasher(alg)
		hashers, out = append(hashers, h), append(out, h)
	}
	if _, err := io.Copy(io.MultiWriter(out...), f); err != nil || own.Digest() != e.Digest {
		return ctx.Err()
	}
	u.l.Meter.Advance(e.Stamp.Size, e.Path)
	if err := u.learnt(ctx, e.Digest, e.Stamp.Size, hashers); err != nil {
		return err
	}
	known := make(map[digest.Digest]digest.Digest)
	for _, p := range pieces {
		known[looked(p.name.String(), e.Digest)] = e.Digest
		if p.fits(f) {
			known[p.name] = e.Digest
		}
	}
	return u.l.Home.Aliases.Learn(ctx, known)
}

// fits reports whether the pieces of a file have the digests that were told.
func (p *toldPieces) fits(f io.ReaderAt) bool {
	var at int64
	for _, piece := range p.file.Split() {
		want, err := digest.ParseForeign(piece.Digest)
		if err != nil {
			return false
		}
		h := digest.NewForeignHasher(want.Alg)
		if _, err := io.Copy(h, io.NewSectionReader(f, at, piece.Size)); err != nil {
			return false
		}
		if got, err := h.Foreign(); err != nil || got != want {
			return false
		}
		at += piece.Size
	}
	return true
}
