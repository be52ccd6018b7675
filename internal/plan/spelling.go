package plan

import (
	"path"
	"slices"

	"morvant/internal/scan"
	"morvant/internal/volume"
)

// Spelling knows how a folder that ignores letter case spells its paths, so that what
// is about such a folder can be put in its own words. nil leaves everything as it is.
type Spelling struct {
	known map[string]string // a path by its fold
	// Doubles says that the folder can hold names apart that differ by case only.
	Doubles bool
	twice   map[string]bool // paths of which the folder has another one that differs by case only
}

// SpellingOf returns the spelling of a folder that holds s, and odd things besides.
func SpellingOf(s State, odd ...scan.Oddity) *Spelling {
	sp := &Spelling{known: make(map[string]string, len(s)+len(odd)), twice: make(map[string]bool)}
	add := func(p string) {
		fold := volume.Fold(p)
		if other, known := sp.known[fold]; known && other != p {
			sp.twice[p], sp.twice[other] = true, true
		}
		sp.known[fold] = p
	}
	for _, o := range odd {
		add(o.Path)
	}
	for _, e := range s {
		add(e.Path)
	}
	return sp
}

// Of returns p as the folder spells it; what it does not have is spelled as given,
// inside of folders as they are.
func (sp *Spelling) Of(p string) string {
	if sp == nil || sp.twice[p] {
		return p
	}
	folded := volume.Fold(p)
	if as, ok := sp.known[folded]; ok {
		return as
	}
	as := p
	if dir := path.Dir(p); dir != "." {
		as = sp.Of(dir) + "/" + path.Base(p)
	}
	sp.known[folded] = as
	return as
}

// State returns s in the folder's spelling. Of several entries that are one then, the first stays; with
// Doubles, the others keep the spelling that they have.
func (sp *Spelling) State(s State) State {
	if sp == nil {
		return s
	}
	out := slices.Clone(s)
	taken := make(map[string]bool)
	if sp.Doubles {
		for _, e := range out {
			taken[e.Path] = sp.Of(e.Path) == e.Path
		}
	}
	for i := range out {
		as := sp.Of(out[i].Path)
		if as == out[i].Path || sp.Doubles && taken[as] {
			continue
		}
		out[i].Path, taken[as] = as, true
	}
	slices.SortStableFunc(out, byPath)
	return slices.CompactFunc(out, func(a, b Entry) bool { return a.Path == b.Path })
}

// Paths returns the paths in the folder's spelling.
func (sp *Spelling) Paths(list []string) []string {
	if sp == nil {
		return list
	}
	out := make([]string, len(list))
	for i, p := range list {
		out[i] = sp.Of(p)
	}
	return out
}

// Steps returns the steps in the folder's spelling.
func (sp *Spelling) Steps(steps []Step) []Step {
	if sp == nil {
		return steps
	}
	out := slices.Clone(steps)
	for i := range out {
		s := &out[i]
		s.Path, s.From, s.Copy = sp.Of(s.Path), sp.maybe(s.From), sp.maybe(s.Copy)
	}
	return out
}

func (sp *Spelling) maybe(p string) string {
	if p == "" {
		return ""
	}
	return sp.Of(p)
}
