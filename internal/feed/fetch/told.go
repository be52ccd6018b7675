package fetch

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/adapter"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/feed/told"
	"morvant/internal/manifest"
	"morvant/internal/problem"
)

// What an adapter tells comes in the distributor's own pieces, under the distributor's own digests. A piece that has
// been checked is content of the store, and the table of aliases says under which digest; so are the parts of a
// piece that is too large for one request, until the piece is whole. From the pieces the files are put together.

// ErrUnchecked is returned for files that nothing tells from other content.
var ErrUnchecked = problem.New("the distributor gives no digest of it, so that damage on the way would not be noticed", "To take it all the same: --unchecked")

// ErrContradiction is returned for files of which digests were told that no content has at once.
var ErrContradiction = problem.New("the distributor tells digests that contradict each other, so nothing can be what it tells", "Ask whoever wrote the adapter")

// toldPlan is what an adapter has to do with a plan.
type toldPlan struct {
	files []*toldFile
	needs []*piece // that the store lacks
}

func (t *toldPlan) empty() bool { return t == nil || len(t.files) == 0 }

// names lists what everything that is fetched is known by.
func (t *toldPlan) names() []digest.Digest {
	if t == nil {
		return nil
	}
	var list []digest.Digest
	for _, f := range t.files {
		for _, p := range f.pieces {
			list = append(list, p.name)
			if p.cost > runSize {
				for _, c := range p.spans(0, p.cost) {
					list = append(list, c.name())
				}
			}
		}
	}
	return list
}

// toldFile is a wanted file that is not whole in the store.
type toldFile struct {
	path   string
	name   digest.Digest
	file   *adapter.File
	scope  string // of the subscription that tells it
	part   int
	pieces []*piece
	// contradicts says that content has come that has one of the digests that were told, and lacks another.
	contradicts bool
}

// piece is a part of a file.
type piece struct {
	file  *toldFile
	index int
	name  digest.Digest
	size  int64
	check string // digest of the distributor's; empty: only the file has one, or nothing
	local *Local // holds it at offset; nil: it must be fetched
	at    int64
	cost  int64 // bytes that come over the line, as far as the distributor tells
	done  bool
	bad   bool // it has come wrong
}

// makeTold is Make for a feed that an adapter speaks for.
func makeTold(ctx context.Context, f *feed.Feed, r Request, o feed.Options) (*Plan, error) {
	p := &Plan{Feed: f, request: r, own: make(map[string]manifest.Attribute), told: &toldPlan{}}
	// What a killed run has left counts in the plan.
	session, err := r.Store.Resume(ctx, r.Owner)
	if err == nil {
		err = session.Close()
	}
	if err != nil {
		return nil, err
	}
	for i, part := range r.Parts {
		t, err := f.Told(part.Part.Manifest)
		if err != nil {
			return nil, err
		}
		if err := p.addTold(ctx, i, part, t, o); err != nil {
			return nil, err
		}
	}
	if p.told.empty() {
		return p, nil
	}
	if err := p.findTold(ctx); err != nil {
		return nil, err
	}
	for _, n := range p.told.needs {
		p.Grow += n.size
		if n.local != nil {
			p.Found += n.size
			continue
		}
		if part := r.Parts[n.file.part]; part.NotOwned {
			return nil, &feed.DeniedError{What: fmt.Sprintf("the account does not own %s", part.Name)}
		}
		p.Chunks++
		p.Fetch += n.cost
	}
	p.Wanted = p.Fetch
	return p, nil
}

// addTold lists the files of a part that the store lacks.
func (p *Plan) addTold(ctx context.Context, i int, part Part, t *told.Manifest, o feed.Options) error {
	var contents []digest.Digest
	for _, file := range part.Manifest.Files {
		contents = append(contents, file.Digest)
	}
	lacks, err := p.request.Store.Lacks(ctx, contents)
	if err != nil {
		return err
	}
	listed := make(map[digest.Digest]bool)
	unchecked := ""
	for _, file := range part.Manifest.Files {
		said := t.File(file.Path)
		if said == nil {
			return fmt.Errorf("%s: %w", file.Path, feed.ErrCopy)
		}
		a := manifest.Attribute{MTime: said.Time()}
		if said.Executable {
			a.Mode = 0o755
		}
		if a != (manifest.Attribute{}) {
			p.own[file.Path] = a
		}
		if file.Size == 0 || listed[file.Digest] || !lacks[file.Digest] || p.request.Only != nil && !p.request.Only[file.Digest] {
			continue
		}
		listed[file.Digest] = true
		if here, err := p.recognise(ctx, said, t.Name(said)); err != nil {
			return err
		} else if here {
			continue
		}
		switch ground := t.Ground(said); {
		case ground == adapter.Unchecked:
			p.Unchecked++
			unchecked = file.Path
		case said.Forgeable():
			p.Weak++
		}
		out := &toldFile{path: file.Path, name: t.Name(said), file: said, part: i, scope: t.Scope()}
		for j, q := range said.Split() {
			out.pieces = append(out.pieces, &piece{file: out, index: j, name: t.PieceName(said, j), size: q.Size, check: q.Digest, cost: cmp.Or(q.Stored, q.Size)})
		}
		p.told.files = append(p.told.files, out)
		p.Files++
		p.Bytes += file.Size
	}
	if unchecked != "" && !o.Unchecked {
		return fmt.Errorf("%s: %w", unchecked, ErrUnchecked)
	}
	return nil
}

