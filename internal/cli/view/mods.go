package view

import (
	"time"

	"morvant/internal/state"
)

// ModsJSON is a set of mods in documents.
type ModsJSON struct {
	Name   string        `json:"name"`
	Files  int           `json:"files"`
	Bytes  int64         `json:"bytes"`
	Date   time.Time     `json:"date"`
	Note   string        `json:"note,omitempty"`
	Fits   []string      `json:"fits,omitempty"` // labels of builds
	Laid   []string      `json:"laid_in"`        // lanes
	Digest string        `json:"digest"`
	List   []ModFileJSON `json:"list,omitempty"` // of show
}

// ModFileJSON is a file of a set.
type ModFileJSON struct {
	Path   string `json:"path"`
	Bytes  int64  `json:"bytes"`
	Digest string `json:"digest"`
}

// ToModsJSON makes it.
func ToModsJSON(b *state.Build, in []string) ModsJSON {
	return ModsJSON{Name: b.Label, Files: b.Files, Bytes: b.Bytes, Date: b.Made, Note: b.Note, Fits: b.Fits, Laid: append([]string{}, in...), Digest: b.Digest().String()}
}
