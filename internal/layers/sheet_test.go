package layers

import (
	"fmt"
	"io/fs"
	"math/rand"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/rules"
)

// world is a folder with the files that the player has put there, and what layers are made of.
type world struct {
	base    map[string]string
	players map[string]string // the player's own files
	rules   rules.Rules
	texts   map[digest.Digest]string
	now     map[string]string // as it is
}

func (w *world) manifest(files map[string]string) *manifest.Manifest {
	m := &manifest.Manifest{}
	for p, text := range files {
		w.texts[digest.Of([]byte(text))] = text
		m.Files = append(m.Files, manifest.File{Path: p, Size: int64(len(text)), Digest: digest.Of([]byte(text))})
	}
	m.Sort()
	return m
}

func (w *world) overlay(name string, files map[string]string, mods bool) *Overlay {
	return &Overlay{Of: name, Pattern: "**", Mods: mods, Named: true, Manifest: w.manifest(files), Times: manifest.NewAttributes()}
}

func (w *world) site() Site {
	return Site{
		Rules: w.rules, Fresh: true,
		Own: func(p string) ([]byte, error) {
			if text, is := w.now[p]; is {
				return []byte(text), nil
			}
			return nil, fs.ErrNotExist
		},
		Content: func(_ string, n plan.Node) ([]byte, error) { return []byte(w.texts[n.Digest]), nil },
	}
}

func (w *world) have() plan.State { return plan.FromManifest(w.manifest(w.now), nil) }

func (w *world) sheet(t *testing.T, covered map[string]plan.Node, over ...Layer) *Sheet {
	t.Helper()
	base := w.manifest(w.base)
	s, err := New(w.site(), base, manifest.NewAttributes(), []*Component{{Build: "snapshot/1.0", Manifest: base}}, covered, over...)
	require.NoError(t, err)
	return s
}

// lay brings the folder to layers, from others.
func (w *world) lay(t *testing.T, before *Sheet, over ...Layer) *Sheet {
	t.Helper()
	have := w.have()
	ground := &Ground{Sheet: before, Rules: w.rules}
	after := w.sheet(t, nil, over...)
	after = w.sheet(t, after.Covers(before, have, ground), over...)
	var lifted []Lifted
	if before != nil {
		lifted = Lift(before, after, have)
	}
	m, err := after.Manifest()
	require.NoError(t, err)
	r := w.rules
	r.Except, r.Leave = after.Exceptions(lifted)
	p, err := plan.Make(plan.Request{Have: have, Want: after.Want(m, lifted), Owned: plan.State{}.With(ground.Leaves(have, nil)), Rules: r, LeftOut: after.Out()})
	require.NoError(t, err)
	for _, s := range []*Sheet{before, after} {
		if s != nil {
			for d, text := range s.Texts {
				w.texts[d] = string(text)
			}
		}
	}
	w.now = make(map[string]string)
	for _, e := range plan.Forward(have, p.Steps) {
		if e.Kind == plan.File {
			w.now[e.Path] = w.texts[e.Digest]
		}
	}
	return after
}

func newWorld() *world {
	w := &world{
		base:    map[string]string{"bin/quay": "program", "data/a": "a of 1.0", "data/b": "b of 1.0", "cfg/set.ini": "fov=70\nlight=1\n", "Mods/base.txt": "recorded with it"},
		players: map[string]string{"Mods/mine.txt": "mine", "Mods/base.txt": "mine, later", "data/extra": "beside it", "user.ini": "name=me\nfov=1\n"},
		rules:   rules.Rules{Keep: []string{"Mods/**", "user.ini"}, Scratch: []string{"logs/**"}},
		texts:   make(map[digest.Digest]string),
		now:     make(map[string]string),
	}
	for p, text := range w.base {
		w.now[p] = text
	}
	for p, text := range w.players {
		w.now[p] = text
	}
	return w
}

