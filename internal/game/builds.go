package game

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/manifest"
	"morvant/internal/ref"
	"morvant/internal/store"
)

// Build is a state of a game's files that can be gone to: a snapshot, or a build
// that a feed offers. Both are listed together; a feed's build is recorded, with
// the components that were chosen, once a lane has had to do with it.
type Build struct {
	UID        string        `json:"uid"` // empty: offered, and not recorded
	Game       string        `json:"game"`
	Label      string        `json:"label"`
	Note       string        `json:"note"`
	Made       time.Time     `json:"made"` // of a feed's build: when it was released
	Manifest   digest.Digest `json:"manifest"`
	Attributes digest.Digest `json:"attributes"`
	Files      int           `json:"files"`
	Bytes      int64         `json:"bytes"`
	// Channel of a feed's build; empty for a snapshot.
	Channel string `json:"channel,omitempty"`
	// Components of a feed's build, all of them, sorted by name.
	Components []catalogue.Part `json:"components,omitempty"`
	// Chosen names the components that Manifest is composed of, once recorded.
	Chosen []string `json:"chosen,omitempty"`
	// Record is the note in the store from which the build can be found again.
	Record digest.Digest `json:"-"`
	// Partial says that not all of its content was brought into the store: files
	// that were in the lane already were left there.
	Partial bool `json:"-"`
	// Feeds offer the build; empty if it is not offered now.
	Feeds []*feed.Feed `json:"-"`
	// Own is the player's own note.
	Own string `json:"-"`
}

// SnapshotLine stands where a channel would be named, for snapshots.
const SnapshotLine = catalogue.SnapshotLine

// Line returns the channel of the build, or SnapshotLine.
func (b *Build) Line() string {
	if b.Channel == "" {
		return SnapshotLine
	}
	return b.Channel
}

// Name returns the build with its channel, as it can be written for a build.
func (b *Build) Name() string { return b.Line() + "/" + b.Label }

// wholeFolder is the name of a snapshot's only component.
const wholeFolder = "folder"

// Digest returns the digest of the build: that of the sorted list of its
// components, a line each, name, space, manifest digest.
func (b *Build) Digest() digest.Digest {
	if b.Components == nil {
		return digest.Of(fmt.Appendf(nil, "%s %s\n", wholeFolder, b.Manifest))
	}
	var lines []byte
	for _, p := range b.Components {
		lines = fmt.Appendf(lines, "%s %s\n", p.Name, p.Manifest)
	}
	return digest.Of(lines)
}

// Parts returns the components with these names.
func (b *Build) Parts(names []string) []catalogue.Part {
	var parts []catalogue.Part
	for _, p := range b.Components {
		if slices.Contains(names, p.Name) {
			parts = append(parts, p)
		}
	}
	return parts
}

// ComponentNames lists the build's components.
func (b *Build) ComponentNames() []string {
	var names []string
	for _, p := range b.Components {
		names = append(names, p.Name)
	}
	return names
}

// same reports whether the two are one build, whatever components were chosen.
func (b *Build) same(o *Build) bool { return b.Label == o.Label && b.key() == o.key() }

// uidOf names a feed's build with some of its components: the same on every
// computer and from every feed.
func (b *Build) uidOf(chosen []string) string {
	return "feed-" + digest.Of(fmt.Appendf(nil, "%s/%s %s %s", b.Channel, b.Label, b.Digest(), strings.Join(chosen, " "))).String()[:26]
}

// With returns the build as it is recorded with these components chosen; its
// manifest is the caller's to set.
func (b *Build) With(chosen []string) *Build {
	c := *b
	c.Chosen = slices.Sorted(slices.Values(chosen))
	c.UID = b.uidOf(c.Chosen)
	return &c
}

// ReadManifest reads the manifest of a recorded build.
func (b *Build) ReadManifest(ctx context.Context, s *store.Store) (*manifest.Manifest, error) {
	raw, err := s.Bytes(ctx, b.Manifest, manifest.MaxEncoded)
	var m *manifest.Manifest
	if err == nil {
		m, err = manifest.DecodeRecorded(raw)
	}
	if err != nil {
		return nil, fmt.Errorf("the manifest of %s: %w", b.Label, err)
	}
	return m, nil
}

