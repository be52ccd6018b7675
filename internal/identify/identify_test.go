package identify

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/standin"
	"morvant/internal/state"
	"morvant/internal/version"
)

func known(label string, parts map[string]map[string]string) Known {
	k := Known{Build: &state.Build{Label: label}}
	for _, name := range []string{"base", "voices"} {
		if parts[name] == nil {
			continue
		}
		m := &manifest.Manifest{}
		for p, content := range parts[name] {
			m.Files = append(m.Files, manifest.File{Path: p, Size: int64(len(content)), Digest: digest.Of([]byte(content))})
		}
		m.Sort()
		k.Parts = append(k.Parts, Part{Name: name, Required: name == "base", Manifest: m})
	}
	return k
}

func TestBuildsAreRankedByWhatTheFolderHas(t *testing.T) {
	have := make(map[string]digest.Digest)
	for p, content := range map[string]string{"a": "1", "b": "large and changed", "c": "same", "Mods/m": "mine"} {
		have[p] = digest.Of([]byte(content))
	}
	list := rank(have, 1, []Known{
		known("1.0", map[string]map[string]string{"base": {"a": "0", "b": "large", "c": "same"}}),
		known("1.1", map[string]map[string]string{"base": {"a": "1", "b": "large and changed", "c": "same"}, "voices": {"v": "x", "w": "y"}}),
		known("2.0", map[string]map[string]string{"base": {"a": "1", "b": "large and changed", "c": "same", "d": "new"}}),
		known("other", map[string]map[string]string{"base": {"x": "y"}}),
	}, func(p string) string { return p })
	var labels []string
	for _, m := range list {
		labels = append(labels, m.Build.Label)
	}
	require.Equal(t, []string{"1.1", "2.0", "1.0", "other"}, labels)
	best := list[0]
	require.True(t, best.Exact(), "a component that is not there does not count")
	require.Equal(t, []Component{{"base", 3, 3, true}, {"voices", 2, 0, false}}, best.Components)
	require.InDelta(t, 1, best.Share(), 0)
	require.Zero(t, best.Extra, "what is the player's is not extra")
	require.Equal(t, []string{"d"}, list[1].Missing)
	require.Equal(t, []string{"a", "b"}, list[2].Altered)
	require.False(t, list[3].Exact())
	require.Zero(t, list[3].Share())
}

// TestBuildsThatFitAlikeStandInTheirOrder: of two with the same files the first known, and none for its extra components.
func TestBuildsThatFitAlikeStandInTheirOrder(t *testing.T) {
	fold := func(p string) string { return p }
	have := map[string]digest.Digest{"a": digest.Of([]byte("1")), "b": digest.Of([]byte("2")), "v": digest.Of([]byte("x")), "own": digest.Of([]byte("o"))}
	same := map[string]string{"a": "1", "b": "2"}
	builds := []Known{
		known("newer", map[string]map[string]string{"base": same}),
		known("older", map[string]map[string]string{"base": same}),
		known("with voices", map[string]map[string]string{"base": same, "voices": {"v": "x"}}),
		known("other voices", map[string]map[string]string{"base": same, "voices": {"v": "z"}}),
	}
	labels := func(list []*Match) (l []string) {
		for _, m := range list {
			l = append(l, m.Build.Label)
		}
		return l
	}
	require.Equal(t, []string{"with voices", "newer", "older", "other voices"}, labels(rank(have, 1, builds, fold)))
	for _, m := range rank(have, 1, builds, fold) {
		switch m.Build.Label {
		case "with voices":
			require.Zero(t, m.Extra)
			require.True(t, m.Exact())
		case "newer", "older":
			require.Equal(t, 1, m.Extra, "the voices")
		case "other voices":
			require.Equal(t, []string{"v"}, m.Altered, "a component that is there otherwise counts")
		}
	}
	list := origins(have, builds[3].Build, builds, fold)
	require.Equal(t, []Origin{{builds[2].Build, []string{"v"}}}, list)
	delete(have, "v")
	require.Equal(t, []string{"newer", "older"}, labels(rank(have, 1, builds, fold))[:2])
}

func TestWhatAGameSaysOfItself(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, standin.Quay{Bytes: 1 << 20}.Write(dir, "1.1.1"))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "logs"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "logs", "last.txt"), []byte("Cinder Quay 1.0.0 started\n"), 0o644))
	list := []version.Rule{{File: "logs/last.txt", Find: `Quay (\S+) started`}, {File: "none.txt", Find: "(x)"}, {File: "readme.txt", Find: "(no such line)"}}
	says, err := Says(dir, "", list)
	require.NoError(t, err)
	require.Len(t, says, 2)
	require.Equal(t, "bin/quay.exe", says[0].Source, "programs are found where none is named")
	require.True(t, version.Means(says[0].Says, "1.1.1"))
	require.Equal(t, Evidence{"logs/last.txt", "1.0.0", true}, says[1])
	known := []string{"1.0.0", "1.1.1", "1.2.0"}
	require.Equal(t, says[1:], Disagrees(says, "1.1.1", known))
	require.Len(t, Disagrees(says, "1.2.0", known), 2)
	require.Empty(t, Disagrees([]Evidence{{Source: "x", Says: "build 77"}}, "1.1.1", known), "what means no known build says nothing")
	_, err = Says(filepath.Join(dir, "nowhere"), "", nil)
	require.Error(t, err)
}
