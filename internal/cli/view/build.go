package view

import (
	"time"

	"morvant/internal/state"
)

type partJSON struct {
	Component string `json:"component"`
	Manifest  string `json:"manifest"`
	Files     int    `json:"files"`
	Bytes     int64  `json:"bytes"`
	Download  int64  `json:"download_bytes"`
}

// BuildJSON is a build in documents.
type BuildJSON struct {
	Label    string    `json:"label"`
	Channel  string    `json:"channel"` // "snapshot" for what was recorded here
	Date     time.Time `json:"date"`
	Digest   string    `json:"digest"`
	Files    int       `json:"files"`
	Bytes    int64     `json:"bytes"`
	Note     string    `json:"note,omitempty"`
	OwnNote  string    `json:"own_note,omitempty"`
	Doubt    string    `json:"doubt,omitempty"`    // what spoke against its being whole when it was recorded
	Fragment bool      `json:"fragment,omitempty"` // files for an overlay, no build itself
	Held     bool      `json:"held"`
	Pinned   bool      `json:"pinned"` // the same, by its old name
	// Of a feed's build.
	Feeds      []string   `json:"feeds,omitempty"`
	Components []partJSON `json:"components,omitempty"`
	Download   int64      `json:"download_bytes,omitempty"`
	Here       *int64     `json:"here_bytes,omitempty"`    // of the components that the lane has
	HereOf     *int64     `json:"here_of_bytes,omitempty"` // all of these
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
		Label: b.Label, Channel: b.Line(), Date: b.Made, Digest: b.Digest().String(), Files: b.Files, Bytes: b.Bytes,
		Note: b.Note, OwnNote: b.Own, Doubt: b.Doubt, Fragment: b.Fragment, Held: b.Is(pin), Pinned: b.Is(pin), Download: Download(b),
	}
	for _, f := range b.Feeds {
		j.Feeds = append(j.Feeds, f.Name)
	}
	for _, p := range b.Components {
		j.Components = append(j.Components, partJSON{p.Name, p.Manifest.String(), p.Files, p.Bytes, p.Download})
	}
	return j
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
