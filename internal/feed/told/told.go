// Package told holds manifests as adapters tell them: in the distributor's own pieces and digests. It says what stands
// for content that has not been seen here, what the identity of a file rests on, and how a manifest is kept.
package told

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/adapter"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/manifest"
)

// errEmpty is returned for what is kept as a manifest and is none.
var errEmpty = errors.New("there is no manifest in it")

// Manifest is a manifest as an adapter tells it.
type Manifest struct {
	ID        string            `json:"id"` // the adapter's name for it
	Component string            `json:"component"`
	Manifest  *adapter.Manifest `json:"manifest"`
	// Tree is the same as a manifest of Morvant's.
	Tree       *manifest.Manifest `json:"-"`
	by         adapter.Teller
	distrusted bool
	files      map[string]*adapter.File
}

// File returns what was told of a file.
func (t *Manifest) File(path string) *adapter.File { return t.files[path] }

// Scope names the subscription within which weak digests of the manifest count.
func (t *Manifest) Scope() string { return t.by.Scope }

// Name returns what stands for a file's content as long as that has not been seen.
func (t *Manifest) Name(f *adapter.File) digest.Digest { return t.by.Name(f) }

// PieceName returns what stands for the content of a piece.
func (t *Manifest) PieceName(f *adapter.File, i int) digest.Digest { return t.by.PieceName(f, i) }

// Ground returns what the identity of a file rests on. Weak digests of a feed that is distrusted are none.
func (t *Manifest) Ground(f *adapter.File) adapter.Ground {
	if g := f.Ground(); g != adapter.Weak || !t.distrusted {
		return g
	}
	return adapter.Unchecked
}

// Ways says how files that can be recognised are: see Way.
func (t *Manifest) Ways() map[string]string {
	ways := make(map[string]string)
	for i := range t.Manifest.Files {
		f := &t.Manifest.Files[i]
		ground := t.Ground(f)
		if f.Size == 0 || ground == adapter.Unchecked {
			continue
		}
		w := Way{Scope: ground == adapter.Weak}
		if claims := f.Claims(); len(claims) == 1 {
			w.Alg = claims[0].Want.Alg
		}
		ways[f.Path] = w.String()
	}
	return ways
}

// Way is how a file is recognised: by a digest of one algorithm, or, without one, by several that must all hold. With Scope it counts
// for its subscription alone.
type Way struct {
	Alg   string
	Scope bool
}

func (w Way) String() string { return fmt.Sprintf("%s %t", w.Alg, w.Scope) }

// ParseWay reads what String wrote.
func ParseWay(s string) Way {
	alg, scope, _ := strings.Cut(s, " ")
	return Way{alg, scope == "true"}
}

// Established counts the files by what their identity rests on.
func (t *Manifest) Established() catalogue.Established {
	var n catalogue.Established
	for i := range t.Manifest.Files {
		f := &t.Manifest.Files[i]
		switch {
		case f.Size == 0 || f.Ground() == adapter.Strong:
			n.Strong++
		case f.Ground() == adapter.Weak:
			n.Weak++
		default:
			n.Unchecked++
		}
	}
	return n
}

// Stored returns how many bytes come for all of it, as far as that was told.
func (t *Manifest) Stored() int64 {
	var n int64
	for i := range t.Manifest.Files {
		for _, p := range t.Manifest.Files[i].Split() {
			n += cmp.Or(p.Stored, p.Size)
		}
	}
	return n
}

// weight is about how much of memory it takes: entries and pieces.
func (t *Manifest) weight() int {
	n := len(t.Manifest.Links) + len(t.Manifest.Folders)
	for i := range t.Manifest.Files {
		n += 1 + len(t.Manifest.Files[i].Pieces)
	}
	return n
}

// New makes one of what an adapter has told, in a subscription that scope names.
func New(id, component string, m *adapter.Manifest, scope string, distrusted bool) (*Manifest, error) {
	t := &Manifest{Component: component, ID: id, Manifest: m}
	return t, t.index(scope, distrusted)
}

func (t *Manifest) index(scope string, distrusted bool) error {
	t.by, t.distrusted = adapter.Teller{Scope: scope, Of: t.ID}, distrusted
	var err error
	t.Tree, err = t.Manifest.Tree(t.by)
	t.files = make(map[string]*adapter.File, len(t.Manifest.Files))
	for i := range t.Manifest.Files {
		t.files[t.Manifest.Files[i].Path] = &t.Manifest.Files[i]
	}
	return err
}

// Encode returns the form in which it is kept.
func (t *Manifest) Encode() ([]byte, error) {
	raw, err := json.Marshal(t)
	if err != nil {
		return nil, err
	}
	return catalogue.Pack(raw)
}

// Decode reads what Encode wrote.
func Decode(packed []byte, scope string, distrusted bool) (*Manifest, error) {
	b, err := catalogue.Inflate(packed)
	if err != nil {
		return nil, err
	}
	t := &Manifest{}
	if err := json.Unmarshal(b, t); err != nil {
		return nil, err
	}
	if t.Manifest == nil {
		return nil, errEmpty
	}
	return t, t.index(scope, distrusted)
}

// Fill gives a component the numbers of its manifest.
func (t *Manifest) Fill(p *catalogue.Part) catalogue.Part {
	p.Files, p.Bytes, p.Download, p.Established = len(t.Tree.Files), t.Tree.Bytes(), cmp.Or(p.Download, t.Stored()), t.Established()
	return *p
}

// mostKept is how many entries and pieces of manifests are kept in memory; the last one always is.
const mostKept = 30_000

// Memory keeps the manifests that were read last. The zero value has none.
type Memory struct {
	of     map[digest.Digest]*Manifest
	lately []digest.Digest // by when they were kept
}

// Get returns a manifest that is kept, as it was told in a subscription; else nil.
func (m *Memory) Get(d digest.Digest, scope string) *Manifest {
	if t := m.of[d]; t != nil && t.by.Scope == scope {
		return t
	}
	return nil
}

// Keep keeps a manifest, and lets go of those that were kept longest ago.
func (m *Memory) Keep(d digest.Digest, t *Manifest) {
	if m.of == nil {
		m.of = make(map[digest.Digest]*Manifest)
	}
	m.of[d] = t
	m.lately = append(slices.DeleteFunc(m.lately, func(o digest.Digest) bool { return o == d }), d)
	sum := 0
	for i, o := range slices.Backward(m.lately) {
		if sum += m.of[o].weight(); sum > mostKept && o != d {
			for _, old := range m.lately[:i+1] {
				delete(m.of, old)
			}
			m.lately = slices.Clone(m.lately[i+1:])
			return
		}
	}
}
