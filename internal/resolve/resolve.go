package resolve

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/names"
	"morvant/internal/ref"
	"morvant/internal/state"
)

// Found is a build that a name led to.
type Found struct {
	*state.Build
	// SameDay lists the other builds of the day that a date named.
	SameDay []*state.Build
	// Earlier and Later are the neighbours of those, if there are any.
	Earlier, Later *state.Build
	// Others have the same label and other content.
	Others []*state.Build
	// Of names the feed that decided, where several have a channel of that name.
	Of string
	// Early lists builds with dates that have not come yet. They were passed over.
	Early []*state.Build
	// Elsewhere lists what a date without a channel names in each of the other channels.
	Elsewhere []*state.Build
}

// TooEarlyError says that no build is as old as the day that was named.
type TooEarlyError struct {
	Ref    ref.Ref
	Oldest *state.Build // of those that were searched
}

func (e *TooEarlyError) Error() string {
	return fmt.Sprintf("no build is as old as %s: the oldest that is known, %s, is of %s", e.Ref, e.Oldest.Label, e.Oldest.Made.Local().Format(time.DateOnly))
}

func (e *TooEarlyError) Unwrap() error { return state.ErrUnknown }

// Build returns the build of a game that r names. A snapshot's label wins over a
// feed's; the words and signs mean what they mean, whatever a feed calls its builds.
func Build(ctx context.Context, h *game.Home, name string, r ref.Ref) (Found, error) {
	builds, err := h.Builds(ctx, name)
	if err != nil {
		return Found{}, err
	}
	line := r.Line
	inLine := func(line string) []*state.Build {
		return slices.DeleteFunc(slices.Clone(builds), func(b *state.Build) bool { return b.Line() != line })
	}
	if r.Relative() { // what is no build of itself has a name only, and so has an update as it came
		builds = slices.DeleteFunc(builds, func(b *state.Build) bool { return b.Fragment || b.IsUpdate() && line != state.UpdateLine })
	}
	candidates := builds
	if line != "" {
		candidates = inLine(line)
	}
	switch {
	case r.Kind == ref.Here || r.Kind == ref.Lane: // the lanes' matter
		return Found{}, &state.UnknownError{Kind: "build", Name: r.String()}
	case r.Kind == ref.Digest:
		return byDigest(r, candidates)
	case r.Kind == ref.ID:
		return byID(r, candidates)
	case !r.Relative():
		found, err := byLabel(r, candidates)
		if errors.Is(err, state.ErrUnknown) {
			if listed, listErr := byList(h, name, r, candidates); listed != nil || listErr != nil {
				return Found{Build: listed}, listErr
			}
			if of := byManifest(r.Name, candidates); len(of) > 0 {
				return oneOf(r, of)
			}
		}
		return found, err
	}
	lane, err := h.LaneName(ctx, name)
	if err != nil {
		return Found{}, err
	}
	pin, err := h.Pin(ctx, name, lane)
	if err != nil {
		return Found{}, err
	}
	var pinned *state.Build
	if line == "" {
		if pin.Held() {
			if pinned, err = h.RecordedBuild(ctx, name, pin.Build); err != nil && !errors.Is(err, state.ErrUnknown) {
				return Found{}, err
			}
		}
		if line, err = usualLine(h, name, pinned, r); err != nil {
			return Found{}, err
		}
		candidates = inLine(line)
	}
	candidates, of, err := ofOneFeed(h, name, line, candidates, pinned)
	if err != nil {
		return Found{}, err
	}
	candidates, early := come(candidates, time.Now())
	found, err := func() (Found, error) {
		switch {
		case r.Kind == ref.Before:
			return before(pin, candidates)
		case r.Kind == ref.Day:
			return byDate(r, candidates)
		case len(candidates) == 0:
			return Found{}, &state.UnknownError{Kind: "build", Name: r.String()}
		}
		return Found{Build: candidates[0]}, nil
	}()
	found.Of, found.Early = of, early
	if err == nil && r.Kind == ref.Day && r.Line == "" {
		found.Elsewhere = elsewhere(r, builds, found.Line())
	}
	return found, err
}

// elsewhere returns what a date names in every channel but one.
func elsewhere(r ref.Ref, builds []*state.Build, but string) []*state.Build {
	var list []*state.Build
	seen := map[string]bool{but: true, state.SnapshotLine: true}
	builds, _ = come(builds, time.Now())
	for _, b := range builds {
		if !seen[b.Line()] && b.Made.Before(r.Day.AddDate(0, 0, 1)) {
			seen[b.Line()] = true
			list = append(list, b)
		}
	}
	return list
}

