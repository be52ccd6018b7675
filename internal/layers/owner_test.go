package layers

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/plan"
)

func node1(text string) plan.Node { return node([]byte(text)) }

// TestEveryFileHasOneOwner: each owner, and the reason that counts where several could.
func TestEveryFileHasOneOwner(t *testing.T) {
	w := newWorld()
	s := w.sheet(t, map[string]plan.Node{"Mods/mine.txt": node1("mine")}, w.kinds()...)
	ground := func(sheet *Sheet) *Ground {
		g := &Ground{Sheet: sheet, Rules: w.rules, Theirs: map[string]bool{"data/pack.txt": true}}
		g.Known = NewIndex(w.rules, slices.Values([]string{"data/old.txt", "data/pack.txt", "data/shared.txt", "Mods/kept.txt", "logs/old.txt"}))
		g.Known.Add(0, false, w.manifest(map[string]string{"data/old.txt": "old", "data/pack.txt": "pack", "Mods/kept.txt": "kept", "logs/old.txt": "old"}))
		g.Known.Add(1, true, w.manifest(map[string]string{"data/shared.txt": "shared"}))
		g.Known.Add(2, false, w.manifest(map[string]string{"data/shared.txt": "shared"}))
		return g
	}
	for name, c := range map[string]struct {
		path, text string
		whose      Whose
		sure       bool
	}{
		"the build's":                            {"bin/quay", "program", Layers, false},
		"a file of the build that was changed":   {"bin/quay", "other", Unknown, false},
		"an overlay's":                           {"data/b", "b of 0.8", Layers, false},
		"what lies beneath an overlay":           {"data/b", "b of 1.0", Unknown, false},
		"a set's, over a keep rule":              {"Mods/trees.txt", "trees of harbour", Layers, false},
		"the player's beneath it":                {"Mods/mine.txt", "mine", Unknown, false},
		"the player's, by a rule":                {"Mods/else.txt", "x", Player, false},
		"by a rule, though a snapshot has it":    {"Mods/kept.txt", "kept", Player, false},
		"by a rule, though the build has it":     {"Mods/base.txt", "recorded with it", Unknown, false},
		"the player's, with a value that is set": {"user.ini", "name=you\nfov=90\n", Player, false},
		"left over from a snapshot":              {"data/old.txt", "old", LeftOver, false},
		"left over, and the game's":              {"data/shared.txt", "shared", LeftOver, true},
		"of a component that was not chosen":     {"data/pack.txt", "pack", Unknown, false},
		"left over before it is scratch":         {"logs/old.txt", "old", LeftOver, false},
		"scratch":                                {"logs/last.txt", "x", Nobody, false},
		"of nobody that is known":                {"data/odd.txt", "x", Unknown, false},
	} {
		o := ground(s).Of(c.path, node1(c.text))
		require.Equal(t, c.whose, o.Whose, "%s: %s", name, o)
		require.Equal(t, c.sure, o.Whose == LeftOver && o.Sure, name)
		require.NotEmpty(t, o.Why, name)
	}
	require.Equal(t, Unknown, ground(s).Of("none", plan.Node{}).Whose)
	require.Equal(t, []int{1, 2}, ground(nil).Of("data/shared.txt", node1("shared")).Builds, "the newest first")

	have := plan.State{}.With(map[string]plan.Node{
		"bin/quay": node1("program"), "data/odd.txt": node1("x"), "data/old.txt": node1("old"), "data/shared.txt": node1("shared"), "Mods/else.txt": node1("x"),
		"out": {Kind: plan.Link, Target: "/elsewhere"}, "data": {Kind: plan.Dir},
	})
	require.Equal(t, []string{"bin/quay", "data/shared.txt"}, slices.Sorted(maps.Keys(ground(s).Leaves(have, nil))))
	all := ground(s).Leaves(have, func(o Owner) bool { return slices.Contains(o.Builds, 0) })
	require.Equal(t, []string{"bin/quay", "data/old.txt", "data/shared.txt"}, slices.Sorted(maps.Keys(all)))
}

// TestWhatThePlayerHasChangedStaysWhenItsLayerIsLifted: file by file, and said.
func TestWhatThePlayerHasChangedStaysWhenItsLayerIsLifted(t *testing.T) {
	for name, c := range map[string]struct {
		layer      func(w *world) Layer
		path, text string
		stays      bool
	}{
		"a companion":                    {func(*world) Layer { return &Companion{Path: "quay.ini", Text: "x"} }, "quay.ini", "changed", true},
		"a companion that is gone":       {func(*world) Layer { return &Companion{Path: "quay.ini", Text: "x"} }, "quay.ini", "", false},
		"a value in a file of the build": {func(*world) Layer { return &Edit{File: "cfg/set.ini", Find: `fov=(\d+)`, Set: "90"} }, "cfg/set.ini", "fov=90\nlight=7\n", true},
		"a set's file where the build has none": {func(w *world) Layer {
			return w.overlay("mods/trees", map[string]string{"data/trees": "trees"}, true)
		}, "data/trees", "changed", true},
		"a set's file where the build has one": {func(w *world) Layer {
			return w.overlay("mods/trees", map[string]string{"data/a": "a of trees"}, true)
		}, "data/a", "changed", false},
	} {
		w := newWorld()
		before := w.lay(t, nil, c.layer(w))
		if w.now[c.path] = c.text; c.text == "" {
			delete(w.now, c.path)
		}
		after := w.sheet(t, nil)
		lifted := Lift(before, after, w.have())
		require.Len(t, lifted, 1, name)
		require.Equal(t, c.stays, lifted[0].Stays, name)
		require.Equal(t, c.stays, lifted[0].Why != "", name)
		w.lay(t, before)
		if c.stays {
			require.Equal(t, c.text, w.now[c.path], name)
		} else {
			require.Equal(t, newWorld().now[c.path], w.now[c.path], name)
		}
	}
}

func TestALayerThatCannotBeLaidSaysWhy(t *testing.T) {
	w := newWorld()
	lay := func(l Layer) error {
		base := w.manifest(w.base)
		_, err := New(w.site(), base, w.sheet(t, nil).Attributes(), nil, nil, l)
		return err
	}
	require.ErrorIs(t, lay(&Overlay{Of: "x", Pattern: "none/**", Manifest: w.manifest(nil)}), ErrOverlay)
	require.ErrorIs(t, lay(&Edit{File: "cfg/set.ini", Find: `none=(\d+)`, Set: "1"}), ErrEdit)
	require.ErrorIs(t, lay(&Edit{File: "user.ini", Find: `none=(\d+)`, Set: "1"}), ErrEdit)
	require.NoError(t, lay(&Edit{File: "absent.ini", Find: `fov=(\d+)`, Set: "1"}), "a repair sets it once it is there")
	later := w.site()
	later.Fresh = false
	s, err := New(later, w.manifest(w.base), w.sheet(t, nil).Attributes(), nil, nil, &Edit{File: "user.ini", Find: `none=(\d+)`, Set: "1"})
	require.NoError(t, err, "the player has taken the line out of a file of theirs")
	require.Contains(t, s.Notes[0], "no longer has the line")
	_, err = w.sheet(t, nil, &Companion{Path: "data/a/below", Text: "x"}).Manifest()
	require.Error(t, err, "a file cannot be a folder, too")
	two := w.sheet(t, nil, w.overlay("mods/a", map[string]string{"x": "1"}, true), w.overlay("mods/b", map[string]string{"x": "2"}, true))
	require.Contains(t, two.Notes[0], "two overlays have x")
	require.Equal(t, digest.Of([]byte("2")), two.At("x").Node.Digest)
}
