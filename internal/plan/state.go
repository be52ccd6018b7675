package plan

import (
	"cmp"
	"io/fs"
	"math"
	"path"
	"slices"
	"strings"
	"time"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/volume"
)

// Kind says what a node is.
type Kind string

// The kinds of nodes.
const (
	File Kind = "file"
	Link Kind = "link"
	Dir  Kind = "dir"
)

// Node is what stands at one path of a folder.
type Node struct {
	Kind   Kind          `json:"kind"`
	Size   int64         `json:"size,omitempty"`   // of a file, bytes
	Digest digest.Digest `json:"digest,omitzero"`  // of a file
	Target string        `json:"target,omitempty"` // of a link
	Mode   fs.FileMode   `json:"mode,omitempty"`   // permission bits; 0: not known
	MTime  int64         `json:"mtime,omitempty"`  // see Moment; 0: not known
	// Other is the name of a file outside of the folder: it is to be one file with that.
	Other manifest.Other `json:"other,omitzero"`
}

// epoch stands for the first moment of 1970, whose own number says that a time is not
// known.
const epoch = math.MinInt64

// Moment returns a time in nanoseconds since 1970 as a Node holds it.
func Moment(ns int64) int64 {
	if ns == 0 {
		return epoch
	}
	return ns
}

// SameContent reports whether the two are the same but for times and modes.
func (n Node) SameContent(o Node) bool {
	return n.Kind == o.Kind && n.Size == o.Size && n.Digest == o.Digest && n.Target == o.Target
}

// sameAttributes reports whether bringing n to o's times and modes changes
// nothing; what o does not know does not count, nor what is to be one with a file elsewhere and is.
func (n Node) sameAttributes(o Node) bool {
	return !n.Other.IsZero() && !o.Other.IsZero() || (o.Mode == 0 || n.Mode == o.Mode) && (o.MTime == 0 || n.MTime == o.MTime)
}

// Entry is a node at its path.
type Entry struct {
	Path string
	Node
}

// State is everything a folder holds, folders included, sorted by path.
type State []Entry

// Get returns the node at p.
func (s State) Get(p string) (Node, bool) {
	i, ok := slices.BinarySearchFunc(s, p, func(e Entry, p string) int { return strings.Compare(e.Path, p) })
	if !ok {
		return Node{}, false
	}
	return s[i].Node, true
}

// With returns the state with nodes at paths where it has none.
func (s State) With(nodes map[string]Node) State {
	if len(nodes) == 0 {
		return s
	}
	var add State
	for p, n := range nodes {
		if _, ok := s.Get(p); !ok && n.Kind != "" {
			add = append(add, Entry{p, n})
		}
	}
	add.sort()
	return merged(s, add)
}

// Over returns the state with nodes at these paths, whatever it has there; with nothing where a node has no kind.
func (s State) Over(nodes map[string]Node) State {
	if len(nodes) == 0 {
		return s
	}
	under := slices.DeleteFunc(slices.Clone(s), func(e Entry) bool { _, over := nodes[e.Path]; return over })
	return under.With(nodes)
}

func (s State) sort() { slices.SortFunc(s, byPath) }

func byPath(a, b Entry) int { return strings.Compare(a.Path, b.Path) }

// FromTree returns the state of a folder that was just walked and read.
func FromTree(t *scan.Tree) State {
	s := make(State, 0, len(t.Entries))
	for i := range t.Entries {
		e := &t.Entries[i]
		n := Node{Mode: e.Mode, MTime: Moment(e.Stamp.MTime)}
		switch e.Kind {
		case scan.File:
			n.Kind, n.Size, n.Digest, n.Other = File, e.Stamp.Size, e.Digest, e.Other
		case scan.Link:
			n = Node{Kind: Link, Target: e.Target}
		case scan.Dir:
			n.Kind = Dir
		}
		s = append(s, Entry{e.Path, n})
	}
	for i := range t.Scratch {
		s = append(s, Entry{t.Scratch[i].Path, Node{Kind: Dir}})
	}
	if len(t.Scratch) > 0 {
		s.sort()
	}
	return s
}

