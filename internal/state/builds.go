package state

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"morvant/internal/alias"
	"morvant/internal/catalogue"
	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/manifest"
	"morvant/internal/memo"
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
	// ID is the name that a distributor has for the build, if an adapter has told it.
	ID string `json:"id,omitempty"`
	// Withdrawn says that its distributor lists it, and does not give it out any more.
	Withdrawn bool `json:"-"`
	// Components of a feed's build, all of them, sorted by name.
	Components []catalogue.Part `json:"components,omitempty"`
	// Chosen names the components that Manifest is composed of, once recorded.
	Chosen []string `json:"chosen,omitempty"`
	// Doubt says what spoke against a snapshot's being a whole build when it was recorded;
	// empty: nothing, or it has been seen whole since.
	Doubt string `json:"doubt,omitempty"`
	// Fragment says that it is files of a folder that were recorded to be laid over a build, or had
	// to be put aside, and no build itself: it is never the answer to which build something is.
	Fragment bool `json:"fragment,omitempty"`
	// Fits are the labels of builds that a set of mods is for; none: nobody has said.
	Fits []string `json:"fits,omitempty"`
	// Record is the note in the store from which the build can be found again.
	Record digest.Digest `json:"-"`
	// Partial says that not all of its content was brought into the store: files
	// that were in the lane already were left there.
	Partial bool `json:"-"`
	// Feeds offer the build; empty if it is not offered now.
	Feeds []*feed.Feed `json:"-"`
	// Known tells which content is meant by digests of distributors.
	Known *alias.Table `json:"-"`
	// Own is the player's own note.
	Own string `json:"-"`
	// Also are labels that lists give it.
	Also []string `json:"-"`
}

// SnapshotLine stands where a channel would be named, for snapshots.
const SnapshotLine = catalogue.SnapshotLine

// ImportedLine is the channel of builds that were imported in components.
const ImportedLine = "imported"

// UpdateLine is the channel of updates that came while a lane was held at something else, recorded as they came.
const UpdateLine = "update"

// ModsLine is the channel of sets of mods, which are no builds.
const ModsLine = "mods"

// RecordedHere reports whether the build was recorded here: it is a snapshot, was imported, or is a set of mods.
func (b *Build) RecordedHere() bool {
	return b.Channel == "" || b.Channel == ImportedLine || b.IsMods() || b.IsUpdate()
}

// IsUpdate reports whether it is an update as it came. A feed may have a channel of that name; its builds are none.
func (b *Build) IsUpdate() bool { return b.Channel == UpdateLine && b.Components == nil }

// Unread reports whether its distributor has not been asked yet what it holds.
func (b *Build) Unread() bool {
	return len(b.Feeds) > 0 && slices.ContainsFunc(b.Components, func(p catalogue.Part) bool {
		return p.ID != "" && p.Refused == "" && p.Established == catalogue.Established{}
	})
}

// HasManifest reports whether a component of the build has the manifest that its distributor gives this number.
func (b *Build) HasManifest(number string) bool {
	return number != "" && slices.ContainsFunc(b.Components, func(p catalogue.Part) bool { return p.ID == number })
}

// Established counts the build's files, of the components chosen or of all, by how it was established what they are. All
// zero: that was not recorded.
func (b *Build) Established() catalogue.Established {
	if b.RecordedHere() {
		return catalogue.Established{Recorded: b.Files}
	}
	var sum catalogue.Established
	for _, p := range b.Components {
		if len(b.Chosen) == 0 || slices.Contains(b.Chosen, p.Name) {
			sum = sum.Plus(p.Established)
		}
	}
	return sum
}

// IsMods reports whether it is a set of mods. A feed may have a channel of that name; its builds are none.
func (b *Build) IsMods() bool { return b.Channel == ModsLine && b.Fragment }

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

// Same reports whether the two are one build, whatever components were chosen.
func (b *Build) Same(o *Build) bool { return b.code() == o.code() && b.Key() == o.Key() }