// ReadAttributes reads the times and modes of a recorded build.
func (b *Build) ReadAttributes(ctx context.Context, s *store.Store) (*manifest.Attributes, error) {
	raw, err := s.Bytes(ctx, b.Attributes, manifest.MaxEncoded)
	var a *manifest.Attributes
	if err == nil {
		a, err = manifest.DecodeAttributes(raw)
	}
	if err != nil {
		return nil, fmt.Errorf("the times and modes of %s: %w", b.Label, err)
	}
	return a, nil
}

// recordFormat starts the note that describes a build in the store.
const recordFormat = "morvant-build/1"

type buildRecord struct {
	Format string `json:"format"`
	Build
}

// EncodeRecord returns the note that describes b in the store.
func (b *Build) EncodeRecord() ([]byte, error) {
	return json.Marshal(buildRecord{recordFormat, *b})
}

// DecodeRecord reads what EncodeRecord wrote.
func DecodeRecord(note []byte) (*Build, error) {
	var r buildRecord
	if err := json.Unmarshal(note, &r); err != nil {
		return nil, err
	}
	if r.Format != recordFormat {
		return nil, fmt.Errorf("a note of format %q: %w", r.Format, ErrUnknown)
	}
	if err := errors.Join(CheckName(r.Game), catalogue.CheckLabel(r.Label)); err != nil {
		return nil, err
	}
	r.Record = digest.Of(note)
	r.Partial = r.Channel != ""
	return &r.Build, nil
}

// AddBuild remembers a build. Adding a feed's build again updates it.
func (h *Home) AddBuild(ctx context.Context, b *Build) error {
	if b.Channel == "" {
		var taken int
		if err := h.db.QueryRowContext(ctx, `SELECT count(*) FROM build WHERE game = ? AND label = ? AND channel = ''`, b.Game, b.Label).Scan(&taken); err != nil {
			return err
		}
		if taken > 0 {
			return fmt.Errorf("a snapshot labelled %s is %w", b.Label, ErrExists)
		}
	}
	components, err := json.Marshal(b.Components)
	if err != nil {
		return err
	}
	chosen, err := json.Marshal(b.Chosen)
	if err != nil {
		return err
	}
	// The same build of the same feed may belong to several games here.
	_, err = h.db.ExecContext(ctx, `INSERT INTO build (uid, game, label, note, made, manifest, attributes, files, bytes, record, channel, components, chosen, partial)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (game, uid) DO UPDATE SET note = excluded.note, partial = min(partial, excluded.partial), attributes = excluded.attributes, record = excluded.record`,
		b.UID, b.Game, b.Label, b.Note, b.Made.UnixNano(), b.Manifest[:], b.Attributes[:], b.Files, b.Bytes, b.Record[:],
		b.Channel, string(components), string(chosen), b.Partial)
	return err
}