// recognise reports whether the store has the content of a file that several digests were told of: that of one of them
// is known, and all the others hold for it.
func (p *Plan) recognise(ctx context.Context, f *adapter.File, name digest.Digest) (bool, error) {
	claims := f.Claims()
	if len(claims) < 2 {
		return false, nil
	}
	for _, c := range claims {
		own, known := p.Feed.Known.Known(adapter.NameOf(c.Want, c.Size))
		if c.Size != f.Size || !c.Want.Strong() || !known {
			continue
		}
		has, err := p.request.Store.Has(ctx, own)
		if err != nil || !has {
			return false, err
		}
		v := f.Verifier()
		if err := p.request.Store.WriteTo(ctx, v, own); err != nil || !v.Fits() {
			return false, ctx.Err() // damaged, or other content: it comes from the distributor
		}
		return true, p.Feed.Known.Learn(ctx, map[digest.Digest]digest.Digest{name: own})
	}
	return false, nil
}

// findTold finds out which pieces are here: in the store, or in files of this computer.
func (p *Plan) findTold(ctx context.Context) error {
	known := p.Feed.Known
	wanted := make(map[digest.Digest][]*piece)
	for _, f := range p.told.files {
		for _, q := range f.pieces {
			wanted[q.name] = append(wanted[q.name], q)
		}
	}
	var ask []digest.Digest
	for name := range wanted {
		if own, ok := known.Known(name); ok {
			ask = append(ask, own)
		}
	}
	lacks, err := p.request.Store.Lacks(ctx, ask)
	if err != nil {
		return err
	}
	for name := range wanted {
		if own, ok := known.Known(name); ok && !lacks[own] {
			delete(wanted, name)
		}
	}
	locals := make(map[digest.Digest]*Local)
	for i := range p.request.Local {
		if l := &p.request.Local[i]; !l.Digest.IsZero() {
			locals[l.Digest] = l
		}
	}
	found := func(name digest.Digest, l *Local, at int64) {
		for _, q := range wanted[name] {
			if q.local == nil {
				q.local, q.at = l, at
			}
		}
	}
	if err := p.installed(ctx, locals, found); err != nil {
		return err
	}
	for _, list := range wanted {
		p.told.needs = append(p.told.needs, list[0]) // the others are the same content
	}
	slices.SortFunc(p.told.needs, func(a, b *piece) int {
		return cmp.Or(cmp.Compare(a.file.part, b.file.part), strings.Compare(a.file.path, b.file.path), cmp.Compare(a.index, b.index))
	})
	return nil
}

// installed tells of the pieces of all files here that are just as in some manifest of the distributor's, wherever
// they lie.
func (p *Plan) installed(ctx context.Context, locals map[digest.Digest]*Local, found func(name digest.Digest, l *Local, at int64)) error {
	if len(locals) == 0 {
		return nil
	}
	own := make(map[digest.Digest]bool, len(locals))
	for d := range locals {
		own[d] = true
	}
	list, err := p.Feed.Having(ctx, p.Feed.Known.Names(own))
	if err != nil {
		return err
	}
	for _, part := range p.request.Parts { // also one that is not listed
		if t, err := p.Feed.Told(part.Part.Manifest); err == nil {
			list = append(list, t)
		}
	}
	for _, t := range list {
		for i := range t.Manifest.Files {
			f := &t.Manifest.Files[i]
			own, ok := p.Feed.Known.Known(t.Name(f))
			l := locals[own]
			if !ok || l == nil || l.Size != f.Size {
				continue
			}
			var at int64
			for j, q := range f.Split() {
				found(t.PieceName(f, j), l, at)
				at += q.Size
			}
		}
	}
	return nil
}