// code is what tells a build from others of its line: its label, or what a distributor has instead, which stays when
// a list names the build.
func (b *Build) code() string {
	switch {
	case b.ID != "":
		return "id:" + b.ID
	case slices.ContainsFunc(b.Components, func(p catalogue.Part) bool { return p.ID != "" }):
		return "id:" // put together from manifests that the distributor lists no more
	}
	return b.Label
}

// Nameless reports whether the build has no label but one made of its date.
func (b *Build) Nameless() bool {
	return b.ID != "" && catalogue.OfDate(b.Label, b.Made)
}

// uidOf names a feed's build with some of its components: the same on every
// computer and from every feed.
func (b *Build) uidOf(chosen []string) string {
	return "feed-" + digest.Of(fmt.Appendf(nil, "%s/%s %s %s", b.Channel, b.code(), b.Digest(), strings.Join(chosen, " "))).String()[:26]
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
	m, err := read(ctx, s, b.Manifest, manifest.DecodeRecorded)
	if err != nil {
		return nil, fmt.Errorf("the manifest of %s: %w", b.Label, err)
	}
	return b.Known.Manifest(m.Clone()), nil
}

// ReadAttributes reads the times and modes of a recorded build.
func (b *Build) ReadAttributes(ctx context.Context, s *store.Store) (*manifest.Attributes, error) {
	a, err := read(ctx, s, b.Attributes, manifest.DecodeAttributes)
	if err != nil {
		return nil, fmt.Errorf("the times and modes of %s: %w", b.Label, err)
	}
	return a.Clone(), nil
}

// read decodes content that describes a build, once.
func read[T any](ctx context.Context, s *store.Store, of digest.Digest, decode func([]byte) (T, error)) (T, error) {
	return memo.Of(&s.Memo, of, func() (T, error) {
		raw, err := s.Bytes(ctx, of, manifest.MaxEncoded)
		if err != nil {
			var none T
			return none, err
		}
		return decode(raw)
	})
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
		return nil, fmt.Errorf("a note of format \"%s\": %w", r.Format, ErrUnknown)
	}
	if err := errors.Join(CheckName(r.Game), catalogue.CheckLabel(r.Label)); err != nil {
		return nil, err
	}
	r.Record = digest.Of(note)
	r.Partial = !r.RecordedHere() || r.IsUpdate()
	return &r.Build, nil
}