// Recorded lists the builds of a game that are recorded here, the newest first;
// of all games if name is empty.
func (h *Home) Recorded(ctx context.Context, name string) ([]*Build, error) {
	rows, err := h.db.QueryContext(ctx, `SELECT b.uid, b.game, b.label, b.note, b.made, b.manifest, b.attributes, b.files, b.bytes, b.record,
		b.channel, b.components, b.chosen, b.partial FROM build b WHERE b.game = ? OR ? = '' ORDER BY b.made DESC, b.id DESC`, name, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []*Build
	for rows.Next() {
		b := &Build{}
		var made int64
		var m, a, r []byte
		var components, chosen string
		err := rows.Scan(&b.UID, &b.Game, &b.Label, &b.Note, &made, &m, &a, &b.Files, &b.Bytes, &r, &b.Channel, &components, &chosen, &b.Partial)
		if err != nil {
			return nil, err
		}
		b.Made = time.Unix(0, made)
		for into, from := range map[*digest.Digest][]byte{&b.Manifest: m, &b.Attributes: a, &b.Record: r} {
			if *into, err = digest.FromBytes(from); err != nil {
				return nil, fmt.Errorf("%w: build %s: %v", database.ErrDamaged, b.Label, err)
			}
		}
		if err := errors.Join(json.Unmarshal([]byte(components), &b.Components), json.Unmarshal([]byte(chosen), &b.Chosen)); err != nil {
			return nil, fmt.Errorf("%w: build %s: %v", database.ErrDamaged, b.Label, err)
		}
		list = append(list, b)
	}
	return list, rows.Err()
}

// Feeds lists the feeds of a game, in the order in which they were added.
func (h *Home) Feeds(name string) ([]*feed.Feed, error) { return feed.List(h.FeedsDir(name)) }

// Offered lists what the feeds of a game offer, as far as their catalogues are
// here, the newest first. A build that several feeds offer is listed once.
func (h *Home) Offered(name string) ([]*Build, error) {
	feeds, err := h.Feeds(name)
	if err != nil {
		return nil, err
	}
	var list []*Build
	known := make(map[string]*Build)
	for _, f := range feeds {
		channels, err := f.Channels()
		if err != nil {
			h.Tell(BrokenFeed(f, err))
			continue
		}
		for _, c := range channels {
			for _, offer := range c.Builds {
				b := &Build{Game: name, Label: offer.Label, Note: offer.Note, Made: offer.Date, Channel: c.Channel, Components: offer.Components, Feeds: []*feed.Feed{f}}
				key := b.key()
				if have := known[key]; have != nil {
					have.Feeds = append(have.Feeds, f)
					continue
				}
				known[key] = b
				for _, p := range b.Components {
					b.Files += p.Files
					b.Bytes += p.Bytes
				}
				list = append(list, b)
			}
		}
	}
	slices.SortStableFunc(list, newestFirst)
	return list, nil
}

// BrokenFeed says that the copy of a feed cannot be read, and what helps.
func BrokenFeed(f *feed.Feed, err error) string {
	if f.Broken != nil {
		return fmt.Sprintf("the feed %s is left out: its subscription cannot be read (%v); remove it and add it again", f.Name, err)
	}
	return fmt.Sprintf("the feed %s is left out: its copy cannot be read (%v); morvant feed refresh mends it", f.Name, err)
}

// FindOffers fills in which feeds offer a recorded build now.
func (h *Home) FindOffers(b *Build) error {
	if b.Components == nil {
		return nil
	}
	offered, err := h.Offered(b.Game)
	if err != nil {
		return err
	}
	if i := slices.IndexFunc(offered, b.same); i >= 0 {
		b.Feeds = offered[i].Feeds
	}
	return nil
}

func newestFirst(a, b *Build) int { return b.Made.Compare(a.Made) }

// Builds lists everything known of a game's builds, the newest first: what feeds
// offer, snapshots, and recorded builds that no feed offers any more.
func (h *Home) Builds(ctx context.Context, name string) ([]*Build, error) {
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
		listed[b.key()] = true
	}
	for _, b := range recorded {
		key := b.key()
		if b.Channel == "" || !listed[key] {
			listed[key] = true
			list = append(list, b)
		}
	}
	slices.SortStableFunc(list, newestFirst)
	return list, h.addNotes(ctx, name, list)
}

func (h *Home) addNotes(ctx context.Context, name string, list []*Build) error {
	rows, err := h.db.QueryContext(ctx, `SELECT build, note FROM own_note WHERE game = ?`, name)
	if err != nil {
		return err
	}
	defer rows.Close()
	notes := make(map[string]string)
	for rows.Next() {
		var build, note string
		if err := rows.Scan(&build, &note); err != nil {
			return err
		}
		notes[build] = note
	}
	if len(notes) > 0 {
		for _, b := range list {
			b.Own = notes[b.key()]
		}
	}
	return rows.Err()
}

// key tells builds apart, whatever components were chosen of them.
func (b *Build) key() string { return b.Name() + " " + b.Digest().String() }

// SetNote sets the player's own note on a build; an empty one takes it away.
func (h *Home) SetNote(ctx context.Context, b *Build, note string) error {
	if err := catalogue.CheckText(note); err != nil {
		return err
	}
	if note == "" {
		_, err := h.db.ExecContext(ctx, `DELETE FROM own_note WHERE game = ? AND build = ?`, b.Game, b.key())
		return err
	}
	_, err := h.db.ExecContext(ctx, `INSERT OR REPLACE INTO own_note (game, build, note) VALUES (?, ?, ?)`, b.Game, b.key(), note)
	return err
}

