// Package upkeep looks after the store across all games: what it holds and for which
// game, whether all of it can be read back, and what nothing refers to any more.
package upkeep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/entry"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/progress"
	"morvant/internal/saves"
	"morvant/internal/state"
	"morvant/internal/store"
)

// patience is how long upkeep waits until it has the store to itself.
const patience = 5 * time.Second

// alone opens the store for exclusive use, waiting a little for others.
func alone(ctx context.Context, home *game.Home) (*store.Store, bool, error) {
	deadline := time.NewTimer(patience)
	defer deadline.Stop()
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		s, rebuilt, err := store.OpenAlone(ctx, home.StoreDir())
		if !errors.Is(err, store.ErrBusy) {
			return s, rebuilt, err
		}
		select {
		case <-tick.C:
		case <-deadline.C:
			return nil, false, err
		case <-ctx.Done():
			return nil, false, ctx.Err()
		}
	}
}

// reference is something that keeps content alive.
type reference struct {
	label   string // "1.1.1 of cinder-quay"
	list    digest.Digest
	also    digest.Digest // a second list; zero: none
	build   *state.Build  // nil for a change, and for saves
	content []plan.Entry  // the files it needs
}

// references lists everything that keeps content alive, and what it needs. visit
// is called for one after the other, so that only one list is held at a time;
// err says why the list could not be read.
func references(ctx context.Context, home *game.Home, s *store.Store, visit func(r *reference, err error) error) error {
	builds, err := home.Recorded(ctx, "")
	if err != nil {
		return err
	}
	for _, b := range builds {
		r := &reference{label: b.Label + " of " + b.Game, list: b.Manifest, build: b}
		m, err := b.ReadManifest(ctx, s)
		if err == nil {
			r.content = contentOf(m)
		}
		if err := visit(r, err); err != nil {
			return err
		}
	}
	if err := savesReferences(ctx, home, s, visit); err != nil {
		return err
	}
	if err := ownReferences(ctx, home, s, visit); err != nil {
		return err
	}
	changes, err := home.History(ctx, "", "")
	if err != nil {
		return err
	}
	if err := pinReferences(ctx, home, s, changes, visit); err != nil {
		return err
	}
	for _, c := range changes {
		r := &reference{label: fmt.Sprintf("change %d of %s", c.ID, c.Game), list: c.Steps}
		steps, err := readSteps(ctx, s, c)
		for i := range steps {
			// What the change replaced is in the store for its sake; what it
			// led to is there for a build's, or was replaced by a later change.
			if n := steps[i].Before; n != nil && n.Kind == plan.File && !steps[i].KeepsContent() {
				r.content = append(r.content, plan.Entry{Path: steps[i].Path, Node: *n})
			}
		}
		if err := visit(r, err); err != nil {
			return err
		}
	}
	return nil
}

// savesReferences lists what the backups of saves need.
func savesReferences(ctx context.Context, home *game.Home, s *store.Store, visit func(r *reference, err error) error) error {
	backups, err := home.Backups(ctx, "")
	if err != nil {
		return err
	}
	for _, b := range backups {
		for _, p := range b.Parts {
			r := &reference{label: fmt.Sprintf("backup %d of the saves of %s", b.ID, b.Game), list: p.Manifest, also: p.Attributes}
			m, err := (&saves.Archive{Store: s}).Manifest(ctx, p)
			if err == nil {
				r.content = contentOf(m)
			}
			if err := visit(r, err); err != nil {
				return err
			}
		}
	}
	return nil
}

// ownReferences lists what the records of players' own files need.
func ownReferences(ctx context.Context, home *game.Home, s *store.Store, visit func(r *reference, err error) error) error {
	list, err := home.Player.Owned(ctx, "", "")
	if err != nil {
		return err
	}
	for _, o := range list {
		r := &reference{label: fmt.Sprintf("your own files of %s, of %s", o.Game, o.Made.Format("2006-01-02 15:04")), list: o.Manifest, also: o.Attributes}
		m, err := o.Build().ReadManifest(ctx, s)
		if err == nil {
			r.content = contentOf(m)
		}
		if err := visit(r, err); err != nil {
			return err
		}
	}
	return nil
}