// kinds returns layers of every kind, some of which are about the same files.
func (w *world) kinds() []Layer {
	return []Layer{
		&LeftOut{Patterns: []string{"data/b"}},
		w.overlay("snapshot/0.9", map[string]string{"data/a": "a of 0.9", "data/extra": "extra of 0.9"}, false),
		w.overlay("snapshot/0.8", map[string]string{"data/a": "a of 0.8", "Mods/mine.txt": "mine of 0.8", "data/b": "b of 0.8"}, false),
		w.overlay("mods/trees", map[string]string{"Mods/trees.txt": "trees", "Mods/base.txt": "base of trees", "data/a": "a of trees"}, true),
		w.overlay("mods/harbour", map[string]string{"Mods/mine.txt": "mine of harbour", "Mods/trees.txt": "trees of harbour", "data/extra": "extra of harbour"}, true),
		&Companion{Path: "quay.ini", Text: "skip=1\n"},
		&Companion{Path: "data/extra", Text: "a companion over a file of the player's"},
		&Edit{File: "cfg/set.ini", Find: `fov=(\d+)`, Set: "90"},
		&Edit{File: "cfg/set.ini", Find: `light=(\d+)`, Set: "0"},
		&Edit{File: "user.ini", Find: `fov=(\d+)`, Set: "90"},
		&Edit{File: "user.ini", Find: `name=(\w+)`, Set: "you"},
	}
}

func (w *world) laid(t *testing.T, list []Layer) (*Sheet, map[string]string) {
	s := w.lay(t, nil, list...)
	return s, w.now
}

func TestEveryTwoKindsOfLayersLaidInEachOrderAndLiftedInEachOrder(t *testing.T) {
	n := len(newWorld().kinds())
	for i := range n {
		for j := range n {
			if i == j {
				continue
			}
			t.Run(fmt.Sprint(i, " ", j), func(t *testing.T) {
				w := newWorld()
				a, b := w.kinds()[i], w.kinds()[j]
				never := newWorld()
				_, alone := never.laid(t, []Layer{never.kinds()[j]})
				none := newWorld()
				none.lay(t, nil)

				s := w.lay(t, nil, a, b)
				s = w.lay(t, s, b)
				require.Equal(t, alone, w.now, "%s is as if %s had never been laid", b.Name(), a.Name())
				w.lay(t, s)
				require.Equal(t, none.now, w.now, "nothing is left of %s", b.Name())
			})
		}
	}
}

func TestAnyLayersLaidAndAnyLiftedAreAsIfTheLiftedHadNeverBeenThere(t *testing.T) {
	for seed := range int64(200) {
		r := rand.New(rand.NewSource(seed))
		w := newWorld()
		all := w.kinds()
		r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		list := all[:1+r.Intn(len(all))]
		s := w.lay(t, nil, list...)
		twice := w.lay(t, s, list...)
		require.Equal(t, s.wanted(t), twice.wanted(t), "seed %d: laid twice is laid once", seed)
		for len(list) > 0 {
			at := r.Intn(len(list))
			list = slices.Delete(slices.Clone(list), at, at+1)
			s = w.lay(t, s, list...)
			never := newWorld()
			var same []Layer
			for _, l := range list {
				for _, k := range never.kinds() {
					if k.ID() == l.ID() {
						same = append(same, k)
					}
				}
			}
			never.lay(t, nil, same...)
			require.Equal(t, never.now, w.now, "seed %d, with %d left", seed, len(list))
			w.everyPathHasOneOwner(t, w.sheet(t, s.Covered(), list...))
		}
	}
}

func (s *Sheet) wanted(t *testing.T) plan.State {
	t.Helper()
	m, err := s.Manifest()
	require.NoError(t, err)
	return s.Want(m, nil)
}

// everyPathHasOneOwner: what a layer says to have set is set, and the player's files are theirs unless they are named.
func (w *world) everyPathHasOneOwner(t *testing.T, s *Sheet) {
	t.Helper()
	g := &Ground{Sheet: s, Rules: w.rules}
	for _, e := range w.have() {
		if e.Kind != plan.File {
			continue
		}
		o := g.Of(e.Path, e.Node)
		require.NotEmpty(t, o.Whose, e.Path)
		if o.Whose == Layers {
			require.True(t, o.Piece.Wants(), e.Path)
			require.Equal(t, o.Piece.Node.Digest, e.Digest, e.Path)
		}
		if _, own := w.players[e.Path]; own && o.Whose == Layers {
			require.NotEqual(t, OfBuild, o.Piece.Layer.Kind(), "%s is the player's", e.Path)
		}
	}
	for _, p := range s.Pieces() {
		if p.Wants() {
			is, there := w.have().Get(p.Path)
			require.True(t, there && is.SameContent(p.Node), "%s says that it set %s", p.Layer.Name(), p.Path)
		}
	}
}