// ofOneFeed returns those of the builds of a line that are one feed's: what newest, before
// and a date mean is not for another feed to change that has a channel of the same name. The
// feed is that of the pinned build, if it still offers that, else the first that has the
// channel; a build that no feed offers any more counts as long as it is no newer. of is empty
// where only one feed, or none, has such a channel.
func ofOneFeed(h *game.Home, name, line string, builds []*state.Build, pinned *state.Build) (list []*state.Build, of string, err error) {
	feeds, err := h.Feeds(name)
	if err != nil || line == state.SnapshotLine {
		return builds, "", err
	}
	offers := func(f *feed.Feed, b *state.Build) bool {
		return slices.ContainsFunc(b.Feeds, func(o *feed.Feed) bool { return o.Name == f.Name })
	}
	if pinned != nil {
		if i := slices.IndexFunc(feeds, func(f *feed.Feed) bool {
			return slices.ContainsFunc(builds, func(b *state.Build) bool { return b.Same(pinned) && offers(f, b) })
		}); i > 0 {
			feeds = slices.Concat(feeds[i:i+1], feeds[:i], feeds[i+1:])
		}
	}
	var first *feed.Feed
	others := false
	for _, f := range feeds {
		if !slices.ContainsFunc(builds, func(b *state.Build) bool { return offers(f, b) }) {
			continue
		}
		if first == nil {
			first = f
		} else {
			others = true
		}
	}
	if first == nil {
		return builds, "", nil
	}
	newest := builds[slices.IndexFunc(builds, func(b *state.Build) bool { return offers(first, b) })]
	for _, b := range builds {
		if offers(first, b) || len(b.Feeds) == 0 && !b.Made.After(newest.Made) {
			list = append(list, b)
		}
	}
	if others {
		of = first.Name
	}
	return list, of, nil
}

// skew is how far another computer's clock may be ahead.
const skew = 24 * time.Hour

// come tells builds of today and before from those whose date has not come yet, and so
// cannot be right. Where that would be all of them, it is the clock that is wrong.
func come(builds []*state.Build, now time.Time) (list, early []*state.Build) {
	for _, b := range builds {
		if b.Made.After(now.Add(skew)) {
			early = append(early, b)
		} else {
			list = append(list, b)
		}
	}
	if len(list) == 0 {
		return early, nil
	}
	return list, early
}

// usualLine returns the line that a date, newest and before are about when no channel is
// named: the first feed's first channel, or the channel that is pinned; snapshots where
// there is no feed. What is before a pinned snapshot is another snapshot.
func usualLine(h *game.Home, name string, pinned *state.Build, r ref.Ref) (string, error) {
	if pinned != nil && !pinned.IsUpdate() && (pinned.Channel != "" || r.Kind == ref.Before) {
		return pinned.Line(), nil
	}
	feeds, err := h.Feeds(name)
	if err != nil {
		return "", err
	}
	for _, f := range feeds {
		channels, err := f.Channels()
		if err != nil {
			h.Tell(game.BrokenFeed(f, err))
			continue
		}
		for _, c := range channels {
			if len(c.Builds) > 0 {
				return c.Channel, nil
			}
		}
	}
	return state.SnapshotLine, nil
}

// byLabel finds the build with a label: the snapshot if there is one, else a
// feed's. Feeds that disagree must be told apart.
func byLabel(r ref.Ref, builds []*state.Build) (Found, error) {
	var fits []*state.Build
	for _, b := range builds {
		// A build that a list has named is still found by its date.
		if b.Label == r.Name || b.ID != "" && slices.Contains(b.Also, r.Name) {
			fits = append(fits, b)
		}
	}
	if len(fits) == 0 {
		labels := make([]string, len(builds))
		for i, b := range builds {
			labels[i] = b.Label
		}
		slices.Sort(labels)
		return Found{}, &state.UnknownError{Kind: "build", Name: r.String(), Near: state.Nearest(r.Name, slices.Compact(labels))}
	}
	if i := slices.IndexFunc(fits, (*state.Build).RecordedHere); i >= 0 {
		return Found{Build: fits[i], Others: slices.Delete(slices.Clone(fits), i, i+1)}, nil
	}
	first := fits[0]
	var names []string
	differ := false
	for _, b := range fits {
		names = append(names, fmt.Sprintf("%s (=%s)", b.Name(), b.Digest().Short()))
		differ = differ || b.Digest() != first.Digest()
	}
	if differ {
		return Found{}, &state.AmbiguousError{Name: r.Name, Labels: names}
	}
	return Found{Build: first}, nil
}

// NotHereError says that a list has a build of this label, which is not here.
type NotHereError struct {
	Label string
	Meant *names.Meant
}

