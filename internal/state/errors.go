package state

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"

	"morvant/internal/catalogue"
)

// Errors that callers test for.
var (
	ErrUnknown = errors.New("not known")
	ErrExists  = errors.New("already there")
	ErrName    = catalogue.ErrName
)

// Here names the folder as it is now, wherever a build is named.
const Here = catalogue.Here

// UnknownError says that there is nothing of this name, and what comes near it.
type UnknownError struct {
	Kind string // "game", "build"
	Name string
	Near []string
}

func (e *UnknownError) Error() string {
	if len(e.Near) == 0 {
		return fmt.Sprintf("there is no %s \"%s\"", e.Kind, e.Name)
	}
	return fmt.Sprintf("there is no %s \"%s\"; the nearest: %s", e.Kind, e.Name, strings.Join(e.Near, ", "))
}

func (e *UnknownError) Unwrap() error { return ErrUnknown }

// AmbiguousError says that a name fits several builds.
type AmbiguousError struct {
	Name   string
	Labels []string
}

func (e *AmbiguousError) Error() string {
	return fmt.Sprintf("\"%s\" fits several builds: %s", e.Name, strings.Join(e.Labels, ", "))
}

// Nearest returns up to three names that could have been meant: those that have at least a third of it.
func Nearest(name string, names []string) []string {
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
		if 3*d <= 2*len(name) || len(name) < 3 {
			list = append(list, scored{n, d})
		}
	}
	slices.SortStableFunc(list, func(a, b scored) int { return cmp.Compare(a.distance, b.distance) })
	var near []string
	for _, s := range list[:min(3, len(list))] {
		near = append(near, s.name)
	}
	return near
}

// CheckName returns an error unless name can be the name of a game.
func CheckName(name string) error {
	if catalogue.CheckName(name) != nil {
		return fmt.Errorf("%w: \"%s\": a game's name has lower-case letters, digits and dashes, at most 64", ErrName, name)
	}
	return nil
}
