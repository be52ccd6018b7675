package propose

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
// off, and what is added. linked says what is a link of the one before.
func inherit(before, add state.Pin, without []string, linked func(path string) bool) (state.Pin, error) {
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
	out := add
	out.Overlays = nil
	for _, o := range before.Overlays {
		_, label, _ := strings.Cut(o.Name, "/")
		names := []string{AllOverlays, o.Pattern, o.Name, label, o.Name + ":" + o.Pattern, label + ":" + o.Pattern}
		if o.Mod {
			names = []string{AllMods, o.Name, label}
		}
		again := func(n state.Overlay) bool {
			return n.Mod == o.Mod && (o.Mod && n.Name == o.Name || !o.Mod && n.Pattern == o.Pattern)
		}
		if !gone(names...) && !slices.ContainsFunc(add.Overlays, again) { // one that is laid again comes last
			out.Overlays = append(out.Overlays, o)
		}
	}
	out.Overlays = append(out.Overlays, add.Overlays...)
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
			return out, fmt.Errorf("%w: \"%s\"", ErrWithout, w)
		}
	}
	return out, nil
}

// beside lists what a pin has beside its build, each with what is said where the next pin has it no more.
func beside(pin state.Pin) (names []string, gone map[string]string) {
	gone = make(map[string]string)
	add := func(name, format string, args ...any) {
		names = append(names, name)
		gone[name] = fmt.Sprintf(format, args...)
	}
	for _, o := range pin.Overlays {
		if o.Mod {
			add("mods "+o.Name, "%s is lifted", o.Name)
			continue
		}
		add("overlay "+o.Pattern+" "+o.Name, "the overlay %s of %s is not part of the new pin", o.Pattern, o.Name)
	}
	for _, k := range pin.Companions {
		add("companion "+k.Path, "the companion %s is not part of the new pin", k.Path)
	}
	for _, k := range pin.Keep {
		add("keep "+k, "the keep rule %s is not part of the new pin", k)
	}
	for _, k := range pin.LeaveOut {
		add("out "+k, "%s is left out no more", k)
	}
	for _, e := range pin.Edits {
		add("edit "+e.File+" "+e.Find, "the edit of %s that sets \"%s\" is not part of the new pin", e.File, e.Set)
	}
	return names, gone
}

// dropped says what the pin before had beside its build that the next one has not.
func dropped(before, after state.Pin) []string {
	was, say := beside(before)
	is, _ := beside(after)
	var notes []string
	for _, name := range was {
		if !slices.Contains(is, name) {
			notes = append(notes, say[name])
		}
	}
	return notes
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