func (e *NotHereError) Error() string {
	says := ""
	if when, ok := e.Meant.Entry.When(); ok {
		says = ", of " + when.Format(time.DateOnly)
	}
	if e.Meant.Entry.Note != "" {
		says += ": " + e.Meant.Entry.Note
	}
	return fmt.Sprintf("%s is not here; the list %s has it%s", e.Label, e.Meant.List, says)
}

func (e *NotHereError) Unwrap() error { return state.ErrUnknown }

// byList finds the build to which lists give a label; nil if no list has it.
func byList(h *game.Home, name string, r ref.Ref, builds []*state.Build) (*state.Build, error) {
	lists, err := game.Lists(h, name)
	if err != nil {
		return nil, err
	}
	var missing *names.Meant
	var fits []*state.Build
	for _, m := range names.Match(lists, builds) {
		switch {
		case m.Entry.Label != r.Name:
		case len(m.Builds) == 0:
			missing = m
		default:
			fits = append(fits, m.Builds...)
		}
	}
	switch {
	case len(fits) == 0 && missing == nil:
		return nil, nil
	case len(fits) == 0:
		return nil, &NotHereError{r.Name, missing}
	case slices.ContainsFunc(fits, func(b *state.Build) bool { return b.Digest() != fits[0].Digest() }):
		var labels []string
		for _, b := range fits {
			labels = append(labels, fmt.Sprintf("%s (=%s)", b.Name(), b.Digest().Short()))
		}
		return nil, &state.AmbiguousError{Name: r.Name, Labels: labels}
	}
	return fits[0], nil
}

// before finds the build before the pinned one, else before the newest.
func before(pin state.Pin, builds []*state.Build) (Found, error) {
	at := 0
	if i := slices.IndexFunc(builds, func(b *state.Build) bool { return b.Is(pin) }); i >= 0 {
		at = i
	}
	if at+1 >= len(builds) {
		return Found{}, &state.UnknownError{Kind: "build", Name: catalogue.Before}
	}
	return Found{Build: builds[at+1]}, nil
}

func byDate(r ref.Ref, builds []*state.Build) (Found, error) {
	day := r.Day
	end := day.AddDate(0, 0, 1)
	var found Found
	for _, b := range builds {
		switch {
		case !b.Made.Before(end):
			found.Later = b
		case found.Build == nil:
			found.Build = b
		case !b.Made.Before(day) || sameDay(b.Made, found.Made):
			found.SameDay = append(found.SameDay, b)
		case found.Earlier == nil:
			found.Earlier = b
		}
	}
	switch {
	case found.Build != nil:
		return found, nil
	case found.Later != nil:
		return Found{}, &TooEarlyError{Ref: r, Oldest: found.Later}
	}
	return Found{}, &state.UnknownError{Kind: "build", Name: r.String()}
}

func sameDay(a, b time.Time) bool {
	return a.Local().Format(time.DateOnly) == b.Local().Format(time.DateOnly)
}

// byID finds the build that its distributor calls so.
func byID(r ref.Ref, builds []*state.Build) (Found, error) {
	return oneOf(r, slices.DeleteFunc(slices.Clone(builds), func(b *state.Build) bool { return b.ID != r.Name }))
}

// byManifest lists the builds with the manifest that their distributor gives this number: written guides name builds by it.
func byManifest(number string, builds []*state.Build) []*state.Build {
	return slices.DeleteFunc(slices.Clone(builds), func(b *state.Build) bool { return !b.HasManifest(number) })
}

// oneOf is what builds come to if all have the same content.
func oneOf(r ref.Ref, fits []*state.Build) (Found, error) {
	if len(fits) == 0 {
		return Found{}, &state.UnknownError{Kind: "build", Name: r.String()}
	}
	for _, b := range fits[1:] {
		if b.Digest() != fits[0].Digest() {
			return Found{}, &state.AmbiguousError{Name: r.String(), Labels: []string{fits[0].Name(), b.Name()}}
		}
	}
	return Found{Build: fits[0]}, nil
}

func byDigest(r ref.Ref, builds []*state.Build) (Found, error) {
	var fits []*state.Build
	for _, b := range builds {
		if strings.HasPrefix(b.Digest().String(), r.Name) {
			fits = append(fits, b)
		}
	}
	if len(fits) == 0 {
		return Found{}, &state.UnknownError{Kind: "build", Name: r.String()}
	}
	// Builds of one digest are the same content: any of them will do.
	for _, b := range fits[1:] {
		if b.Digest() != fits[0].Digest() {
			labels := make([]string, len(fits))
			for i, b := range fits {
				labels[i] = b.Label
			}
			return Found{}, &state.AmbiguousError{Name: r.String(), Labels: labels}
		}
	}
	return Found{Build: fits[0]}, nil
}