// pinReferences lists what pins name, those in force and those that an undo would bring back: the files of the player's on which
// something of them lies, and the folder from before the hold. The content of the latter, and of what a pin that is not in
// force lies over, is what changes have replaced, or that of builds.
func pinReferences(ctx context.Context, home *game.Home, s *store.Store, changes []*state.Change, visit func(r *reference, err error) error) error {
	names, err := home.Names()
	if err != nil {
		return err
	}
	lists, broken := make(map[digest.Digest]*reference), make(map[digest.Digest]error)
	add := func(label string, list, also digest.Digest) {
		if !list.IsZero() && lists[list] == nil {
			lists[list] = &reference{label: label, list: list, also: also}
		}
	}
	named := func(p state.Pin) {
		add("the folder before a hold", p.From.Manifest, p.From.Attributes)
		for _, d := range p.CoveredLists() {
			add("what a pin lies over", d, digest.Digest{})
		}
		add("what a pin lies over", p.CoveredTimes, digest.Digest{})
	}
	for _, c := range changes {
		named(c.Before)
		named(c.After)
	}
	for _, name := range names {
		lanes, err := home.Lanes(ctx, name)
		if err != nil {
			return err
		}
		for _, l := range lanes {
			named(l.Pin)
			for _, d := range l.Pin.CoveredLists() {
				raw, err := s.Bytes(ctx, d, manifest.MaxEncoded)
				var m *manifest.Manifest
				if err == nil {
					m, err = manifest.Decode(raw)
				}
				if err != nil {
					broken[d] = err
					continue
				}
				lists[d].content = contentOf(m)
			}
		}
	}
	for d, r := range lists {
		if err := visit(r, broken[d]); err != nil {
			return err
		}
	}
	return nil
}

func contentOf(m *manifest.Manifest) []plan.Entry {
	var list []plan.Entry
	for _, f := range m.Files {
		list = append(list, plan.Entry{Path: f.Path, Node: plan.Node{Kind: plan.File, Size: f.Size, Digest: f.Digest}})
	}
	return list
}

func readSteps(ctx context.Context, s *store.Store, c *state.Change) ([]plan.Step, error) {
	raw, err := s.Bytes(ctx, c.Steps, manifest.MaxEncoded)
	if err != nil {
		return nil, err
	}
	return plan.DecodeSteps(raw)
}

// mark marks everything that is referred to; owners lists the builds by their number.
func mark(ctx context.Context, home *game.Home, s *store.Store) (m *store.Mark, owners []*state.Build, err error) {
	if m, err = s.NewMark(ctx); err != nil {
		return nil, nil, err
	}
	err = references(ctx, home, s, func(r *reference, err error) error {
		if err != nil {
			return fmt.Errorf("%s: %w", r.label, err)
		}
		owner := store.Nobody // the history, which comes last
		if r.build != nil {
			owner = len(owners)
			owners = append(owners, r.build)
		}
		files := []digest.Digest{r.list}
		if r.build != nil {
			files = append(files, r.build.Attributes)
			if err := m.Records(ctx, []digest.Digest{r.build.Record}, owner); err != nil {
				return err
			}
		}
		if r.also != (digest.Digest{}) {
			files = append(files, r.also)
		}
		for _, e := range r.content {
			files = append(files, e.Digest)
		}
		if r.build != nil && r.build.Channel == state.ImportedLine {
			for _, p := range r.build.Components {
				files = append(files, p.Manifest)
			}
		}
		if err := m.Files(ctx, files, owner); err != nil {
			return fmt.Errorf("%s: %w", r.label, err)
		}
		return nil
	})
	if err != nil {
		return nil, nil, errors.Join(err, m.Close())
	}
	return m, owners, nil
}

// BuildShare is what one build comes to in the store.
type BuildShare struct {
	*state.Build
	store.Share
}

// Overview is what the store holds.
type Overview struct {
	Dir string
	store.Usage
	Content int64 // bytes of all builds, as if each were a folder of its own
	Builds  []BuildShare
	Changes store.Share // what only the history keeps alive
}