// RecordedBuild returns a build of a game by its UID.
func (h *Home) RecordedBuild(ctx context.Context, name, uid string) (*Build, error) {
	list, err := h.Recorded(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, b := range list {
		if b.UID == uid {
			return b, nil
		}
	}
	return nil, fmt.Errorf("the build that %s is held to is %w any more", name, ErrUnknown)
}

// HeldWhole returns the record of a feed's build whose content is all in the
// store, that with the most components; nil if there is none.
func (h *Home) HeldWhole(ctx context.Context, b *Build) (*Build, error) {
	list, err := h.Recorded(ctx, b.Game)
	if err != nil {
		return nil, err
	}
	var best *Build
	for _, r := range list {
		if r.same(b) && !r.Partial && (best == nil || len(r.Chosen) > len(best.Chosen)) {
			best = r
		}
	}
	if best == nil {
		return nil, nil
	}
	return best, h.FindOffers(best)
}

// ForgetBuild forgets a build; its content stays in the store until it is trimmed.
func (h *Home) ForgetBuild(ctx context.Context, b *Build) error {
	_, err := h.db.ExecContext(ctx, `DELETE FROM build WHERE game = ? AND uid = ?`, b.Game, b.UID)
	return err
}

// Found is a build that a name led to.
type Found struct {
	*Build
	// SameDay lists the other builds of the day that a date named.
	SameDay []*Build
	// Earlier and Later are the neighbours of those, if there are any.
	Earlier, Later *Build
	// Others have the same label and other content.
	Others []*Build
	// Of names the feed that decided, where several have a channel of that name.
	Of string
	// Early lists builds with dates that have not come yet. They were passed over.
	Early []*Build
}

// FindBuild returns the build of a game that r names. A snapshot's label wins over a
// feed's; the words and signs mean what they mean, whatever a feed calls its builds.
func (h *Home) FindBuild(ctx context.Context, name string, r ref.Ref) (Found, error) {
	builds, err := h.Builds(ctx, name)
	if err != nil {
		return Found{}, err
	}
	line := r.Line
	inLine := func(line string) []*Build {
		return slices.DeleteFunc(slices.Clone(builds), func(b *Build) bool { return b.Line() != line })
	}
	candidates := builds
	if line != "" {
		candidates = inLine(line)
	}
	switch {
	case r.Kind == ref.Here || r.Kind == ref.Lane: // the lanes' matter
		return Found{}, &UnknownError{Kind: "build", Name: r.String()}
	case r.Kind == ref.Digest:
		return byDigest(r, candidates)
	case !r.Relative():
		return byLabel(r, candidates)
	}
	lane, err := h.LaneName(ctx, name)
	if err != nil {
		return Found{}, err
	}
	pin, err := h.Pin(ctx, name, lane)
	if err != nil {
		return Found{}, err
	}
	var pinned *Build
	if line == "" {
		if pin.Held() {
			if pinned, err = h.RecordedBuild(ctx, name, pin.Build); err != nil && !errors.Is(err, ErrUnknown) {
				return Found{}, err
			}
		}
		if line, err = h.usualLine(name, pinned, r); err != nil {
			return Found{}, err
		}
		candidates = inLine(line)
	}
	candidates, of, err := h.ofOneFeed(name, line, candidates, pinned)
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
			return Found{}, &UnknownError{Kind: "build", Name: r.String()}
		}
		return Found{Build: candidates[0]}, nil
	}()
	found.Of, found.Early = of, early
	return found, err
}

