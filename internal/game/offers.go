package game

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/feed"
	"morvant/internal/feed/listing"
	"morvant/internal/names"
	"morvant/internal/problem"
	"morvant/internal/state"
)

// Feeds lists the feeds of a game, in the order in which they were added.
func (h *Home) Feeds(name string) ([]*feed.Feed, error) {
	list, err := feed.List(h.FeedsDir(name))
	for _, f := range list {
		f.Known, f.Index, f.Programs = h.Aliases, h.Index, AdaptersDir(h)
	}
	return list, err
}

// Feed returns a feed of a game by its name; the only one if feedName is empty.
func Feed(h *Home, name, feedName string) (*feed.Feed, error) {
	f, err := feed.Find(h.FeedsDir(name), feedName)
	if err == nil {
		f.Known, f.Index, f.Programs = h.Aliases, h.Index, AdaptersDir(h)
	}
	return f, err
}

// AdaptersDir returns the folder of adapters that are called by name.
func AdaptersDir(h *Home) string { return filepath.Join(h.dir, "adapters") }

// Offered lists what the feeds of a game offer, as far as their catalogues are
// here, the newest first. A build that several feeds offer is listed once.
func (h *Home) Offered(name string) ([]*state.Build, error) {
	feeds, err := h.Feeds(name)
	if err != nil {
		return nil, err
	}
	var list []*state.Build
	known := make(map[string]*state.Build)
	for _, f := range feeds {
		channels, err := f.Channels()
		if err != nil {
			h.Tell(BrokenFeed(f, err))
			continue
		}
		for _, c := range channels {
			for _, offer := range c.Builds {
				b := &state.Build{Game: name, Label: offer.Label, Note: offer.Note, Made: offer.Date, Channel: c.Channel, ID: offer.ID, Withdrawn: offer.Withdrawn, Components: offer.Components, Feeds: []*feed.Feed{f}}
				key := b.Key()
				if have := known[key]; have != nil {
					have.Feeds = append(have.Feeds, f)
					continue
				}
				known[key] = b
				for i := range b.Components {
					p := &b.Components[i]
					b.Files += p.Files
					b.Bytes += p.Bytes
					switch e := p.Established; {
					case f.Adapter == "":
						p.Established = catalogue.Established{Signed: p.Files}
					case f.Distrusted > 0:
						p.Established = catalogue.Established{Strong: e.Strong, Unchecked: e.Weak + e.Unchecked}
					}
				}
				list = append(list, b)
			}
		}
	}
	lists, err := Lists(h, name)
	if err != nil {
		return nil, err
	}
	list = append(list, unlisted(name, feeds, lists, list)...)
	slices.SortStableFunc(list, state.NewestFirst)
	return list, nil
}

// RecordedBuild is that of the state, under the label that a list gives to a build without one.
func (h *Home) RecordedBuild(ctx context.Context, name, uid string) (*state.Build, error) {
	b, err := h.State.RecordedBuild(ctx, name, uid)
	if err != nil || !b.Nameless() {
		return b, err
	}
	lists, err := Lists(h, name)
	if err != nil {
		return nil, err
	}
	names.Give(lists, []*state.Build{b})
	return b, nil
}

// TellLeftOut says that a build is left out for want of its manifest. That a distributor has not told it yet is
// nothing to tell: it is asked for when it is needed.
func TellLeftOut(h *Home, b *state.Build, err error) {
	if !errors.Is(err, feed.ErrNotTold) {
		h.Tell(fmt.Sprintf("%s is left out: %v", b.Name(), err))
	}
}

// BrokenFeed says that the copy of a feed cannot be read, and what helps.
func BrokenFeed(f *feed.Feed, err error) string {
	if f.Broken != nil {
		return fmt.Sprintf("the feed %s is left out: %v; remove it and add it again", f.Name, f.Broken)
	}
	return fmt.Sprintf("the feed %s is left out: its copy cannot be read (%v); %s mends it", f.Name, err, problem.RefreshFeeds)
}

