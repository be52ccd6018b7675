package game

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"morvant/internal/manifest"
)

// Pin is what a lane is held to. The zero value holds it to nothing.
type Pin struct {
	Build string `json:"build,omitempty"` // UID of the build
	// Components of the build that the lane has, sorted; none for a snapshot.
	Components []string `json:"components,omitempty"`
	Clean      bool     `json:"clean,omitempty"` // extra files count as drift
	Exact      bool     `json:"exact,omitempty"` // so do the player's own
	Open       bool     `json:"open,omitempty"`  // not blocked: updates are not kept away
	// Companions are small files that the build needs beside it.
	Companions []Companion `json:"companions,omitempty"`
	Since      time.Time   `json:"since,omitzero"`
	// First is the number of the change that began the hold; taking back that
	// one and all later ones leads to the folder from before.
	First string `json:"first,omitempty"`
}

// Held reports whether the pin holds the lane to anything.
func (p Pin) Held() bool { return p.Build != "" }

// Companion is a small file that a build needs beside it, written by the pin.
type Companion struct {
	Path string `json:"path" toml:"path"` // relative to the lane, /-separated
	Text string `json:"text" toml:"text"`
}

// ErrCompanion is returned for a companion that a lane cannot have.
var ErrCompanion = errors.New("not a companion that a lane can have")

// maxCompanion bounds the text of a companion, in bytes.
const maxCompanion = 64 << 10

// Check returns an error if no lane can have the companion.
func (c Companion) Check() error {
	if err := manifest.CheckPath(c.Path); err != nil {
		return fmt.Errorf("%w: %w", ErrCompanion, err)
	}
	if c.Path == manifest.PrivateDir || strings.HasPrefix(c.Path, manifest.PrivateDir+"/") {
		return fmt.Errorf("%w: %s is Morvant's own", ErrCompanion, c.Path)
	}
	if len(c.Text) > maxCompanion {
		return fmt.Errorf("%w: the text of %s is longer than %d KB", ErrCompanion, c.Path, maxCompanion>>10)
	}
	return nil
}
