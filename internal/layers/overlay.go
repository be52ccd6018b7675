package layers

import (
	"errors"
	"fmt"
	"strings"

	"morvant/internal/manifest"
	"morvant/internal/plan"
)

// ErrOverlay is returned for an overlay that brings nothing.
var ErrOverlay = errors.New("the overlay has no files")

// Overlay is some files of another build, or a set of mods.
type Overlay struct {
	Of      string // "snapshot/1.0", "mods/trees"
	Pattern string
	Mods    bool
	// Named says that it is wanted at its paths also where a keep rule is about them.
	Named    bool
	Manifest *manifest.Manifest // of the whole other build
	Times    *manifest.Attributes
}

func (o *Overlay) Kind() Kind {
	if o.Mods {
		return OfMods
	}
	return OfOverlay
}

func (o *Overlay) ID() string { return string(o.Kind()) + " " + o.Of + " " + o.Pattern }

func (o *Overlay) Name() string {
	if o.Mods {
		return "the mods " + strings.TrimPrefix(o.Of, "mods/")
	}
	return fmt.Sprintf("the overlay %s of %s", o.Pattern, o.Of)
}

func (o *Overlay) Lay(s *Sheet) error {
	match := s.Rules.Set([]string{o.Pattern})
	found := false
	for _, f := range o.Manifest.Files {
		if !match.Match(f.Path) {
			continue
		}
		found = true
		n := plan.Node{Kind: plan.File, Size: f.Size, Digest: f.Digest}
		p := s.put(f.Path, n, o)
		if u := p.Under; u != nil && (u.Layer.Kind() == OfOverlay || u.Layer.Kind() == OfMods) && u.Node.Digest != f.Digest {
			s.note("two overlays have %s; the later one, of %s, wins", p.Path, o.Of)
		}
		if a, is := o.Times.Files[f.Path]; is {
			s.attributes.Files[p.Path] = a
		}
	}
	if !found {
		return fmt.Errorf("%w: %s has nothing that matches %s", ErrOverlay, o.Of, o.Pattern)
	}
	return nil
}

// Lift gives back what lay beneath: a file of the player's, or the build's. A file that the player has changed since it was
// laid stays, unless the build has one there.
func (o *Overlay) Lift(p *Piece, is plan.Node, below *Piece, s *Sheet) Lifted {
	own := p.own()
	as := is.SameContent(p.Node)
	switch {
	case own == nil && below.Wants() && !s.Kept(p.Path):
		return Lifted{To: below.Node}
	case is.Kind != "" && !as:
		return Lifted{To: is, Stays: true, Why: fmt.Sprintf("%s has been changed since %s came; it stays", p.Path, o.Name())}
	case own != nil:
		return Lifted{To: own.Node, Once: true}
	case as && o.Named:
		return Lifted{Once: true}
	}
	return Lifted{To: is}
}
