package layers

import (
	"fmt"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/rules"
)

// Whose says whose something is.
type Whose string

// Those that something can be of.
const (
	Layers   Whose = "layer"     // of the layer that wants it so
	Player   Whose = "player"    // by a rule, or over a layer
	LeftOver Whose = "left over" // exactly as in a known build that the folder is not held to
	Nobody   Whose = "nobody"    // scratch
	Unknown  Whose = "unknown"   // left alone, and told
)

// Owner is whose a file or link is, and why.
type Owner struct {
	Whose Whose
	Piece *Piece // what is wanted at the path, and by which layer; nil: nothing is
	Why   string
	// Builds have exactly this at the path, the newest first; Sure says that one of them is a distributor's, or has
	// components: then it is the game's. A snapshot may have files of the player's.
	Builds []int
	Sure   bool
}

// Ground is what owners are told by.
type Ground struct {
	Sheet *Sheet // nil: the folder is not held
	Rules rules.Rules
	// Known are the known builds.
	Known *Index
	// Theirs are the paths of components that the held build has and the folder was not given: the player may have
	// added them.
	Theirs map[string]bool
	match  *rules.Matcher
}

// Of says whose something is that stands at a path.
func (g *Ground) Of(path string, is plan.Node) Owner {
	if g.match == nil {
		g.match = g.Rules.Matcher()
	}
	o := Owner{}
	kept := g.match.Kept(path)
	if g.Sheet != nil {
		o.Piece = g.Sheet.At(path)
		kept = kept && g.Sheet.Kept(path)
	}
	fold := g.Rules.Fold(path)
	if is.Kind == plan.File && !is.Digest.IsZero() && !g.Theirs[fold] {
		o.Builds, o.Sure = g.Known.has(fold, is.Digest)
	}
	switch {
	case is.Kind == "":
		o.Whose, o.Why = Unknown, "it is not there"
	case o.Piece.Wants() && !kept && is.SameContent(o.Piece.Node):
		o.Whose, o.Why = Layers, "as "+o.Piece.Layer.Name()+" has it"
		if o.Piece.editsPlayers() {
			o.Whose, o.Why = Player, "yours, with a value that the pin sets: "+o.Piece.Layer.Name()
		}
	case kept:
		o.Whose, o.Why = Player, "a keep rule says that it is yours"
	case len(o.Builds) > 0:
		o.Whose, o.Why = LeftOver, "exactly as in another known build"
	case g.match.Scratch(path):
		o.Whose, o.Why = Nobody, "a scratch rule says that nobody misses it"
	case o.Piece.Wants():
		o.Whose, o.Why = Unknown, "it differs from "+o.Piece.Layer.Name()+", and is in no known build"
	default:
		o.Whose, o.Why = Unknown, "it is in no known build, and no rule is about it"
	}
	return o
}

// Leaves lists what goes with what the folder has been held to: what its layers have given, and what is left over from other
// builds: what is surely the game's, and what also says; nil: nothing else.
func (g *Ground) Leaves(have plan.State, also func(Owner) bool) map[string]plan.Node {
	leaves := make(map[string]plan.Node)
	for _, e := range have {
		if e.Kind == plan.Dir || e.LeadsOut() {
			continue
		}
		if o := g.Of(e.Path, e.Node); o.Whose == Layers || o.Whose == LeftOver && (o.Sure || also != nil && also(o)) {
			leaves[e.Path] = e.Node
		}
	}
	return leaves
}

// Index finds the known builds that have some content at a path.
type Index struct {
	fold  func(string) string
	files map[string][]known
}

type known struct {
	is     digest.Digest
	number int
	sure   bool
}

// NewIndex returns an index about these paths only.
func NewIndex(r rules.Rules, paths func(yield func(string) bool)) *Index {
	x := &Index{fold: r.Fold, files: make(map[string][]known)}
	for p := range paths {
		x.files[r.Fold(p)] = nil
	}
	return x
}

// Empty reports whether it is about no path.
func (x *Index) Empty() bool { return len(x.files) == 0 }

// Add adds a build, by its number: the newest has the lowest, and is added first. sure says that nothing of the player's
// can be in it.
func (x *Index) Add(number int, sure bool, m *manifest.Manifest) {
	for _, f := range m.Files {
		fold := x.fold(f.Path)
		if list, asked := x.files[fold]; asked {
			x.files[fold] = append(list, known{f.Digest, number, sure})
		}
	}
}

// Has lists the builds that have exactly this content at a path.
func (x *Index) Has(path string, is digest.Digest) (builds []int, sure bool) {
	if x == nil {
		return nil, false
	}
	return x.has(x.fold(path), is)
}

func (x *Index) has(fold string, is digest.Digest) (builds []int, sure bool) {
	if x == nil {
		return nil, false
	}
	for _, k := range x.files[fold] {
		if k.is == is && !slices.Contains(builds, k.number) {
			builds = append(builds, k.number)
			sure = sure || k.sure
		}
	}
	return builds, sure
}

// Any reports whether any of the builds has a file at a path, whatever is in it.
func (x *Index) Any(path string) bool { return len(x.files[x.fold(path)]) > 0 }

func (o Owner) String() string { return fmt.Sprintf("%s: %s", o.Whose, o.Why) }