// Show sums up the store.
func Show(ctx context.Context, home *game.Home) (*Overview, error) {
	s, err := store.Open(ctx, home.StoreDir())
	if err != nil {
		return nil, err
	}
	defer s.Close()
	m, owners, err := mark(ctx, home, s)
	if err != nil {
		return nil, err
	}
	defer m.Close()
	o := &Overview{Dir: s.Dir()}
	if o.Usage, err = m.Usage(ctx); err != nil {
		return nil, err
	}
	shares, err := m.Shares(ctx)
	if err != nil {
		return nil, err
	}
	for i, b := range owners {
		o.Content += b.Bytes
		o.Builds = append(o.Builds, BuildShare{b, shares[i]})
	}
	o.Changes = shares[store.Nobody]
	return o, nil
}

// Errors that keep a trim from dropping anything.
var (
	// ErrStateLost: the state was lost, so nobody knows what is needed.
	ErrStateLost = errors.New("the state of this home was lost, so Morvant does not know what is needed")
	// ErrIncomplete: something that should be in the store is not found.
	ErrIncomplete = errors.New("the store lacks something that is needed")
)

// givenUp is after how long what an unfinished fetch has brought is not kept for it any
// more.
const givenUp = 30 * 24 * time.Hour

// Trim finds what nothing refers to and, if approve returns nil for the plan,
// drops it. The error of approve is passed on. Unfinished changes of all games are ended
// first, where that is possible now; what the others need is kept.
func Trim(ctx context.Context, home *game.Home, approve func(*store.TrimPlan) error, meter progress.Meter, now func() time.Time) error {
	if lost, err := home.Fact(ctx, state.FactLost); err != nil || lost != "" {
		return errors.Join(err, ErrStateLost)
	}
	unknown, err := unknownSince(ctx, home, now())
	if err != nil {
		return err
	}
	endChanges(ctx, home, meter, now)
	s, _, err := alone(ctx, home)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.Adopt(ctx); err != nil {
		return err
	}
	if err := complete(ctx, home, s); err != nil {
		return err
	}
	m, _, err := mark(ctx, home, s)
	if err != nil {
		return err
	}
	defer m.Close()
	owners, err := markBegun(ctx, home, s, m, now())
	if err != nil {
		return err
	}
	plan, err := s.PlanTrim(ctx, m, unknown, owners...)
	if err != nil {
		return err
	}
	if err := approve(plan); err != nil {
		return err
	}
	meter.Begin("Trimming", plan.Copied)
	defer meter.End()
	return s.Trim(ctx, m, plan, func(n int64) { meter.Advance(n, "") })
}

// endChanges opens the lanes in which something is unfinished: that ends it, if it can
// be ended now.
func endChanges(ctx context.Context, home *game.Home, meter progress.Meter, now func() time.Time) {
	begun, err := home.Begun(ctx, "")
	if err != nil {
		return // marking says so
	}
	games := make(map[string]bool)
	for _, b := range begun {
		games[b.Game] = games[b.Game] || b.Kind != state.BegunFetch
	}
	for name, unfinished := range games {
		if !unfinished {
			continue
		}
		l, err := entry.Open(ctx, home, name, lane.Options{Who: "morvant store trim", Meter: meter, Now: now})
		if err != nil {
			meter.Warn(fmt.Sprintf("an unfinished change in %s stays unfinished: %v; the store keeps what it may need", name, err))
			continue
		}
		for _, text := range l.Recovered {
			meter.Warn(text)
		}
		if err := l.Close(); err != nil {
			meter.Warn(err.Error())
		}
	}
}

