package publish

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/catalogue"
	"morvant/internal/manifest"
	"morvant/internal/rules"
	"morvant/internal/state"
	"morvant/internal/store"
)

// ErrLeftOver is returned for files that belong to no component.
var ErrLeftOver = errors.New("files that belong to no component")

// Rule says which files belong to a component. The first rule that fits decides;
// one without patterns takes what no other does.
type Rule struct {
	catalogue.Component
	Files []string // patterns
}

// CheckRules returns an error naming the first rule that cannot be used.
func CheckRules(list []Rule) error {
	rest := ""
	for _, r := range list {
		if err := errors.Join(catalogue.CheckName(r.Name), rules.Rules{Keep: r.Files}.Check()); err != nil {
			return fmt.Errorf("component %s: %w", r.Name, err)
		}
		if len(r.Files) > 0 {
			continue
		}
		if rest != "" {
			return fmt.Errorf("%w: both %s and %s have no patterns; one component can take the rest", catalogue.ErrName, rest, r.Name)
		}
		rest = r.Name
	}
	return nil
}

// PartsOf returns what a build has of each component: a feed's build in the
// components it came in, a snapshot divided by the rules. The player's own files
// (keep rules) and scratch files are never part of it.
func PartsOf(ctx context.Context, s *store.Store, b *state.Build, own rules.Rules, list []Rule) (map[string]*Part, error) {
	m, a, err := read(ctx, s, b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", b.Label, err)
	}
	if b.Components != nil {
		return rebuilt(ctx, s, b, m, a)
	}
	match := own.Matcher()
	m = m.Without(func(p string) bool { return match.Kept(p) || match.Scratch(p) })
	return divide(m, a, list)
}

// read reads the manifest of a recorded build, and the times and modes of its files.
func read(ctx context.Context, s *store.Store, b *state.Build) (*manifest.Manifest, *manifest.Attributes, error) {
	m, err := b.ReadManifest(ctx, s)
	if err != nil {
		return nil, nil, err
	}
	a, err := b.ReadAttributes(ctx, s)
	if err != nil {
		return nil, nil, err
	}
	return m, a, nil
}

// rebuilt divides a feed's build as it was divided there.
func rebuilt(ctx context.Context, s *store.Store, b *state.Build, m *manifest.Manifest, a *manifest.Attributes) (map[string]*Part, error) {
	parts := make(map[string]*Part)
	for _, c := range b.Parts(b.Chosen) {
		var own *manifest.Manifest
		for _, f := range b.Feeds {
			if found, err := f.Manifest(c.Manifest); err == nil {
				own = found
			}
		}
		switch {
		case own == nil && len(b.Chosen) == 1:
			own = m
		case own == nil:
			return nil, fmt.Errorf("nobody knows any more how %s is divided into components; publish a snapshot of it", b.Label)
		}
		parts[c.Name] = newPart(own, a)
	}
	return parts, nil
}

func newPart(m *manifest.Manifest, a *manifest.Attributes) *Part {
	p := &Part{Manifest: m}
	timed := false
	for _, f := range m.Files {
		at := a.Files[f.Path]
		if at.Mode&0o111 != 0 {
			p.Programs = append(p.Programs, f.Path)
		}
		p.Times = append(p.Times, at.MTime)
		timed = timed || !at.MTime.IsZero()
	}
	if !timed {
		p.Times = nil
	}
	return p
}

// divide divides a manifest by the rules. Components without files are left out.
func divide(m *manifest.Manifest, a *manifest.Attributes, list []Rule) (map[string]*Part, error) {
	if len(list) == 0 {
		list = []Rule{{Component: catalogue.Component{Name: "base", Required: true}}}
	}
	sets := make([]*rules.Set, len(list))
	rest := -1
	for i, r := range list {
		if sets[i] = rules.NewSet(r.Files); len(r.Files) == 0 {
			rest = i
		}
	}
	of := func(p string) int {
		if i := slices.IndexFunc(sets, func(s *rules.Set) bool { return s.Match(p) }); i >= 0 {
			return i
		}
		return rest
	}
	parts := make(map[string]*Part)
	for i, r := range list {
		own := m.Without(func(p string) bool { return of(p) != i })
		if len(own.Files)+len(own.Links) > 0 {
			parts[r.Name] = newPart(own, a)
		}
	}
	var left []string
	for _, f := range m.Files {
		if of(f.Path) < 0 {
			left = append(left, f.Path)
		}
	}
	if n := len(left); n > 0 {
		if n > 3 {
			left = append(left[:3], fmt.Sprintf("and %d more", n-3))
		}
		return nil, fmt.Errorf("%w: %s", ErrLeftOver, strings.Join(left, ", "))
	}
	return parts, nil
}
