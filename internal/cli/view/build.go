package view

import (
	"maps"
	"slices"
	"strings"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/names"
	"morvant/internal/state"
)

type partJSON struct {
	Component string `json:"component"`
	Manifest  string `json:"manifest"`
	Files     int    `json:"files"`
	Bytes     int64  `json:"bytes"`
	Download  int64  `json:"download_bytes"`
	ID        string `json:"id,omitempty"`        // its distributor's, of the manifest
	NotOwned  bool   `json:"not_owned,omitempty"` // the account does not have it
	Refused   string `json:"refused,omitempty"`   // why its distributor did not tell what it holds
	// Established counts its files by how it was established what they are.
	Established *EstablishedJSON `json:"established,omitempty"`
}

// EstablishedJSON counts files by how it was established what they are.
type EstablishedJSON struct {
	Signed    int `json:"signed"`    // a signed catalogue names them
	Strong    int `json:"strong"`    // by digests that name content wherever it comes from
	Weak      int `json:"weak"`      // by MD5 or SHA-1 alone
	Unchecked int `json:"unchecked"` // by nothing
	Recorded  int `json:"recorded"`  // recorded on this computer
}

// ToEstablished makes it; nil where it is not known.
func ToEstablished(e catalogue.Established) *EstablishedJSON {
	if e == (catalogue.Established{}) {
		return nil
	}
	j := EstablishedJSON(e)
	return &j
}

// Established says how it was established what files are.
func Established(e catalogue.Established) string {
	var list []string
	for _, of := range []struct {
		n    int
		what string
	}{{e.Signed, "signed"}, {e.Strong, "by a strong digest"}, {e.Weak, "by a weak digest (MD5 or SHA-1)"}, {e.Unchecked, "unchecked"}, {e.Recorded, "recorded here"}} {
		if of.n > 0 {
			list = append(list, Count(of.n, "file")+" "+of.what)
		}
	}
	return strings.Join(list, ", ")
}

// EstablishedWord is that in a word or two: what holds for all files, or what the worst rest on, and how many.
func EstablishedWord(e catalogue.Established) string {
	all := e.Signed + e.Strong + e.Weak + e.Unchecked + e.Recorded
	for _, of := range []struct {
		n    int
		what string
	}{{e.Unchecked, "unchecked"}, {e.Weak, "weak"}, {e.Strong, "strong"}, {e.Signed, "signed"}, {e.Recorded, "recorded"}} {
		switch {
		case of.n == all && all > 0:
			return of.what
		case of.n > 0:
			return Comma(of.n) + " " + of.what
		}
	}
	return ""
}

// BuildJSON is a build in documents.
type BuildJSON struct {
	Label    string    `json:"label"`
	Channel  string    `json:"channel"` // "snapshot" for what was recorded here
	Date     time.Time `json:"date"`
	Digest   string    `json:"digest"`
	Content  string    `json:"content,omitempty"` // digest of the manifest of its files, where that is known
	Files    int       `json:"files"`
	Bytes    int64     `json:"bytes"`
	Note     string    `json:"note,omitempty"`
	OwnNote  string    `json:"own_note,omitempty"`
	Also     []string  `json:"also,omitempty"`     // labels that lists give it
	Doubt    string    `json:"doubt,omitempty"`    // what spoke against its being whole when it was recorded
	Fragment bool      `json:"fragment,omitempty"` // files for an overlay, no build itself
	Held     bool      `json:"held"`
	Pinned   bool      `json:"pinned"`       // the same, by its old name
	ID       string    `json:"id,omitempty"` // its distributor's
	// Of a feed's build.
	Feeds      []string   `json:"feeds,omitempty"`
	Components []partJSON `json:"components,omitempty"`
	Download   int64      `json:"download_bytes,omitempty"`
	Here       *int64     `json:"here_bytes,omitempty"`    // of the components that the lane has
	HereOf     *int64     `json:"here_of_bytes,omitempty"` // all of these
	// Established counts its files by how it was established what they are.
	Established *EstablishedJSON `json:"established,omitempty"`
	Withdrawn   bool             `json:"withdrawn,omitempty"` // its distributor does not give it out any more
	Unread      bool             `json:"unread,omitempty"`    // its distributor has not been asked yet what it holds
}

// Named is a build's label, and what has to be said with it.
func Named(b *state.Build) string {
	if b.Doubt != "" {
		return b.Label + " (possibly incomplete)"
	}
	return b.Label
}

// ToBuildJSON makes it; pin tells whether it is held.
func ToBuildJSON(b *state.Build, pin state.Pin) BuildJSON {
	j := BuildJSON{
		Label: b.Label, ID: b.ID, Channel: b.Line(), Date: b.Made, Digest: b.Digest().String(), Files: b.Files, Bytes: b.Bytes,
		Note: b.Note, OwnNote: b.Own, Also: b.Also, Doubt: b.Doubt, Fragment: b.Fragment, Held: b.Is(pin), Pinned: b.Is(pin), Download: Download(b), Established: ToEstablished(b.Established()),
		Withdrawn: b.Withdrawn, Unread: b.Unread(),
	}
	if !b.Manifest.IsZero() {
		j.Content = b.Manifest.String()
	}
	for _, f := range b.Feeds {
		j.Feeds = append(j.Feeds, f.Name)
	}
	for _, p := range b.Components {
		j.Components = append(j.Components, partJSON{p.Name, p.Manifest.String(), p.Files, p.Bytes, p.Download, p.ID, p.NotOwned, p.Refused, ToEstablished(p.Established)})
	}
	return j
}

// EntryJSON is an entry of a list of names.
type EntryJSON struct {
	Label      string            `json:"label"`
	List       string            `json:"list"`
	Note       string            `json:"note,omitempty"`
	Date       *time.Time        `json:"date,omitempty"`
	ID         string            `json:"id,omitempty"`
	Digest     string            `json:"digest,omitempty"`
	Components map[string]string `json:"components,omitempty"` // manifest by name
	Builds     []string          `json:"builds"`               // that it leads to
}

// ToEntry makes it.
func ToEntry(m *names.Meant) EntryJSON {
	j := EntryJSON{Label: m.Entry.Label, List: m.List, Note: m.Entry.Note, ID: m.Entry.ID, Digest: m.Entry.Digest, Components: m.Entry.Components, Builds: []string{}}
	if when, ok := m.Entry.When(); ok {
		j.Date = &when
	}
	for _, b := range m.Builds {
		j.Builds = append(j.Builds, b.Name())
	}
	return j
}

// Listed says what a list says of a build.
func Listed(m *names.Meant) string {
	e := m.Entry
	text := Strong(e.Label)
	if when, ok := e.When(); ok {
		text += " of " + when.Format(time.DateOnly)
	}
	for _, name := range slices.Sorted(maps.Keys(e.Components)) {
		text += ", " + name + " " + e.Components[name]
	}
	if e.ID != "" {
		text += ", id " + e.ID
	}
	text += " (list " + m.List + ")"
	if e.Note != "" {
		text += ": " + e.Note
	}
	return text
}

// Download returns the bytes of all components of a feed's build, as they come
// over the line.
func Download(b *state.Build) int64 {
	var n int64
	for _, p := range b.Components {
		n += p.Download
	}
	return n
}
