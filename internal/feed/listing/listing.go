// Package listing makes catalogues of what distributors list by adapters: builds without labels are called by their dates, and what a
// distributor lists no more is known still.
package listing

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"morvant/internal/adapter"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
)

// PartOf returns what a manifest of a distributor is known by. The same manifest has the same content, whichever
// build it is of.
func PartOf(distributor, component, id string) digest.Digest {
	return digest.Of(fmt.Appendf(nil, "morvant adapter manifest\n%s\n%s\n%s", distributor, component, id))
}

// Channel makes a channel of Morvant's of what an adapter lists, and of what it has listed before: known, by their ids.
func Channel(known map[string]catalogue.Build, distributor, name string, builds []adapter.Build, components map[string]catalogue.Component, now time.Time) *catalogue.Channel {
	c := &catalogue.Channel{Format: catalogue.ChannelFormat, Feed: distributor, Channel: name, Serial: 1, Made: now, Expires: now.AddDate(100, 0, 0), Builds: []catalogue.Build{}}
	known = maps.Clone(known)
	labels := make(map[string]bool)
	var nameless []int
	for _, b := range slices.Backward(builds) { // most list the newest first
		out := catalogue.Build{ID: b.ID, Label: b.Label, Date: b.When(), Note: b.Note, Withdrawn: b.Withdrawn}
		was, seen := known[b.ID]
		delete(known, b.ID)
		if out.Date.IsZero() {
			if out.Date = now; seen {
				out.Date = was.Date
			}
		}
		if out.Label == "" && seen {
			out.Label = was.Label // once given, it stays
		}
		if labels[out.Label] {
			out.Label = ""
		}
		for _, p := range b.Components {
			out.Components = append(out.Components, catalogue.Part{
				Name: p.Name, ID: p.Manifest, Manifest: PartOf(distributor, p.Name, p.Manifest), NotOwned: !p.IsOwned(), Files: p.Files, Bytes: p.Bytes, Download: p.Download,
			})
			is := components[p.Name]
			components[p.Name] = catalogue.Component{Name: p.Name, Title: cmp.Or(is.Title, p.Title), Required: is.Required || p.Required}
		}
		slices.SortFunc(out.Components, func(x, y catalogue.Part) int { return strings.Compare(x.Name, y.Name) })
		if labels[out.Label] = true; out.Label == "" {
			nameless = append(nameless, len(c.Builds))
		}
		c.Builds = append(c.Builds, out)
	}
	for _, id := range slices.Sorted(maps.Keys(known)) {
		b := known[id]
		b.Unlisted = true
		if labels[b.Label] { // it is known by its id, and called by its date from now on
			nameless = append(nameless, len(c.Builds))
		}
		labels[b.Label] = true
		c.Builds = append(c.Builds, b)
	}
	slices.SortStableFunc(nameless, func(i, j int) int { return c.Builds[i].Date.Compare(c.Builds[j].Date) })
	for _, i := range nameless {
		b := &c.Builds[i]
		day := b.Date.UTC().Format(time.DateOnly)
		b.Label = day
		for n := 2; labels[b.Label]; n++ {
			b.Label = fmt.Sprintf("%s.%d", day, n)
		}
		labels[b.Label] = true
	}
	slices.SortStableFunc(c.Builds, func(a, b catalogue.Build) int {
		return cmp.Or(a.Date.Compare(b.Date), strings.Compare(a.ID, b.ID))
	})
	return c
}
