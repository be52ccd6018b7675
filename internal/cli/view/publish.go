package view

import (
	"morvant/internal/publish"
)

// PublishedJSON is the document of publish.
type PublishedJSON struct {
	Schema  string   `json:"schema"`
	Folder  string   `json:"folder"`
	Feed    string   `json:"feed"`
	Key     string   `json:"key,omitempty"`
	Serial  int64    `json:"serial,omitempty"`
	Added   []string `json:"added"`
	Same    []string `json:"same"`
	Chunks  int      `json:"chunks"`
	Written int64    `json:"written_bytes"`
	Done    bool     `json:"done"`
	Mended  []string `json:"mended,omitempty"`        // builds whose content was damaged, and is packed anew
	Broken  []string `json:"broken,omitempty"`        // builds whose content is damaged still
	Damaged int      `json:"damaged_packs,omitempty"` // put aside
	Older   []string `json:"older,omitempty"`         // signed files that were older than the last ones given out
	// Builds are what others would see, of a dry run.
	Builds []seenJSON `json:"builds,omitempty"`
}

// seenJSON is what others will see of a build.
type seenJSON struct {
	Build string   `json:"build"`
	Note  string   `json:"note,omitempty"`
	Files []string `json:"files"`
}

// ToSeen lists what would be published, for the document.
func ToSeen(r *publish.Request) []seenJSON {
	var list []seenJSON
	for _, b := range r.Builds {
		seen := seenJSON{Build: b.Channel + "/" + b.Label, Note: b.Note, Files: []string{}}
		for _, part := range SortedKeys(b.Parts) {
			for _, f := range b.Parts[part].Manifest.Files {
				seen.Files = append(seen.Files, f.Path)
			}
		}
		list = append(list, seen)
	}
	return list
}