// ofOneFeed returns those of the builds of a line that are one feed's: what newest, before
// and a date mean is not for another feed to change that has a channel of the same name. The
// feed is that of the pinned build, if it still offers that, else the first that has the
// channel; a build that no feed offers any more counts as long as it is no newer. of is empty
// where only one feed, or none, has such a channel.
func (h *Home) ofOneFeed(name, line string, builds []*Build, pinned *Build) (list []*Build, of string, err error) {
	feeds, err := h.Feeds(name)
	if err != nil || line == SnapshotLine {
		return builds, "", err
	}
	offers := func(f *feed.Feed, b *Build) bool {
		return slices.ContainsFunc(b.Feeds, func(o *feed.Feed) bool { return o.Name == f.Name })
	}
	if pinned != nil {
		if i := slices.IndexFunc(feeds, func(f *feed.Feed) bool {
			return slices.ContainsFunc(builds, func(b *Build) bool { return b.same(pinned) && offers(f, b) })
		}); i > 0 {
			feeds = slices.Concat(feeds[i:i+1], feeds[:i], feeds[i+1:])
		}
	}
	var first *feed.Feed
	others := false
	for _, f := range feeds {
		if !slices.ContainsFunc(builds, func(b *Build) bool { return offers(f, b) }) {
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
	newest := builds[slices.IndexFunc(builds, func(b *Build) bool { return offers(first, b) })]
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
func come(builds []*Build, now time.Time) (list, early []*Build) {
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
func (h *Home) usualLine(name string, pinned *Build, r ref.Ref) (string, error) {
	if pinned != nil && (pinned.Channel != "" || r.Kind == ref.Before) {
		return pinned.Line(), nil
	}
	feeds, err := h.Feeds(name)
	if err != nil {
		return "", err
	}
	for _, f := range feeds {
		channels, err := f.Channels()
		if err != nil {
			h.Tell(BrokenFeed(f, err))
			continue
		}
		for _, c := range channels {
			if len(c.Builds) > 0 {
				return c.Channel, nil
			}
		}
	}
	return SnapshotLine, nil
}

// byLabel finds the build with a label: the snapshot if there is one, else a
// feed's. Feeds that disagree must be told apart.
func byLabel(r ref.Ref, builds []*Build) (Found, error) {
	var fits []*Build
	for _, b := range builds {
		if b.Label == r.Name {
			fits = append(fits, b)
		}
	}
	if len(fits) == 0 {
		labels := make([]string, len(builds))
		for i, b := range builds {
			labels[i] = b.Label
		}
		slices.Sort(labels)
		return Found{}, &UnknownError{Kind: "build", Name: r.String(), Near: nearest(r.Name, slices.Compact(labels))}
	}
	if i := slices.IndexFunc(fits, func(b *Build) bool { return b.Channel == "" }); i >= 0 {
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
		return Found{}, &AmbiguousError{Name: r.Name, Labels: names}
	}
	return Found{Build: first}, nil
}

// before finds the build before the pinned one, else before the newest.
func before(pin Pin, builds []*Build) (Found, error) {
	at := 0
	if i := slices.IndexFunc(builds, func(b *Build) bool { return b.Is(pin) }); i >= 0 {
		at = i
	}
	if at+1 >= len(builds) {
		return Found{}, &UnknownError{Kind: "build", Name: catalogue.Before}
	}
	return Found{Build: builds[at+1]}, nil
}

// Is reports whether the pin holds a lane to this build, with whatever components.
func (b *Build) Is(pin Pin) bool {
	if !pin.Held() {
		return false
	}
	return b.UID == pin.Build || b.Components != nil && b.uidOf(pin.Components) == pin.Build
}

func byDate(r ref.Ref, builds []*Build) (Found, error) {
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
	if found.Build == nil {
		return Found{}, &UnknownError{Kind: "build", Name: r.String()}
	}
	return found, nil
}

func sameDay(a, b time.Time) bool {
	return a.Local().Format(time.DateOnly) == b.Local().Format(time.DateOnly)
}

func byDigest(r ref.Ref, builds []*Build) (Found, error) {
	var fits []*Build
	for _, b := range builds {
		if strings.HasPrefix(b.Digest().String(), r.Name) {
			fits = append(fits, b)
		}
	}
	if len(fits) == 0 {
		return Found{}, &UnknownError{Kind: "build", Name: r.String()}
	}
	// Builds of one digest are the same content: any of them will do.
	for _, b := range fits[1:] {
		if b.Digest() != fits[0].Digest() {
			labels := make([]string, len(fits))
			for i, b := range fits {
				labels[i] = b.Label
			}
			return Found{}, &AmbiguousError{Name: r.String(), Labels: labels}
		}
	}
	return Found{Build: fits[0]}, nil
}
