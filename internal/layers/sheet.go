package layers

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/rules"
)

// Kind is a kind of layer.
type Kind string

// The kinds of layers, in the order in which they lie.
const (
	OfBuild   Kind = "component"
	Out       Kind = "left out"
	OfLinks   Kind = "link"
	OfOverlay Kind = "overlay"
	OfMods    Kind = "mods"
	OfPin     Kind = "companion"
	OfEdit    Kind = "edit"
	OfTimes   Kind = "times"
	OfPlayer  Kind = "player"
)

// rank is the order in which kinds of layers lie, whichever was laid first. Of overlays and sets of mods, that decides.
func (k Kind) rank() int {
	if k == OfMods {
		k = OfOverlay
	}
	return slices.Index([]Kind{OfBuild, Out, OfLinks, OfOverlay, OfPin, OfEdit, OfTimes}, k)
}

// Layer is one of the things that a folder is held to.
type Layer interface {
	Kind() Kind
	// ID tells it from the others, and is the same for one that is laid again.
	ID() string
	// Name says in words which one it is: "the overlay bin/** of snapshot/1.0".
	Name() string
	// Lay lays it over what the sheet has.
	Lay(s *Sheet) error
	// Lift says what comes of a piece of it once it is lifted: is stands there now, a node without a kind where
	// nothing does, and below is what is wanted there without it; nil: nothing.
	Lift(p *Piece, is plan.Node, below *Piece, s *Sheet) Lifted
}

// Piece is what a layer has at a path.
type Piece struct {
	Path  string
	Node  plan.Node // without a kind: nothing is to be there
	Layer Layer
	// Under is what would be there without the layer; nil: nothing.
	Under *Piece
}

// Wants reports whether something is to be there.
func (p *Piece) Wants() bool { return p != nil && p.Node.Kind != "" }

// Site is what layers have to know of the folder that they are laid in.
type Site struct {
	Rules       rules.Rules // by which files are the player's
	IgnoresCase bool
	// Own returns the content of a small text file as it is in the folder, and Content that of a file of a build.
	Own     func(path string) ([]byte, error)
	Content func(path string, n plan.Node) ([]byte, error)
	// Fresh says that the layers are being laid for the first time. Later the player may have changed what an edit
	// of a file of theirs was about, which must keep nothing else from working.
	Fresh bool
}

// Sheet is what layers come to, laid one over the other.
type Sheet struct {
	Site
	// Texts are contents that the layers themselves bring.
	Texts map[digest.Digest][]byte
	// Notes are for the player.
	Notes []string
	// LeftOut are the files of the build that are not wanted.
	LeftOut []manifest.File

	layers     []Layer
	base       *manifest.Manifest
	components []*Component
	attributes *manifest.Attributes
	pieces     map[string]*Piece // above the build, by path
	spelling   *plan.Spelling
	keep       *rules.Matcher
	times      map[string]time.Time
	// covered are files of the player's in whose place overlays lie.
	covered map[string]plan.Node
}

// New lays layers over the files of a build. components say which of them belong to which; covered are files of the
// player's on which overlays lie.
func New(site Site, base *manifest.Manifest, a *manifest.Attributes, components []*Component, covered map[string]plan.Node, over ...Layer) (*Sheet, error) {
	over = slices.Clone(over)
	s := &Sheet{
		Site: site, base: base, attributes: a.Clone(), components: components, covered: covered,
		Texts: make(map[digest.Digest][]byte), pieces: make(map[string]*Piece), keep: site.Rules.Matcher(),
	}
	if site.IgnoresCase {
		s.spelling = plan.SpellingOf(plan.FromManifest(base, nil))
	}
	slices.SortStableFunc(over, func(a, b Layer) int { return a.Kind().rank() - b.Kind().rank() })
	for _, l := range over {
		if err := l.Lay(s); err != nil {
			return nil, err
		}
		s.layers = append(s.layers, l)
	}
	return s, nil
}

// At returns what is wanted at a path, and by whom; nil: no layer is about it.
func (s *Sheet) At(path string) *Piece {
	path = s.spelling.Of(path)
	if p := s.pieces[path]; p != nil {
		return p
	}
	return s.built(path)
}

// built returns the build's own file at a path.
func (s *Sheet) built(path string) *Piece {
	f, there := s.base.File(path)
	if !there {
		return nil
	}
	p := &Piece{Path: f.Path, Node: plan.Node{Kind: plan.File, Size: f.Size, Digest: f.Digest}, Layer: &Component{}}
	for _, c := range s.components {
		if is, has := c.Manifest.File(f.Path); has && is.Digest == f.Digest || len(s.components) == 1 {
			p.Layer = c
			break
		}
	}
	return p
}