// AddBuild remembers a build. Adding a feed's build again updates it.
func (st *State) AddBuild(ctx context.Context, b *Build) error {
	if b.Channel == "" {
		var taken int
		if err := st.DB.QueryRowContext(ctx, `SELECT count(*) FROM build WHERE game = ? AND label = ? AND channel = ''`, b.Game, b.Label).Scan(&taken); err != nil {
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
	_, err = st.DB.ExecContext(ctx, `INSERT INTO build (uid, game, label, note, made, manifest, attributes, files, bytes, record, channel, components, chosen, partial, doubt, fragment, fits, distributor_id)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (game, uid) DO UPDATE SET note = excluded.note, partial = min(partial, excluded.partial), attributes = excluded.attributes, record = excluded.record, manifest = excluded.manifest, files = excluded.files, bytes = excluded.bytes`,
		b.UID, b.Game, b.Label, b.Note, b.Made.UnixNano(), b.Manifest[:], b.Attributes[:], b.Files, b.Bytes, b.Record[:],
		b.Channel, string(components), string(chosen), b.Partial, b.Doubt, b.Fragment, strings.Join(b.Fits, "\n"), b.ID)
	return err
}

// Recorded lists the builds of a game that are recorded here, the newest first;
// of all games if name is empty.
func (st *State) Recorded(ctx context.Context, name string) ([]*Build, error) {
	return st.builds(ctx, `game = ?1 OR ?1 = ''`, name)
}

// builds lists the recorded builds for which a condition holds, the newest first.
func (st *State) builds(ctx context.Context, where string, args ...any) ([]*Build, error) {
	rows, err := st.DB.QueryContext(ctx, `SELECT uid, game, label, note, made, manifest, attributes, files, bytes, record, channel, components, chosen, partial, doubt, fragment, fits, distributor_id
		FROM build WHERE `+where+` ORDER BY made DESC, id DESC`, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []*Build
	for rows.Next() {
		b := &Build{Known: st.Aliases}
		var made int64
		var m, a, r []byte
		var components, chosen, fits string
		err := rows.Scan(&b.UID, &b.Game, &b.Label, &b.Note, &made, &m, &a, &b.Files, &b.Bytes, &r, &b.Channel, &components, &chosen, &b.Partial, &b.Doubt, &b.Fragment, &fits, &b.ID)
		if err != nil {
			return nil, err
		}
		b.Made = time.Unix(0, made)
		if fits != "" {
			b.Fits = strings.Split(fits, "\n")
		}
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

// NewestFirst orders builds for people.
func NewestFirst(a, b *Build) int { return b.Made.Compare(a.Made) }

// AddNotes fills in the player's own notes.
func (st *State) AddNotes(ctx context.Context, name string, list []*Build) error {
	rows, err := st.DB.QueryContext(ctx, `SELECT build, note FROM own_note WHERE game = ?`, name)
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
			b.Own = notes[b.Key()]
		}
	}
	return rows.Err()
}

// Key tells builds apart, whatever components were chosen of them.
func (b *Build) Key() string { return b.Line() + "/" + b.code() + " " + b.Digest().String() }

// Trust forgets what spoke against a build's being whole.
func (st *State) Trust(ctx context.Context, b *Build) error {
	b.Doubt = ""
	_, err := st.DB.ExecContext(ctx, `UPDATE build SET doubt = '' WHERE game = ? AND uid = ?`, b.Game, b.UID)
	return err
}

// SetNote sets the player's own note on a build; an empty one takes it away.
func (st *State) SetNote(ctx context.Context, b *Build, note string) error {
	if err := catalogue.CheckText(note); err != nil {
		return err
	}
	if note == "" {
		_, err := st.DB.ExecContext(ctx, `DELETE FROM own_note WHERE game = ? AND build = ?`, b.Game, b.Key())
		return err
	}
	_, err := st.DB.ExecContext(ctx, `INSERT OR REPLACE INTO own_note (game, build, note) VALUES (?, ?, ?)`, b.Game, b.Key(), note)
	return err
}

// RecordedBuild returns a build of a game by its UID.
func (st *State) RecordedBuild(ctx context.Context, name, uid string) (*Build, error) {
	list, err := st.builds(ctx, `game = ? AND uid = ?`, name, uid)
	if err != nil {
		return nil, err
	}
	if len(list) == 1 {
		return list[0], nil
	}
	return nil, fmt.Errorf("the build that %s is held to is %w any more", name, ErrUnknown)
}

// RenameBuild gives records of a build another label; each has its new description already.
func (st *State) RenameBuild(ctx context.Context, old, renamed *Build) error {
	tx, err := st.DB.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, `UPDATE build SET label = ?, record = ? WHERE game = ? AND uid = ?`, renamed.Label, renamed.Record[:], old.Game, old.UID); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE OR REPLACE own_note SET build = ? WHERE game = ? AND build = ?`, renamed.Key(), old.Game, old.Key()); err != nil {
		return err
	}
	return tx.Commit()
}

// ForgetBuild forgets a build; its content stays in the store until it is trimmed.
func (st *State) ForgetBuild(ctx context.Context, b *Build) error {
	_, err := st.DB.ExecContext(ctx, `DELETE FROM build WHERE game = ? AND uid = ?`, b.Game, b.UID)
	return err
}

// Is reports whether the pin holds a lane to this build, with whatever components.
func (b *Build) Is(pin Pin) bool {
	if !pin.Held() {
		return false
	}
	return b.UID == pin.Build || b.Components != nil && b.uidOf(pin.Components) == pin.Build
}
