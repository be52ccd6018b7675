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
	fresh, err := p.fetchFrom(ctx, l, c.Sources(), missing)
	if err != nil {
		return err
	}
	if len(missing) > 0 { // of a build that has it in common with another
		others, err := compose.Offering(ctx, l, missing)
		if err != nil {
			return err
		}
		c.From(others...)
		if _, err := p.fetchFrom(ctx, l, others, missing); err != nil {
			return err
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

// fetchFrom plans what has to come from feeds, out of what is missing. It reports whether the feed of a build that is new here
// has told its modes.
func (p *Proposal) fetchFrom(ctx context.Context, l *lane.Lane, sources []*compose.Composed, missing map[digest.Digest]bool) (fresh bool, err error) {
	c := p.composed
	for _, of := range sources {
		if len(missing) == 0 && of.Recorded || len(of.Parts) == 0 {
			continue
		}
		f := &Fetching{composed: of, only: make(map[digest.Digest]bool)}
		for _, file := range of.Base.Files {
			if missing[file.Digest] {
				f.only[file.Digest] = true
				delete(missing, file.Digest)
			}
		}
		if len(f.only) == 0 && of.Recorded {
			continue
		}
		if f.Plan, err = compose.PlanFetch(ctx, l, of, f.only, p.tree); err != nil {
			if len(f.only) > 0 {
				return fresh, err
			}
			l.Meter.Warn("Morvant does not know which files are programs: " + err.Error())
			continue
		}
		fresh = fresh || !of.Recorded
		for path, a := range of.Own.Files {
			if is, ok := c.Manifest.File(path); ok && of != c {
				if f, ok := of.Base.File(path); ok && f.Digest == is.Digest {
					c.Attributes.Files[path] = a
				}
			}
		}
		if !f.Plan.Empty() {
			p.Fetches = append(p.Fetches, f)
		}
	}
	return fresh, nil
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