// FromManifest returns the state that a manifest describes, with times and modes
// as far as a knows them; a may be nil.
func FromManifest(m *manifest.Manifest, a *manifest.Attributes) State {
	if a == nil {
		a = manifest.NewAttributes()
	}
	files := make(State, 0, len(m.Files))
	dirs := make(map[string]bool)
	last := "."
	for _, f := range m.Files {
		if dir := path.Dir(f.Path); dir != last {
			addParents(dirs, f.Path)
			last = dir
		}
		files = append(files, Entry{f.Path, withAttribute(Node{Kind: File, Size: f.Size, Digest: f.Digest, Other: a.Others[f.Path]}, a.Files, f.Path)})
	}
	s := make(State, 0, len(m.Links)+len(a.Dirs))
	for _, l := range m.Links {
		addParents(dirs, l.Path)
		s = append(s, Entry{l.Path, Node{Kind: Link, Target: l.Target}})
	}
	for _, d := range m.EmptyDirs {
		addParents(dirs, d)
		dirs[d] = true
	}
	for d := range dirs {
		s = append(s, Entry{d, withAttribute(Node{Kind: Dir}, a.Dirs, d)})
	}
	s.sort()
	if !slices.IsSortedFunc(files, byPath) {
		files.sort()
	}
	return merged(files, s).withLinks(a.Links)
}

// merged returns two sorted states as one.
func merged(a, b State) State {
	out := make(State, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		first := &a
		if byPath(a[0], b[0]) > 0 {
			first = &b
		}
		out, *first = append(out, (*first)[0]), (*first)[1:]
	}
	return append(append(out, a...), b...)
}

// withLinks adds links that lead out, where the state has room for them.
func (s State) withLinks(links map[string]string) State {
	if len(links) == 0 {
		return s
	}
	add := make(map[string]Node, len(links))
	for p, target := range links {
		if _, there := s.Get(p); !there && !s.under(p) {
			add[p] = Node{Kind: Link, Target: target}
		}
	}
	out := s.With(add)
	dirs := make(map[string]bool)
	for p := range add {
		addParents(dirs, p)
	}
	folders := make(map[string]Node)
	for d := range dirs {
		folders[d] = Node{Kind: Dir}
	}
	return out.With(folders)
}

// under reports whether something that is no folder stands above p.
func (s State) under(p string) bool {
	for d := path.Dir(p); d != "."; d = path.Dir(d) {
		if n, there := s.Get(d); there && n.Kind != Dir {
			return true
		}
	}
	return false
}

// LeadsOut reports whether the node is a link that leads out of the folder.
func (e *Entry) LeadsOut() bool {
	return e.Kind == Link && manifest.CheckTarget(e.Path, e.Target) != nil
}

// Links lists where the links lead that lead out of the folder.
func (s State) Links() map[string]string {
	links := make(map[string]string)
	for i := range s {
		if s[i].LeadsOut() {
			links[s[i].Path] = s[i].Target
		}
	}
	return links
}

func withAttribute(n Node, attributes map[string]manifest.Attribute, p string) Node {
	if a, ok := attributes[p]; ok {
		n.Mode = a.Mode.Perm()
		if !a.MTime.IsZero() {
			n.MTime = Moment(volume.Nanoseconds(a.MTime))
		}
	}
	return n
}

// addParents adds the folders above p to dirs.
func addParents(dirs map[string]bool, p string) {
	for d := path.Dir(p); d != "." && !dirs[d]; d = path.Dir(d) {
		dirs[d] = true
	}
}

