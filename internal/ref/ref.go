// Package ref reads how people name a build. In goes what was typed, out comes a Ref, which
// package resolve makes a build of. Nothing is looked up here.
//
//	1.1.1                label; a snapshot's wins over a feed's
//	preview/1.5          label in a channel; snapshot/1.1.1 of a snapshot
//	@2031-08-05          the newest build of that day or before, also in a channel
//	id:8801217           what its distributor calls it, also in a channel
//	=3fa9c1              beginning of the build's digest, also in a channel
//	newest  before       words, also in a channel
//	here                 the folder as it is now
//	lane/old             what another lane holds
package ref

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"morvant/internal/catalogue"
)

// Kind is in which way a build is named.
type Kind int

// The kinds.
const (
	Label  Kind = iota
	Day         // Ref.Day
	Digest      // Ref.Name is its beginning
	Newest
	Before // the one before what is pinned, else before the newest
	Here
	Lane // Ref.Name is the lane's
	ID   // Ref.Name is its distributor's
)

// Words lists the words that name a build in every game, and what each means.
var Words = [][2]string{
	{catalogue.Newest, "the newest build"}, {catalogue.Before, "the one before the held build"}, {catalogue.Here, "the folder as it is now"},
}

// ErrForm is returned for what can name no build.
var ErrForm = errors.New("this does not name a build")

// MinDigest is how many characters of a digest name a build.
const MinDigest = 6

// Ref names a build.
type Ref struct {
	Kind Kind
	Line string    // channel, or catalogue.SnapshotLine; empty if none is named
	Name string    // label, beginning of the digest, or lane
	Day  time.Time // its beginning, in the time of this computer

	text string
}

const idPrefix = "id:"

// Parse reads what was typed.
func Parse(text string) (Ref, error) {
	r := Ref{text: text, Name: text}
	if line, rest, _ := strings.Cut(text, "/"); line != text && line != "" && !strings.HasPrefix(text, idPrefix) {
		r.Line, r.Name = line, rest
	}
	switch {
	case r.Line == catalogue.LaneLine:
		r.Kind, r.Line = Lane, ""
	case r.Name == catalogue.Newest:
		r.Kind = Newest
	case r.Name == catalogue.Before:
		r.Kind = Before
	case text == catalogue.Here:
		r.Kind = Here
	case strings.HasPrefix(r.Name, idPrefix):
		if r.Kind, r.Name = ID, r.Name[len(idPrefix):]; r.Name == "" {
			return Ref{}, fmt.Errorf("%w: \"%s\": the id stands behind the colon", ErrForm, text)
		}
	case strings.HasPrefix(r.Name, "@"):
		day, err := time.ParseInLocation(time.DateOnly, r.Name[1:], time.Local)
		if err != nil {
			return Ref{}, fmt.Errorf("%w: \"%s\" is not a date; write it like @2031-08-05", ErrForm, r.Name)
		}
		r.Kind, r.Day = Day, day
	case strings.HasPrefix(r.Name, "="):
		if len(r.Name) <= MinDigest {
			return Ref{}, fmt.Errorf("%w: \"%s\": at least %d characters of the digest are needed", ErrForm, r.Name, MinDigest)
		}
		r.Kind, r.Name = Digest, r.Name[1:]
	}
	return r, nil
}

// OfDay returns what names the build of a day, in a channel if one is given.
func OfDay(channel, day string) (Ref, error) {
	text := "@" + strings.TrimPrefix(day, "@")
	if channel != "" {
		text = channel + "/" + text
	}
	return Parse(text)
}

// String returns what was typed.
func (r Ref) String() string { return r.text }

// Relative reports whether what it names depends on which builds there are, or on what is
// pinned.
func (r Ref) Relative() bool { return r.Kind == Day || r.Kind == Newest || r.Kind == Before }

// NeedsFresh reports whether a feed that has not been asked for a while may know better.
func (r Ref) NeedsFresh() bool { return r.Relative() && r.Line != catalogue.SnapshotLine }