// complete returns ErrIncomplete if a build or a backup that should be whole in the
// store is not: then the index cannot be trusted with telling what nobody needs.
func complete(ctx context.Context, home *game.Home, s *store.Store) error {
	asked := make(map[digest.Digest]bool) // builds have most in common
	return references(ctx, home, s, func(r *reference, err error) error {
		if err != nil {
			return fmt.Errorf("%s: %w (%w)", r.label, ErrIncomplete, err)
		}
		if r.build != nil && r.build.Partial {
			return nil
		}
		files := []digest.Digest{r.list}
		for _, e := range r.content {
			if !asked[e.Digest] {
				asked[e.Digest] = true
				files = append(files, e.Digest)
			}
		}
		lacks, err := s.Lacks(ctx, files)
		if err != nil {
			return err
		}
		if len(lacks) > 0 {
			return fmt.Errorf("%s: %w: %d of its files", r.label, ErrIncomplete, len(lacks))
		}
		return nil
	})
}

// markBegun marks what unfinished changes and fetches may need, and returns the owners of
// packs that fetches have begun.
func markBegun(ctx context.Context, home *game.Home, s *store.Store, m *store.Mark, now time.Time) (owners []string, err error) {
	begun, err := home.Begun(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, b := range begun {
		switch b.Kind {
		case state.BegunChange:
			if err := markChange(ctx, s, m, b); err != nil {
				return nil, err
			}
		case state.BegunImport:
			if err := markMoved(ctx, s, m, b); err != nil {
				return nil, err
			}
		case state.BegunFetch:
			var f state.Fetch
			if err := json.Unmarshal(b.Body, &f); err != nil {
				return nil, err
			}
			if now.Sub(f.Since) > givenUp {
				continue
			}
			owners = append(owners, f.Owner)
			list, err := s.Bytes(ctx, f.Chunks, manifest.MaxEncoded)
			if err != nil {
				return nil, err
			}
			chunks, contents := make([]digest.Digest, 0, len(list)/digest.Size), []digest.Digest{f.Chunks}
			for part := range slices.Chunk(list, digest.Size) {
				// From a distributor, pieces come as contents of the store under names of the distributor's.
				if d := digest.Digest(part); d.IsUnseen() {
					contents = append(contents, home.Aliases.Own(d))
				} else {
					chunks = append(chunks, d)
				}
			}
			if err := errors.Join(m.Files(ctx, contents, store.Nobody), m.Records(ctx, chunks, store.Nobody)); err != nil {
				return nil, err
			}
		}
	}
	return owners, nil
}

// markMoved marks what has been moved into the store by an import that did not come to its end.
func markMoved(ctx context.Context, s *store.Store, m *store.Mark, b state.Begun) error {
	var moving state.Moving
	if err := json.Unmarshal(b.Body, &moving); err != nil {
		return err
	}
	for _, source := range moving.Sources {
		raw, err := s.Bytes(ctx, source.Manifest, manifest.MaxEncoded)
		if err != nil {
			return fmt.Errorf("an unfinished import of %s: %w", source.Source, err)
		}
		list, err := manifest.DecodeRecorded(raw)
		if err != nil {
			return fmt.Errorf("an unfinished import of %s: %w", source.Source, err)
		}
		files := []digest.Digest{source.Manifest, source.Attributes}
		for _, f := range list.Files {
			files = append(files, f.Digest)
		}
		if err := m.Files(ctx, files, store.Nobody); err != nil {
			return err
		}
	}
	return nil
}

// markChange marks what stood before and what stands after an unfinished change.
func markChange(ctx context.Context, s *store.Store, m *store.Mark, b state.Begun) error {
	var c state.Change
	if err := json.Unmarshal(b.Body, &c); err != nil {
		return err
	}
	steps, err := readSteps(ctx, s, &c)
	if err != nil {
		return fmt.Errorf("an unfinished change of %s: %w", b.Game, err)
	}
	files := append([]digest.Digest{c.Steps}, c.After.CoveredLists()...)
	if !c.After.CoveredTimes.IsZero() {
		files = append(files, c.After.CoveredTimes)
	}
	if from := c.After.From; !from.IsZero() {
		files = append(files, from.Manifest, from.Attributes)
	}
	for i := range steps {
		for _, n := range []*plan.Node{steps[i].Before, steps[i].After} {
			if n != nil && n.Kind == plan.File {
				files = append(files, n.Digest)
			}
		}
	}
	return m.Files(ctx, files, store.Nobody)
}
