package view

import (
	"time"
)

// EventJSON is the document of an event of watch.
type EventJSON struct {
	Schema  string      `json:"schema"`
	Time    time.Time   `json:"time"`
	Game    string      `json:"game"`
	Build   string      `json:"build,omitempty"`
	Drifted bool        `json:"drifted"`
	Files   int         `json:"files"`  // that differ
	Unread  int         `json:"unread"` // files that may differ: touched and not read since
	Update  *updateJSON `json:"update,omitempty"`
	Block   []BlockJSON `json:"block"`
	Message string      `json:"message"`
	Mended  bool        `json:"mended"`
}
