package state

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"morvant/internal/digest"
	"morvant/internal/edit"
	"morvant/internal/layers"
	"morvant/internal/manifest"
	"morvant/internal/problem"
)

// Pin is what a lane is held to. The zero value holds it to nothing.
type Pin struct {
	Build string `json:"build,omitempty"` // UID of the build
	// Components of the build that the lane has, sorted; none for a snapshot.
	Components []string `json:"components,omitempty"`
	Clean      bool     `json:"clean,omitempty"` // extra files count as drift
	Exact      bool     `json:"exact,omitempty"` // so do the player's own
	Open       bool     `json:"open,omitempty"`  // not blocked: updates are not kept away
	// Follow says that the lane goes on with the updates of its launcher: what the pin has beside its
	// build is laid over each new one. Such a pin is Open.
	Follow bool `json:"follow,omitempty"`
	// Overlays are files of other builds, laid over the build in this order.
	Overlays []Overlay `json:"overlays,omitempty"`
	// Companions are small files that the build needs beside it.
	Companions []Companion `json:"companions,omitempty"`
	// Edits are values set in text files.
	Edits []Edit `json:"edits,omitempty"`
	// Keep are patterns of files that belong to the player, beside the game's keep
	// rules.
	Keep []string `json:"keep,omitempty"`
	// LeaveOut are patterns of files of the build that the lane is not to have.
	LeaveOut []string `json:"leave_out,omitempty"`
	// Links names the links that lead out of the folder and belong to it on this computer; see PlayerFiles.Links.
	Links digest.Digest `json:"links,omitzero"`
	// Covered names the manifest of files of the player's in whose place overlays, sets of mods and companions lie; zero: of
	// none. They come back once these are lifted.
	Covered digest.Digest `json:"covered,omitzero"`
	// CoveredTimes names their times and modes; zero: not known, of pins that earlier versions made.
	CoveredTimes digest.Digest `json:"covered_times,omitzero"`
	// From is the folder as it was when the hold began, but for the player's own files: to unpin leads there. Zero where an
	// update has been followed since: then it leads to that one.
	From Folder `json:"from,omitzero"`
	// Times names the times of last change that the player has set by hand; see PlayerFiles.Times.
	Times digest.Digest `json:"times,omitzero"`
	Since time.Time     `json:"since,omitzero"`
	// First is the number of the change that began the hold; taking back that
	// one and all later ones leads to the folder from before.
	First string `json:"first,omitempty"`
}

// Held reports whether the pin holds the lane to anything.
func (p Pin) Held() bool { return p.Build != "" }

// Lays reports whether files of a build are laid over the pin's.
func (p Pin) Lays(b *Build) bool {
	return slices.ContainsFunc(p.Overlays, func(o Overlay) bool { return o.Build == b.UID })
}

// Folder names what a folder held: its manifest, and its times and modes.
type Folder struct {
	Manifest   digest.Digest `json:"manifest"`
	Attributes digest.Digest `json:"attributes"`
}

// IsZero reports whether that is not known.
func (f Folder) IsZero() bool { return f == Folder{} }

// Build is the folder as a snapshot would be, to be read like one. It is in no list of builds.
func (f Folder) Build(game string) *Build {
	return &Build{Game: game, Label: "the folder before the hold", Manifest: f.Manifest, Attributes: f.Attributes}
}

// Same reports whether two pins hold a lane to the same in the same way.
func (p Pin) Same(o Pin) bool {
	p.Since, o.Since, p.First, o.First = time.Time{}, time.Time{}, "", ""
	a, errA := json.Marshal(p)
	b, errB := json.Marshal(o)
	return errA == nil && errB == nil && bytes.Equal(a, b)
}

// CoveredLists names the lists of files of the player's on which something of the pin lies.
func (p Pin) CoveredLists() []digest.Digest {
	list := []digest.Digest{p.Covered}
	for _, o := range p.Overlays {
		list = append(list, o.Covered)
	}
	return slices.DeleteFunc(list, func(d digest.Digest) bool { return d.IsZero() })
}

// Overlay is some files of another build.
type Overlay struct {
	Build      string        `json:"build"` // UID
	Name       string        `json:"name"`  // "public/1.2.0"
	Digest     digest.Digest `json:"digest"`
	Components []string      `json:"components,omitempty"`
	Pattern    string        `json:"pattern"`
	// Mod says that it is a set of mods, which lies over files under keep rules, too.
	Mod bool `json:"mod,omitempty"`
	// Named says that any overlay does: since it is named, it is wanted. Those of earlier versions yielded to keep rules.
	Named bool `json:"named,omitempty"`
	// Covered is what the pin's Covered is, as earlier versions noted it: with each set of mods.
	Covered digest.Digest `json:"covered,omitzero"`
}

// Edit is a value that a text file must have.
type Edit struct {
	File string `json:"file" toml:"file"` // relative to the lane, /-separated
	Find string `json:"find" toml:"find"` // RE2, line by line, captures the value
	Set  string `json:"set" toml:"set"`
	// Was is the value that the edit replaced, in a file that is the player's own: it comes back when
	// the edit is taken off. nil: the file is the build's, or was not there.
	Was *string `json:"was,omitempty" toml:"-"`
}

// ErrLeaveOut is returned for a pattern by which nothing of a build is left out.
var ErrLeaveOut = problem.New("there is nothing to leave out", "Check the pattern: it is matched with paths of the build's files, as in 'intro/**'")

// ErrEdit is returned for an edit that cannot be made.
var ErrEdit = layers.ErrEdit

// Check returns an error if the edit cannot be used.
func (e Edit) Check() error {
	if err := manifest.CheckPath(e.File); err != nil {
		return fmt.Errorf("%w: %w", ErrEdit, err)
	}
	if _, err := edit.Compile(e.Find); err != nil {
		return fmt.Errorf("%w: %s: %w", ErrEdit, e.File, err)
	}
	if strings.ContainsAny(e.Set, "\r\n\x00") || len(e.Set) > maxSet {
		return fmt.Errorf("%w: the value for %s must be a line of at most %d bytes", ErrEdit, e.File, maxSet)
	}
	return nil
}

// maxSet bounds the value of an edit, in bytes.
const maxSet = 4096

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
	if len(c.Text) > maxCompanion {
		return fmt.Errorf("%w: the text of %s is longer than %d KB", ErrCompanion, c.Path, maxCompanion>>10)
	}
	return nil
}