// put lays a piece over what is there.
func (s *Sheet) put(path string, n plan.Node, by Layer) *Piece {
	path = s.spelling.Of(path)
	p := &Piece{Path: path, Node: n, Layer: by, Under: s.At(path)}
	// A file of the build's own comes back rather than what somebody had put in its place, unless a rule says that it is theirs.
	if own, is := s.covered[path]; is && by.Kind() != Out && p.Under.own() == nil && (s.built(path) == nil || s.keep.Kept(path)) {
		p.Under = &Piece{Path: path, Node: own, Layer: yours{}, Under: p.Under}
	}
	s.pieces[path] = p
	return p
}

// Bring adds content that a layer itself has.
func (s *Sheet) Bring(text []byte) plan.Node {
	n := node(text)
	s.Texts[n.Digest] = text
	return n
}

func node(text []byte) plan.Node {
	return plan.Node{Kind: plan.File, Size: int64(len(text)), Digest: digest.Of(text)}
}

// note tells the player something.
func (s *Sheet) note(format string, args ...any) {
	s.Notes = append(s.Notes, fmt.Sprintf(format, args...))
}

// Pieces lists what the layers above the build have, by path.
func (s *Sheet) Pieces() []*Piece {
	var list []*Piece
	for _, p := range slices.Sorted(maps.Keys(s.pieces)) {
		list = append(list, s.pieces[p])
	}
	return list
}

// Manifest lists the files that are wanted.
func (s *Sheet) Manifest() (*manifest.Manifest, error) {
	if len(s.pieces) == 0 {
		return s.base, nil
	}
	over := &manifest.Manifest{}
	for _, p := range s.Pieces() {
		if p.Wants() && p.Node.Kind == plan.File {
			over.Files = append(over.Files, manifest.File{Path: p.Path, Size: p.Node.Size, Digest: p.Node.Digest})
		}
	}
	over.Sort()
	return manifest.Merge(s.base.Without(func(p string) bool { return s.pieces[p] != nil }), over)
}

// Times are those that the player has set by hand. Where nothing has been laid there are none.
func (s *Sheet) Times() map[string]time.Time {
	if s == nil {
		return nil
	}
	return s.times
}

// Attributes are the times, modes and links that are wanted.
func (s *Sheet) Attributes() *manifest.Attributes { return s.attributes }

// Named lists the paths at which something is wanted on purpose, so that no keep rule is about them.
func (s *Sheet) Named() []string {
	var list []string
	for _, p := range s.Pieces() {
		if p.Layer.Kind() != Out && s.named(p.Layer) && p.Wants() {
			list = append(list, p.Path)
		}
	}
	return list
}

func (s *Sheet) named(l Layer) bool {
	o, is := l.(*Overlay)
	return !is || o.Named
}

// Players lists the files of the player's that are wanted otherwise just for now: they are no part of what is held.
func (s *Sheet) Players() map[string]bool {
	list := make(map[string]bool)
	for path, p := range s.pieces {
		if p.editsPlayers() {
			list[path] = true
		}
	}
	return list
}

// Covered lists the files of the player's in whose place overlays lie.
func (s *Sheet) Covered() map[string]plan.Node { return s.covered }

// Kept reports whether a path is the player's, by a keep rule and by no layer that names it.
func (s *Sheet) Kept(path string) bool {
	p := s.pieces[s.spelling.Of(path)]
	return s.keep.Kept(path) && !(p != nil && p.Layer.Kind() != Out && s.named(p.Layer))
}

// over reports whether a layer gives something of its own there.
func (p *Piece) over() bool {
	return p.Wants() && p.Layer.Kind() != OfBuild && p.Layer.Kind() != OfEdit && p.Layer.Kind() != OfPlayer
}

// editsPlayers reports whether it is a file of the player's with a value set.
func (p *Piece) editsPlayers() bool {
	edited := false
	for ; p != nil && p.Layer.Kind() == OfEdit; p = p.Under {
		edited = true
	}
	return edited && p != nil && p.Layer.Kind() == OfPlayer
}

// own returns the file of the player's that lies beneath; nil: none does.
func (p *Piece) own() *Piece {
	for ; p != nil; p = p.Under {
		if p.Layer.Kind() == OfPlayer {
			return p
		}
	}
	return nil
}