// FindOffers fills in which feeds offer a recorded build now.
func FindOffers(h *Home, b *state.Build) error {
	if b.Components == nil {
		return nil
	}
	offered, err := h.Offered(b.Game)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(offered, b.Same); i >= 0 {
		b.Feeds = offered[i].Feeds
		b.Components = offered[i].Components // the same, and how they were established
	}
	return nil
}

// Builds lists everything known of a game's builds, the newest first: what feeds
// offer, snapshots, and recorded builds that no feed offers any more.
func (h *Home) Builds(ctx context.Context, name string) ([]*state.Build, error) {
	list, err := h.Offered(name)
	if err != nil {
		return nil, err
	}
	recorded, err := h.Recorded(ctx, name)
	if err != nil {
		return nil, err
	}
	listed := make(map[string]bool, len(list))
	for _, b := range list {
		listed[b.Key()] = true
	}
	for _, b := range recorded {
		key := b.Key()
		if b.Channel == "" || !listed[key] {
			listed[key] = true
			list = append(list, b)
		}
	}
	lists, err := Lists(h, name)
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(list, state.NewestFirst)
	names.Give(lists, list)
	return list, h.AddNotes(ctx, name, list)
}

// unlisted makes builds of what lists say of manifests that the distributor of a feed does not list any more, and
// its adapter can still be asked for.
func unlisted(game string, feeds []*feed.Feed, lists []*names.List, known []*state.Build) []*state.Build {
	var list []*state.Build
	for _, m := range names.Match(lists, known) {
		if len(m.Builds) > 0 || len(m.Entry.Components) == 0 || m.Entry.ID != "" || m.Entry.Digest != "" {
			continue
		}
		for _, f := range feeds {
			if b := putTogether(game, f, m.Entry); b != nil && !slices.ContainsFunc(list, b.Same) {
				list = append(list, b)
				break
			}
		}
	}
	return list
}

// putTogether makes a build of the manifests that an entry names; nil if the feed has no such components.
func putTogether(game string, f *feed.Feed, e *names.Entry) *state.Build {
	if f.Adapter == "" || f.Broken != nil {
		return nil
	}
	d, err := f.Described()
	if err != nil || len(d.Channels) == 0 {
		return nil
	}
	b := &state.Build{Game: game, Label: e.Label, Note: e.Note, Channel: d.Channels[0].Name, Feeds: []*feed.Feed{f}}
	b.Made = time.Unix(0, 0)
	if when, ok := e.When(); ok {
		b.Made = when
	}
	for _, name := range slices.Sorted(maps.Keys(e.Components)) {
		if !slices.ContainsFunc(d.Components, func(c catalogue.Component) bool { return c.Name == name }) {
			return nil
		}
		p := catalogue.Part{Name: name, ID: e.Components[name], Manifest: listing.PartOf(d.Name, name, e.Components[name])}
		if t, err := f.Told(p.Manifest); err == nil {
			t.Fill(&p)
		}
		b.Files += p.Files
		b.Bytes += p.Bytes
		b.Components = append(b.Components, p)
	}
	return b
}

// Lists reads the label lists of a game. One that cannot be read is told, and left out.
func Lists(h *Home, name string) ([]*names.List, error) {
	lists, broken, err := names.Read(NamesDir(h, name))
	for _, list := range slices.Sorted(maps.Keys(broken)) {
		h.Tell(fmt.Sprintf("the list of names %s is left out: %v", list, broken[list]))
	}
	return lists, err
}

// HeldWhole returns the record of a feed's build whose content is all in the
// store, that with the most components; nil if there is none.
func (h *Home) HeldWhole(ctx context.Context, b *state.Build) (*state.Build, error) {
	list, err := h.Recorded(ctx, b.Game)
	if err != nil {
		return nil, err
	}
	var best *state.Build
	for _, r := range list {
		if r.Same(b) && !r.Partial && (best == nil || len(r.Chosen) > len(best.Chosen)) {
			best = r
		}
	}
	if best == nil {
		return nil, nil
	}
	return best, FindOffers(h, best)
}
