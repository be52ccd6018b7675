package upkeep

import (
	"bytes"
	"context"
	"errors"
	"os"
	"time"

	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/layout"
	"morvant/internal/progress"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// Loss is content that something refers to and that could not be read back.
type Loss struct {
	Owner  string        `json:"owner"` // "1.1.1 of cinder-quay"
	Path   string        `json:"path"`  // empty: the list of the owner's files itself
	Digest digest.Digest `json:"digest"`
	Mended bool          `json:"mended"`
}

// Health is what a check found.
type Health struct {
	Rebuilt   bool // the index had been lost and was made anew from the packs
	Recovered int  // builds found again in the packs
	Packs     int
	Records   int
	Bytes     int64
	Damaged   int // records that could not be read back
	Losses    []Loss
	// Unread is how many records cannot be read now, and UnreadWhy why the first of them
	// cannot: that is no damage.
	Unread    int
	UnreadWhy string
	Again     int // records that had been dropped and are taken in again
	// Anew names what was damaged and is begun anew, for it can be found out again; Mended what was put right from a
	// second copy.
	Anew, Mended []string

	damaged []store.Damage
}

// Unmended counts the losses that remain.
func (h *Health) Unmended() int {
	n := 0
	for _, l := range h.Losses {
		if !l.Mended {
			n++
		}
	}
	return n
}

// Check reads all of the store. A lost index is rebuilt; damage is named by build
// and file, and mended from lanes that still hold the content. recoverBuilds
// lists again every build that the packs describe and the state does not know.
func Check(ctx context.Context, home *game.Home, recoverBuilds bool, meter progress.Meter) (*Health, error) {
	s, rebuilt, err := alone(ctx, home)
	if err != nil {
		return nil, err
	}
	defer func() { s.Close() }()
	h := &Health{Rebuilt: rebuilt}
	for {
		err := h.check(ctx, home, s, recoverBuilds, meter)
		// What is missing may only be missing in the index, which the packs can tell.
		again := errors.Is(err, store.ErrIndexLost) || err == nil && len(h.Losses) > 0 && len(h.damaged) == 0
		if !again || h.Rebuilt {
			if err != nil {
				return nil, err
			}
			break
		}
		fresh, err := s.Rebuild(ctx)
		if err != nil {
			return nil, err
		}
		s = fresh
		h = &Health{Rebuilt: true, Recovered: h.Recovered}
	}
	if err := h.others(ctx, home); err != nil {
		return nil, err
	}
	if recoverBuilds {
		if err := home.SetFact(ctx, state.FactLost, ""); err != nil {
			return nil, err
		}
	}
	if len(h.damaged)+len(h.Losses) > 0 {
		return h, h.mend(ctx, home, s, h.damaged, meter)
	}
	return h, nil
}

// others looks through what else the home has.
func (h *Health) others(ctx context.Context, home *game.Home) error {
	cache := scan.OpenCache(home.CacheFile())
	cacheAnew, err := cache.Check(ctx)
	if err := errors.Join(err, cache.Close()); err != nil {
		return err
	}
	aliasesAnew, err := home.Aliases.Check(ctx)
	if err != nil {
		return err
	}
	indexAnew, err := home.Index.Check(ctx)
	if err != nil {
		return err
	}
	for _, db := range []struct {
		name string
		anew bool
	}{{"cache.db", cacheAnew}, {"aliases.db", aliasesAnew}, {game.IndexFile, indexAnew}} {
		if db.anew {
			h.Anew = append(h.Anew, db.name)
		}
	}
	names, err := home.Names()
	if err != nil {
		return err
	}
	for _, name := range names {
		feeds, err := home.Feeds(name)
		if err != nil {
			return err
		}
		for _, f := range feeds {
			if f.Mended {
				h.Mended = append(h.Mended, "the subscription of the feed "+f.Name)
			}
		}
	}
	return nil
}

// MendIndex makes the index of the store anew from the packs if it is damaged.
func MendIndex(ctx context.Context, home *game.Home) error {
	s, _, err := alone(ctx, home)
	if err != nil {
		return err
	}
	return s.Close()
}

// check reads everything once, and names what is lost.
func (h *Health) check(ctx context.Context, home *game.Home, s *store.Store, recoverBuilds bool, meter progress.Meter) error {
	if err := s.Adopt(ctx); err != nil {
		return err
	}
	if recoverBuilds {
		n, err := findBuilds(ctx, home, s)
		if err != nil {
			return err
		}
		h.Recovered += n
	}
	total, err := s.Size(ctx)
	if err != nil {
		return err
	}
	meter.Begin("Checking the store", total)
	report, err := s.Check(ctx, func(n int64) { meter.Advance(n, "") })
	meter.End()
	if err != nil {
		return err
	}
	h.Packs, h.Records, h.Bytes, h.Damaged, h.damaged = report.Packs, report.Records, report.Bytes, len(report.Damaged), report.Damaged
	h.Unread, h.Again = len(report.Unread), report.Again
	if h.Unread > 0 {
		// What is missing cannot be told from what cannot be read.
		h.UnreadWhy, h.damaged = report.Unread[0].Reason.Error(), nil
		return nil
	}
	return h.findLosses(ctx, home, s, report.Damaged)
}

// findBuilds adds the builds that the packs describe and nobody knows.
func findBuilds(ctx context.Context, home *game.Home, s *store.Store) (int, error) {
	notes, err := s.Notes(ctx)
	if err != nil {
		return 0, err
	}
	known, err := home.Recorded(ctx, "")
	if err != nil {
		return 0, err
	}
	have := make(map[string]bool)
	for _, b := range known {
		have[b.UID] = true
	}
	n := 0
	for _, note := range notes {
		b, err := state.DecodeRecord(note)
		if err != nil || have[b.UID] {
			continue
		}
		switch err := home.AddBuild(ctx, b); {
		case errors.Is(err, state.ErrExists):
			// Its label has been given anew since; the packs keep its content
			// as long as nothing trims them.
		case err != nil:
			return n, err
		default:
			n++
		}
	}
	return n, nil
}

// findLosses names everything that needs a damaged or missing record.
func (h *Health) findLosses(ctx context.Context, home *game.Home, s *store.Store, damaged []store.Damage) error {
	bad := make(map[digest.Digest]bool)
	for _, d := range damaged {
		bad[d.Digest] = true
	}
	state := make(map[digest.Digest]bool) // whether content is whole
	whole := func(d digest.Digest) (bool, error) {
		if ok, known := state[d]; known {
			return ok, nil
		}
		ok, err := isWhole(ctx, s, d, bad)
		state[d] = ok
		return ok, err
	}
	return references(ctx, home, s, func(r *reference, err error) error {
		lists := []digest.Digest{r.list}
		if r.also != (digest.Digest{}) {
			lists = append(lists, r.also)
		}
		if r.build != nil {
			lists = append(lists, r.build.Attributes)
		}
		for _, d := range lists {
			if ok, wholeErr := whole(d); wholeErr != nil {
				return wholeErr
			} else if !ok || err != nil && d == r.list {
				h.Losses = append(h.Losses, Loss{Owner: r.label, Digest: d})
			}
		}
		if r.build != nil && bad[r.build.Record] {
			h.Losses = append(h.Losses, Loss{Owner: r.label, Digest: r.build.Record})
		}
		absent, err := leftOut(ctx, s, r, bad)
		if err != nil {
			return err
		}
		for _, e := range r.content {
			ok, err := whole(e.Digest)
			if err != nil {
				return err
			}
			if !ok && !absent[e.Digest] {
				h.Losses = append(h.Losses, Loss{Owner: r.label, Path: e.Path, Digest: e.Digest})
			}
		}
		return nil
	})
}

// leftOut lists the content of a feed's build that was never brought into the
// store, because the lane had it already.
func leftOut(ctx context.Context, s *store.Store, r *reference, bad map[digest.Digest]bool) (map[digest.Digest]bool, error) {
	if r.build == nil || !r.build.Partial {
		return nil, nil
	}
	var files []digest.Digest
	for _, e := range r.content {
		if !bad[e.Digest] {
			files = append(files, e.Digest)
		}
	}
	return s.Lacks(ctx, files)
}

// isWhole reports whether content can be put together from records that are there
// and not damaged.
func isWhole(ctx context.Context, s *store.Store, d digest.Digest, bad map[digest.Digest]bool) (bool, error) {
	pieces, err := s.Layout(ctx, d)
	var damage *store.DamageError
	switch {
	case errors.Is(err, store.ErrMissing), errors.Is(err, layout.Err), errors.As(err, &damage):
		return false, nil
	case err != nil:
		return false, err
	}
	for _, p := range pieces {
		if bad[p.Digest] {
			return false, nil
		}
	}
	return s.Complete(ctx, d)
}

// mend drops what is damaged from the index and puts the content in again from
// wherever it still is.
func (h *Health) mend(ctx context.Context, home *game.Home, s *store.Store, damaged []store.Damage, meter progress.Meter) error {
	wanted := make(map[digest.Digest]bool)
	var files []digest.Digest
	for _, l := range h.Losses {
		if !wanted[l.Digest] {
			wanted[l.Digest] = true
			files = append(files, l.Digest)
		}
	}
	if err := s.Forget(ctx, damaged, files); err != nil {
		return err
	}
	session := s.Begin()
	err := mendNotes(ctx, home, session, wanted)
	if err == nil {
		err = mendFromLanes(ctx, home, session, wanted, meter)
	}
	if err := errors.Join(err, session.Close()); err != nil {
		return err
	}
	for i := range h.Losses {
		ok, err := isWhole(ctx, s, h.Losses[i].Digest, nil)
		if err != nil {
			return err
		}
		h.Losses[i].Mended = ok
	}
	return nil
}

// mendNotes writes the descriptions of builds again: the state still has them.
func mendNotes(ctx context.Context, home *game.Home, session *store.Session, wanted map[digest.Digest]bool) error {
	builds, err := home.Recorded(ctx, "")
	if err != nil {
		return err
	}
	for _, b := range builds {
		if !wanted[b.Record] {
			continue
		}
		note, err := b.EncodeRecord()
		if err != nil {
			return err
		}
		if _, err := session.PutNote(ctx, note); err != nil {
			return err
		}
	}
	return nil
}

// mendFromLanes looks through every lane of every game.
func mendFromLanes(ctx context.Context, home *game.Home, session *store.Session, wanted map[digest.Digest]bool, meter progress.Meter) error {
	cache := scan.OpenCache(home.CacheFile())
	defer cache.Close()
	games, _, err := home.Games()
	if err != nil {
		return err
	}
	for _, g := range games {
		lanes, err := home.Lanes(ctx, g.Name)
		if err != nil {
			return err
		}
		for _, l := range lanes {
			root, err := os.OpenRoot(g.Folder(l))
			if err != nil {
				meter.Warn("lane " + l.Name + " of " + g.Display() + " cannot be searched: " + err.Error())
				continue
			}
			err = mendFrom(ctx, root, g, l.Name, cache, session, wanted, meter)
			root.Close()
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func mendFrom(ctx context.Context, root *os.Root, g *game.Game, lane string, cache *scan.Cache, session *store.Session, wanted map[digest.Digest]bool, meter progress.Meter) error {
	tree, err := scan.Walk(ctx, root, g.Rules())
	if err != nil {
		return err
	}
	if err := cache.Recall(ctx, state.CacheKey(g.Name, lane), tree); err != nil {
		return err
	}
	request := scan.Request{Sink: scan.Hash(), Task: "Searching " + g.Display(), Meter: meter, Now: time.Now}
	if err := tree.Read(ctx, root, request); err != nil {
		return err
	}
	request.Sink = session.Put
	request.Skip = func(e *scan.Entry) bool { return !wanted[e.Digest] }
	request.Task = "Mending from " + g.Display()
	if err := tree.Read(ctx, root, request); err != nil {
		return err
	}
	for _, list := range [][]byte{tree.Manifest().Encode(), tree.Attributes().Encode()} {
		if wanted[digest.Of(list)] {
			if _, _, err := session.Put(ctx, bytes.NewReader(list), nil); err != nil {
				return err
			}
		}
	}
	return nil
}
