package status

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/feed/fetch"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// Side is one side of a comparison.
type Side struct {
	Label    string
	Manifest *manifest.Manifest
	Links    map[string]string // that lead out of the folder, and where each leads
	Choice   *compose.Choice   // of a feed's build
	composed *compose.Composed // nil: the folder as it is now
	mods     bool              // it is some mods, and nothing of a game
}

// BuildSide returns a build as a side of a comparison, of a feed's build the
// components asked for or, if none are, those that the lane has.
func BuildSide(ctx context.Context, l *lane.Lane, b *state.Build, asked []string) (*Side, error) {
	choice, err := compose.Choose(ctx, l, b, asked)
	if err != nil {
		return nil, err
	}
	c, err := compose.Of(ctx, l, b, choice.Names)
	if err != nil {
		return nil, err
	}
	return &Side{Label: b.Label, Manifest: c.Manifest, Links: c.Attributes.Links, Choice: choice, composed: c}, nil
}

// HereSide returns the folder as it is now as a side of a comparison.
func HereSide(ctx context.Context, l *lane.Lane) (*Side, error) {
	t, err := l.Look(ctx, 0)
	if err != nil {
		return nil, err
	}
	return &Side{Label: state.Here, Manifest: t.Manifest(), Links: plan.FromTree(t).Links()}, nil
}

// Difference is what changes from one side to another.
type Difference struct {
	From, To *Side
	Build    *manifest.Changes // the build's files
	Kept     *manifest.Changes // the player's own files
	// Mods are the player's own files by folder; nil: nobody can say, since a feed's build has none.
	Mods []*ModFolder
	// OnlyMods says that nothing else was compared: one side is a set of mods or a list of one.
	OnlyMods bool
}

// Compare lists what changes from a to b, the player's own files apart from the
// others. Scratch files do not count, nor does letter case where the folder ignores it:
// then a is spelled as b.
func Compare(l *lane.Lane, a, b *Side) *Difference {
	if l.IgnoresCase() {
		as := *a
		as.Manifest = plan.SpellingOf(plan.FromManifest(b.Manifest, nil)).State(plan.FromManifest(a.Manifest, nil)).Manifest()
		a = &as
	}
	// A feed's build says nothing about such links.
	was, is := a.Manifest, b.Manifest
	if !a.fromFeed() && !b.fromFeed() {
		was, is = a.withLinks(), b.withLinks()
	}
	if a.mods || b.mods {
		return compareMods(l, a, b, was, is)
	}
	match := l.Game.Rules().Matcher()
	scratch := func(p string) bool { return match.Scratch(p) }
	ours := func(p string) bool { return scratch(p) || match.Kept(p) }
	theirs := func(p string) bool { return scratch(p) || !match.Kept(p) }
	d := &Difference{From: a, To: b, Build: manifest.Compare(was.Without(ours), is.Without(ours)), Kept: &manifest.Changes{}}
	if !a.fromFeed() && !b.fromFeed() {
		was, is = was.Without(theirs), is.Without(theirs)
		d.Kept, d.Mods = manifest.Compare(was, is), modFolders(l.Game.Rules(), was, is)
	}
	return d
}

// compareMods compares mods with mods, or with what a whole side has in their places.
func compareMods(l *lane.Lane, a, b *Side, was, is *manifest.Manifest) *Difference {
	fold := l.Game.Rules().Fold
	only := func(m, of *manifest.Manifest) *manifest.Manifest {
		paths := make(map[string]bool)
		for _, f := range of.Files {
			paths[fold(f.Path)] = true
		}
		for _, k := range of.Links {
			paths[fold(k.Path)] = true
		}
		return m.Without(func(p string) bool { return !paths[fold(p)] })
	}
	if !a.mods {
		was = only(was, is)
	}
	if !b.mods {
		is = only(is, was)
	}
	return &Difference{From: a, To: b, Build: &manifest.Changes{}, Kept: manifest.Compare(was, is), Mods: modFolders(l.Game.Rules(), was, is), OnlyMods: true}
}

// withLinks lists the side with the links that lead out of the folder, to be compared and nothing else.
func (s *Side) withLinks() *manifest.Manifest {
	if len(s.Links) == 0 {
		return s.Manifest
	}
	m := *s.Manifest
	m.Links = slices.Clone(m.Links)
	for p, target := range s.Links {
		m.Links = append(m.Links, manifest.Link{Path: p, Target: target})
	}
	m.Sort()
	return &m
}

// fromFeed reports whether the side is a feed's build, which says nothing about
// the player's own files.
func (s *Side) fromFeed() bool { return s.composed != nil && s.composed.Build.Components != nil }

// Cost plans the fetch that would bring all of a side here; empty if nothing would
// have to come.
func Cost(ctx context.Context, l *lane.Lane, s *Side) (*fetch.Plan, error) {
	if s.composed == nil || len(s.composed.Parts) == 0 {
		return nil, nil
	}
	lacks, err := l.Store.Lacks(ctx, compose.Contents(s.Manifest))
	if err != nil || len(lacks) == 0 {
		return nil, err
	}
	tree, err := l.Look(ctx, 0)
	if err != nil {
		return nil, err
	}
	return compose.PlanFetch(ctx, l, s.composed, nil, tree)
}

// maxText bounds a text file that is compared line by line, in bytes.
const maxText = 16 << 20

// Text returns the content of a file on one side, empty if it is not there.
func Text(ctx context.Context, l *lane.Lane, s *Side, p string) (text []byte, found bool, err error) {
	f, ok := s.Manifest.File(p)
	if !ok {
		return nil, false, nil
	}
	if f.Size > maxText {
		return nil, true, fmt.Errorf("%s is larger than the %d MB that can be compared by line", p, maxText>>20)
	}
	if s.composed != nil {
		text, err = l.Store.Bytes(ctx, f.Digest, maxText)
		if errors.Is(err, store.ErrMissing) && s.fromFeed() {
			err = fmt.Errorf("%s of %s: %w", p, s.Label, compose.ErrNotFetched)
		}
		return text, true, err
	}
	file, err := scan.OpenFile(l.Root, p)
	if err != nil {
		return nil, true, err
	}
	defer file.Close()
	text, err = io.ReadAll(io.LimitReader(file, maxText))
	if err == nil && digest.Of(text) != f.Digest {
		err = fmt.Errorf("%s: %w", p, scan.ErrUnstable)
	}
	return text, true, err
}
