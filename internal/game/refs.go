package game

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
)

var labelPattern = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N}._+-]{0,79}$`)

// Words that name a build in every game.
const (
	Newest = "newest" // the newest build
	Before = "before" // the one before what is pinned, else before the newest
	Here   = "here"   // the folder as it is now; resolved by the lane, not here
)

// CheckLabel returns an error unless label can name a snapshot.
func CheckLabel(label string) error {
	switch {
	case label == Newest || label == Before || label == Here:
		return fmt.Errorf("%w: %q means something else wherever a build is named", ErrName, label)
	case !labelPattern.MatchString(label):
		return fmt.Errorf("%w: %q: a label has letters, digits, dots, dashes, underscores and plus signs, at most 80, and starts with a letter or digit", ErrName, label)
	}
	return nil
}

// UnknownError says that there is nothing of this name, and what comes near it.
type UnknownError struct {
	Kind string // "game", "build"
	Name string
	Near []string
}

func (e *UnknownError) Error() string {
	if len(e.Near) == 0 {
		return fmt.Sprintf("there is no %s %q", e.Kind, e.Name)
	}
	return fmt.Sprintf("there is no %s %q; the nearest: %s", e.Kind, e.Name, strings.Join(e.Near, ", "))
}

func (e *UnknownError) Unwrap() error { return ErrUnknown }

// AmbiguousError says that a name fits several builds.
type AmbiguousError struct {
	Name   string
	Labels []string
}

func (e *AmbiguousError) Error() string {
	return fmt.Sprintf("%q fits several builds: %s", e.Name, strings.Join(e.Labels, ", "))
}

// Found is a build that a name led to.
type Found struct {
	*Build
	// SameDay lists the other builds of the day that a date named.
	SameDay []*Build
}

// FindBuild returns the build of a game that ref names: a label, "@2031-08-05",
// "=3fa9c1", "newest" or "before". A label wins over everything else.
func (h *Home) FindBuild(ctx context.Context, name, ref string) (Found, error) {
	builds, err := h.Builds(ctx, name)
	if err != nil {
		return Found{}, err
	}
	for _, b := range builds {
		if b.Label == ref {
			return Found{Build: b}, nil
		}
	}
	switch {
	case ref == Newest:
		if len(builds) == 0 {
			return Found{}, &UnknownError{Kind: "build", Name: ref}
		}
		return Found{Build: builds[0]}, nil
	case ref == Before:
		return h.before(ctx, name, builds)
	case strings.HasPrefix(ref, "@"):
		return byDate(ref, builds)
	case strings.HasPrefix(ref, "="):
		return byDigest(ref, builds)
	}
	labels := make([]string, len(builds))
	for i, b := range builds {
		labels[i] = b.Label
	}
	return Found{}, &UnknownError{Kind: "build", Name: ref, Near: nearest(ref, labels)}
}

// before finds the build before the pinned one, else before the newest. builds
// has the newest first.
func (h *Home) before(ctx context.Context, name string, builds []*Build) (Found, error) {
	pin, err := h.Pin(ctx, name, MainLane)
	if err != nil {
		return Found{}, err
	}
	at := 0
	if i := slices.IndexFunc(builds, func(b *Build) bool { return b.UID == pin.Build }); i >= 0 {
		at = i
	}
	if at+1 >= len(builds) {
		return Found{}, &UnknownError{Kind: "build", Name: Before}
	}
	return Found{Build: builds[at+1]}, nil
}

func byDate(ref string, builds []*Build) (Found, error) {
	day, err := time.ParseInLocation("2006-01-02", ref[1:], time.Local)
	if err != nil {
		return Found{}, fmt.Errorf("%w: %q is not a date; write it like @2031-08-05", ErrName, ref)
	}
	end := day.AddDate(0, 0, 1)
	var found Found
	for _, b := range builds {
		switch {
		case !b.Made.Before(end):
		case found.Build == nil:
			found.Build = b
		case !b.Made.Before(day) || sameDay(b.Made, found.Made):
			found.SameDay = append(found.SameDay, b)
		}
	}
	if found.Build == nil {
		return Found{}, &UnknownError{Kind: "build", Name: ref}
	}
	return found, nil
}

func sameDay(a, b time.Time) bool {
	return a.Format(time.DateOnly) == b.Format(time.DateOnly)
}

// minDigest is how many characters of a digest name a build.
const minDigest = 6

func byDigest(ref string, builds []*Build) (Found, error) {
	prefix := ref[1:]
	if len(prefix) < minDigest {
		return Found{}, fmt.Errorf("%w: %q: at least %d characters of the digest are needed", ErrName, ref, minDigest)
	}
	var fits []*Build
	for _, b := range builds {
		if strings.HasPrefix(b.Digest().String(), prefix) {
			fits = append(fits, b)
		}
	}
	if len(fits) == 0 {
		return Found{}, &UnknownError{Kind: "build", Name: ref}
	}
	// Builds of one digest are the same content: any of them will do.
	for _, b := range fits[1:] {
		if b.Digest() != fits[0].Digest() {
			labels := make([]string, len(fits))
			for i, b := range fits {
				labels[i] = b.Label
			}
			return Found{}, &AmbiguousError{Name: ref, Labels: labels}
		}
	}
	return Found{Build: fits[0]}, nil
}

// nearest returns up to three names that could have been meant.
func nearest(name string, names []string) []string {
	type scored struct {
		name     string
		distance int
	}
	var list []scored
	for _, n := range names {
		d := levenshtein.ComputeDistance(strings.ToLower(name), strings.ToLower(n))
		if strings.HasPrefix(n, name) {
			d = 0
		}
		list = append(list, scored{n, d})
	}
	slices.SortStableFunc(list, func(a, b scored) int { return cmp.Compare(a.distance, b.distance) })
	var near []string
	for _, s := range list[:min(3, len(list))] {
		near = append(near, s.name)
	}
	return near
}
