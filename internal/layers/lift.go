package layers

import (
	"morvant/internal/manifest"
	"morvant/internal/plan"
)

// Lifted is what comes of a path whose layer is lifted.
type Lifted struct {
	Path string
	To   plan.Node // without a kind: nothing
	// Stays says that what is there stays, for the player has changed it.
	Stays bool
	Why   string // for the player; empty: it goes without saying
	// Once says that it is no part of what is wanted afterwards, and brought or taken this once.
	Once bool
	// By names the layer that is lifted, and Same says that what is beneath it is the same.
	By   string
	Same bool
}

// Lift compares two sheets: what becomes of each path at which a layer of the first lies that the second does not have.
func Lift(before, after *Sheet, have plan.State) []Lifted {
	stays := make(map[string]bool)
	for _, l := range after.layers {
		stays[l.ID()] = true
	}
	var list []Lifted
	for _, top := range before.Pieces() {
		path := after.spelling.Of(top.Path)
		covered := after.pieces[path].over()
		is, _ := have.Get(top.Path)
		for p := top; p != nil && p.Layer.Kind() != OfBuild && p.Layer.Kind() != Out && p.Layer.Kind() != OfPlayer; p = p.Under {
			edits := p.Layer.Kind() == OfEdit
			if stays[p.Layer.ID()] || covered && !edits {
				if edits {
					continue
				}
				break
			}
			at := p
			if edits && !p.editsPlayers() {
				at = top // what all edits of the file together have made of it
			}
			l := p.Layer.Lift(at, is, after.At(path), after)
			l.Path, l.By, l.Same = p.Path, p.Layer.Name(), !edits && l.To.SameContent(p.Node) && p.own() == nil
			list = append(list, l)
			if !p.editsPlayers() {
				break
			}
		}
	}
	return list
}

// Want is what leads to the sheet, whose files m lists, where layers are lifted on the way.
func (s *Sheet) Want(m *manifest.Manifest, lifted []Lifted) plan.State {
	once := make(map[string]plan.Node)
	for _, l := range lifted {
		if l.Once {
			once[s.spelling.Of(l.Path)] = l.To
		}
	}
	return plan.FromManifest(m, s.attributes).Over(once)
}

// Exceptions are the paths that no keep rule is about on that way, and those at which everything stays.
func (s *Sheet) Exceptions(lifted []Lifted) (except, leave []string) {
	except = s.Named()
	for _, l := range lifted {
		switch path := s.spelling.Of(l.Path); {
		case l.Stays:
			leave = append(leave, path)
		case l.Once:
			except = append(except, path)
		}
	}
	return except, leave
}

// Out lists the paths of the build at which nothing is wanted.
func (s *Sheet) Out() []string {
	var list []string
	for _, p := range s.Pieces() {
		if !p.Wants() {
			list = append(list, p.Path)
		}
	}
	return list
}

// Covers lists the files of the player's in whose place overlays and companions of the sheet come to lie: those that they lie
// over already, and what is there now and of no layer.
func (s *Sheet) Covers(before *Sheet, have plan.State, g *Ground) map[string]plan.Node {
	covered := make(map[string]plan.Node)
	for path, p := range s.pieces {
		if !p.over() && !(p.Under.over()) {
			continue
		}
		if before != nil {
			if own, is := before.covered[before.spelling.Of(path)]; is {
				covered[path] = own
				continue
			}
		}
		is, there := have.Get(path)
		if !there || is.Kind != plan.File || is.Digest.IsZero() || is.SameContent(p.Node) {
			continue
		}
		// A snapshot has files of the player's as well.
		if s.built(path) != nil && !s.keep.Kept(path) {
			continue
		}
		if o := g.Of(path, is); o.Whose == Player || o.Whose == Unknown {
			covered[path] = is
		}
	}
	return covered
}
