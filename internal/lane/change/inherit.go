package change

import (
	"fmt"
	"slices"
	"strings"

	"morvant/internal/problem"
	"morvant/internal/state"
)

// ErrWithout is returned for something that a pin is to be without, and does not have.
var ErrWithout = problem.New("the pin has nothing of that name to take off", "Name an overlay by its pattern, a companion or an edit by its file, a keep rule or what is left out by its pattern")

// Kinds of what a pin has beside its build, by which all of a kind are taken off.
const (
	AllOverlays   = "overlays"
	AllCompanions = "companions"
	AllEdits      = "edits"
	AllKeep       = "keep"
	AllLeaveOut   = "leave-out"
	AllLinks      = "links" // that lead out of the folder
	AllMods       = "mods"
)

// Everything takes off all that a pin has beside its build.
var Everything = []string{AllMods, AllOverlays, AllCompanions, AllEdits, AllKeep, AllLeaveOut}

// inherit returns what a new pin has beside its build: what the one before has, less what is taken
// off, and what is added. off are the edits that end, lifted the sets of mods; linked says what is a
// link of the one before.
func inherit(before, add state.Pin, without []string, linked func(path string) bool) (out state.Pin, off []state.Edit, lifted []state.Overlay, err error) {
	used := make(map[string]bool)
	// gone reports whether something that has these names is taken off.
	gone := func(names ...string) bool {
		found := false
		for _, w := range without {
			if slices.Contains(names, w) {
				used[w], found = true, true
			}
		}
		return found
	}
	out = add
	out.Overlays = nil
	for _, o := range before.Overlays {
		_, label, _ := strings.Cut(o.Name, "/")
		if o.Mod {
			switch again := slices.ContainsFunc(add.Overlays, func(n state.Overlay) bool { return n.Mod && n.Name == o.Name }); {
			case gone(AllMods, o.Name, label):
				lifted = append(lifted, o)
			case !again: // one that is laid again comes last
				out.Overlays = append(out.Overlays, o)
			}
			continue
		}
		if gone(AllOverlays, o.Pattern, o.Name, label, o.Name+":"+o.Pattern, label+":"+o.Pattern) {
			continue
		}
		if !slices.ContainsFunc(add.Overlays, func(n state.Overlay) bool { return !n.Mod && n.Pattern == o.Pattern }) {
			out.Overlays = append(out.Overlays, o)
		}
	}
	for _, n := range add.Overlays {
		for _, o := range before.Overlays {
			if n.Mod && o.Mod && o.Name == n.Name {
				n.Covered = o.Covered
			}
		}
		out.Overlays = append(out.Overlays, n)
	}
	out.Companions = nil
	for _, k := range before.Companions {
		if !gone(AllCompanions, k.Path) && !slices.ContainsFunc(add.Companions, func(n state.Companion) bool { return n.Path == k.Path }) {
			out.Companions = append(out.Companions, k)
		}
	}
	out.Companions = append(out.Companions, add.Companions...)
	out.Edits = nil
	fresh := slices.Clone(add.Edits)
	for _, e := range before.Edits {
		i := slices.IndexFunc(fresh, func(n state.Edit) bool { return n.File == e.File && n.Find == e.Find })
		switch {
		case gone(AllEdits, e.File):
			off = append(off, e)
		case i >= 0:
			fresh[i].Was = e.Was // the same value, set to something else
		default:
			out.Edits = append(out.Edits, e)
		}
	}
	out.Edits = append(out.Edits, fresh...)
	out.Keep = patterns(before.Keep, add.Keep, func(p string) bool { return gone(AllKeep, p) })
	out.LeaveOut = patterns(before.LeaveOut, add.LeaveOut, func(p string) bool { return gone(AllLeaveOut, p) })
	for _, w := range without {
		if !used[w] && !slices.Contains(Everything, w) && w != AllLinks && !linked(w) {
			return out, nil, nil, fmt.Errorf("%w: \"%s\"", ErrWithout, w)
		}
	}
	return out, off, lifted, nil
}

func patterns(before, add []string, gone func(string) bool) []string {
	var list []string
	for _, p := range before {
		if !gone(p) && !slices.Contains(add, p) {
			list = append(list, p)
		}
	}
	return append(list, add...)
}