// Manifest lists the state.
func (s State) Manifest() *manifest.Manifest {
	m := &manifest.Manifest{}
	filled := make(map[string]bool)
	for _, e := range s {
		filled[path.Dir(e.Path)] = true
		switch e.Kind {
		case File:
			m.Files = append(m.Files, manifest.File{Path: e.Path, Size: e.Size, Digest: e.Digest})
		case Link:
			if !e.LeadsOut() {
				m.Links = append(m.Links, manifest.Link{Path: e.Path, Target: e.Target})
			}
		}
	}
	for _, e := range s {
		if e.Kind == Dir && !filled[e.Path] {
			m.EmptyDirs = append(m.EmptyDirs, e.Path)
		}
	}
	return m
}

// Time returns the node's time of last change.
func (n Node) Time() time.Time {
	if n.MTime == epoch {
		return time.Unix(0, 0)
	}
	return time.Unix(0, n.MTime)
}

// Step is the change of one path. Exchanging Before and After takes it back.
type Step struct {
	Path   string `json:"path"`
	Before *Node  `json:"before,omitempty"` // nil: nothing was there
	After  *Node  `json:"after,omitempty"`  // nil: nothing will be there
	// From is the path whose old content becomes the new content here: the file
	// moves, and is not written again.
	From string `json:"from,omitempty"`
	// Copy is a path that holds the new content and keeps it.
	Copy string `json:"copy,omitempty"`
}

// Displaces reports whether what stood at the path before has to leave it.
func (s *Step) Displaces() bool {
	return s.Before != nil && s.Before.Kind != Dir && !s.KeepsContent()
}

// Places reports whether a file or link is put at the path.
func (s *Step) Places() bool {
	return s.After != nil && s.After.Kind != Dir && !s.KeepsContent()
}

// Writes reports whether content has to be written for the path.
func (s *Step) Writes() bool { return s.Places() && s.After.Kind == File && s.From == "" }

// KeepsContent reports whether only times and modes change.
func (s *Step) KeepsContent() bool {
	return s.Before != nil && s.After != nil && s.Before.SameContent(*s.After)
}

// Rewind returns what a folder should hold once steps are taken back: have, with
// what stood before at every path that the steps touched. Newer changes to other
// paths stay; so do newer contents where a step changed a time or a mode alone.
func Rewind(have State, steps []Step) State {
	touched := make(map[string]*Node, len(steps))
	for i := range steps {
		s := &steps[i]
		if is, there := have.Get(s.Path); s.KeepsContent() && s.Before.Kind != Dir && !(there && is.SameContent(*s.Before)) {
			continue
		}
		touched[s.Path] = s.Before
	}
	var want State
	for _, e := range have {
		if _, ok := touched[e.Path]; !ok {
			want = append(want, e)
		}
	}
	for p, n := range touched {
		if n != nil {
			want = append(want, Entry{p, *n})
		}
	}
	return want.settled()
}

// Forward returns what a folder should hold once steps are done: have, with what comes
// after at every path that the steps touch.
func Forward(have State, steps []Step) State {
	turned := make([]Step, len(steps))
	for i, s := range steps {
		turned[i] = Step{Path: s.Path, Before: s.After, After: s.Before}
	}
	return Rewind(have, turned)
}

// settled sorts the state and makes it one that a folder can be in: above every
// entry there are folders. A file that is in the way of something below it is
// dropped.
func (s State) settled() State {
	dirs := make(map[string]bool)
	for _, e := range s {
		addParents(dirs, e.Path)
	}
	out := s[:0]
	for _, e := range s {
		if e.Kind == Dir {
			delete(dirs, e.Path)
		} else if dirs[e.Path] {
			continue
		}
		out = append(out, e)
	}
	for d := range dirs {
		out = append(out, Entry{d, Node{Kind: Dir}})
	}
	out.sort()
	return out
}

// BiggestFirst orders entries for people.
func BiggestFirst(a, b Entry) int {
	return cmp.Or(cmp.Compare(b.Size, a.Size), cmp.Compare(a.Path, b.Path))
}
