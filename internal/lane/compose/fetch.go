package compose

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/feed/fetch"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// locals lists the files of the lane as places where content may be found.
func locals(l *lane.Lane, t *scan.Tree) []fetch.Local {
	var list []fetch.Local
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File || e.Stamp.Size == 0 {
			continue
		}
		local := fetch.Local{Path: e.Path, Size: e.Stamp.Size, Open: func() (*os.File, error) { return scan.OpenFile(l.Root, e.Path) }}
		if e.Known {
			local.Digest = e.Digest
		}
		list = append(list, local)
	}
	return list
}

// PlanFetch finds out what has to be fetched for a build, from the first of its
// feeds that can say so. only limits it to these contents; nil: everything.
func PlanFetch(ctx context.Context, l *lane.Lane, c *Composed, only map[digest.Digest]bool, t *scan.Tree) (*fetch.Plan, error) {
	var errs []error
	for _, f := range c.Build.Feeds {
		p, err := fetch.Make(ctx, f, fetch.Request{Store: l.Store, Parts: c.Parts, Only: only, Local: locals(l, t), Owner: fetchOwner(l.Game.Name)}, l.Feed)
		if err == nil {
			if !c.Recorded {
				for path, a := range p.Attributes() {
					c.Own.Files[path] = a
					if f, ok := c.Base.File(path); ok && c.holds(f) {
						if t, set := c.Sheet.Times()[path]; set {
							a.MTime = t
						}
						c.Attributes.Files[path] = a
					}
				}
			}
			return p, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		errs = append(errs, fmt.Errorf("feed %s: %w", f.Name, err))
	}
	return nil, errors.Join(errs...)
}

// RunFetch carries out a fetch; when its feed fails, the next one that offers the
// build goes on.
func RunFetch(ctx context.Context, l *lane.Lane, c *Composed, p *fetch.Plan, only map[digest.Digest]bool, t *scan.Tree) (*fetch.Fetched, error) {
	if err := volume.CheckFree(l.Store.Dir(), p.Grow); err != nil {
		return nil, err
	}
	// Noted until all of it is here, so that no trim takes away what has come so far.
	if err := noteFetch(ctx, l, p); err != nil {
		return nil, err
	}
	result, err := p.Run(ctx, l.Feed)
	if err == nil {
		err = l.Home.End(ctx, l.Game.Name, "", state.BegunFetch)
	}
	if err == nil || ctx.Err() != nil {
		return result, errors.Join(err, ctx.Err())
	}
	at := slices.Index(c.Build.Feeds, p.Feed)
	if at < 0 || at+1 >= len(c.Build.Feeds) {
		return result, err
	}
	rest := *c.Build
	rest.Feeds = c.Build.Feeds[at+1:]
	l.Meter.Warn(fmt.Sprintf("the feed %s fails (%v); going on with %s", p.Feed.Name, err, rest.Feeds[0].Name))
	next := *c
	next.Build = &rest
	q, planErr := PlanFetch(ctx, l, &next, only, t)
	if planErr != nil {
		return result, errors.Join(err, planErr)
	}
	return RunFetch(ctx, l, &next, q, only, t)
}

// noteFetch notes which chunks a fetch is about.
func noteFetch(ctx context.Context, l *lane.Lane, p *fetch.Plan) error {
	var list []byte
	for _, d := range p.Pieces() {
		list = append(list, d[:]...)
	}
	session := l.Store.Begin()
	d, _, err := session.Put(ctx, bytes.NewReader(list), nil)
	if err = errors.Join(err, session.Close()); err != nil {
		return err
	}
	return l.Home.Begin(ctx, l.Game.Name, "", state.BegunFetch, state.NewUID(), state.Fetch{Chunks: d, Since: l.Now(), Owner: fetchOwner(l.Game.Name)})
}

func fetchOwner(name string) string { return "fetch-" + name }

// Fetch is a fetch that has been planned and not carried out.
type Fetch struct {
	Build  *state.Build
	Choice *Choice
	Plan   *fetch.Plan

	composed *Composed
	tree     *scan.Tree
}

// ProposeFetch plans to bring all content of a build into the store.
// only takes no other components than those asked for.
func ProposeFetch(ctx context.Context, l *lane.Lane, b *state.Build, asked []string, only bool) (*Fetch, error) {
	choice, err := ChooseOnly(ctx, l, b, asked, only)
	if err != nil {
		return nil, err
	}
	c, err := Of(ctx, l, b, choice.Names)
	if err != nil {
		return nil, err
	}
	f := &Fetch{Build: c.Build, Choice: choice, composed: c, Plan: &fetch.Plan{}}
	if b.Components == nil {
		return f, nil
	}
	lacks, err := l.Store.Lacks(ctx, Contents(c.Manifest))
	if err != nil || len(lacks) == 0 && c.Recorded {
		return f, err
	}
	if len(c.Build.Feeds) == 0 {
		return nil, fmt.Errorf("%s: %w", b.Label, ErrNotOffered)
	}
	if f.tree, err = l.Look(ctx, 0); err != nil {
		return nil, err
	}
	f.Plan, err = PlanFetch(ctx, l, c, nil, f.tree)
	return f, err
}

// ErrNotOffered is returned where content is missing that no feed offers.
var ErrNotOffered = errors.New("part of it is missing here, and no feed offers it any more")

// Contents lists the contents of a manifest, each once.
func Contents(m *manifest.Manifest) []digest.Digest {
	list := make([]digest.Digest, len(m.Files))
	for i, f := range m.Files {
		list[i] = f.Digest
	}
	slices.SortFunc(list, func(a, b digest.Digest) int { return slices.Compare(a[:], b[:]) })
	return slices.Compact(list)
}

// CarryOutFetch carries out a fetch: the whole build is in the store afterwards.
func CarryOutFetch(ctx context.Context, l *lane.Lane, f *Fetch) (*fetch.Fetched, error) {
	if f.Build.Components == nil {
		return &fetch.Fetched{}, nil
	}
	if !f.composed.Unseen() {
		if err := Register(ctx, l, f.composed, true); err != nil {
			return nil, err
		}
	}
	result := &fetch.Fetched{}
	if !f.Plan.Empty() {
		var err error
		if result, err = RunFetch(ctx, l, f.composed, f.Plan, nil, f.tree); err != nil {
			return result, err
		}
		f.composed.Learn(l)
	}
	return result, Register(ctx, l, f.composed, false)
}

// ErrNotFetched is returned for content that is known and not on this computer yet.
var ErrNotFetched = errors.New("not fetched yet")
