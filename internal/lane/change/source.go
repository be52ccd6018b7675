package change

import (
	"context"
	"fmt"

	"morvant/internal/apply"
	"morvant/internal/digest"
	"morvant/internal/feed/fetch"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/plan"
	"morvant/internal/store"
)

// missing lists the content that the plan writes and that is not in the store.
func missing(ctx context.Context, l *lane.Lane, p *plan.Plan) (map[digest.Digest]bool, error) {
	var wanted []digest.Digest
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Writes() {
			wanted = append(wanted, s.After.Digest)
		}
	}
	return l.Store.Lacks(ctx, wanted)
}

// lost is the error for missing content that no feed can bring.
func lost(p *plan.Plan, missing map[digest.Digest]bool) error {
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Writes() && missing[s.After.Digest] {
			return fmt.Errorf("the content of %s: %w", s.Path, store.ErrMissing)
		}
	}
	return nil
}

// Fetching is a part of a change: content that has to come from a feed.
type Fetching struct {
	*fetch.Plan
	composed *compose.Composed
	only     map[digest.Digest]bool
}

// source makes the content that a plan writes available: from the store, or
// from a feed that offers the build or an overlay. What a feed says of a new build's
// programs goes into the plan.
func source(ctx context.Context, l *lane.Lane, p *Proposal, request plan.Request, promised map[digest.Digest]bool) error {
	missing, err := missing(ctx, l, p.Plan)
	if err != nil {
		return err
	}
	for d := range promised {
		delete(missing, d)
	}
	c := p.composed
	if c == nil {
		return lost(p.Plan, missing)
	}
	p.Notes = c.Notes
	for d := range c.Texts() {
		delete(missing, d)
	}
	fresh := false
	for _, layer := range c.Sources() {
		if len(missing) == 0 && layer.Recorded || len(layer.Parts) == 0 {
			continue
		}
		f := &Fetching{composed: layer, only: make(map[digest.Digest]bool)}
		for _, file := range layer.Base.Files {
			if missing[file.Digest] {
				f.only[file.Digest] = true
				delete(missing, file.Digest)
			}
		}
		if len(f.only) == 0 && layer.Recorded {
			continue
		}
		if f.Plan, err = compose.PlanFetch(ctx, l, layer, f.only, p.tree); err != nil {
			if len(f.only) > 0 {
				return err
			}
			l.Meter.Warn("Morvant does not know which files are programs: " + err.Error())
			continue
		}
		fresh = fresh || !layer.Recorded
		for path, a := range layer.Own.Files {
			if is, ok := c.Manifest.File(path); ok && layer != c {
				if f, ok := layer.Base.File(path); ok && f.Digest == is.Digest {
					c.Attributes.Files[path] = a
				}
			}
		}
		if !f.Plan.Empty() {
			p.Fetches = append(p.Fetches, f)
		}
	}
	if len(missing) > 0 {
		return lost(p.Plan, missing)
	}
	if fresh {
		// A second plan: only the first tells what is missing, and only that which feed is asked for modes.
		request.Want = c.State()
		return p.plan(ctx, l, request)
	}
	return nil
}

// shareable adds up the content that a plan writes and another lane's file can be
// shared for.
func shareable(ctx context.Context, l *lane.Lane, p *plan.Plan) (int64, error) {
	var large []*plan.Step
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Writes() && s.After.Size >= apply.ShareFrom {
			large = append(large, s)
		}
	}
	if len(large) == 0 {
		return 0, nil
	}
	others := otherLanes(ctx, l)
	defer others.close()
	var n int64
	for _, s := range large {
		if _, ok := others.files[s.After.Digest]; ok {
			n += s.After.Size
		}
	}
	return n, nil
}
