package plan

import (
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/manifest"
)

func TestALinkThatLeadsOutIsThePlayersOwn(t *testing.T) {
	have := State{{"a", Node{Kind: Link, Target: "/elsewhere"}}, {"b", Node{Kind: Link, Target: "../up"}}, {"c", Node{Kind: Link, Target: "a"}}}
	want := state("a=1")
	p, err := Make(Request{Have: have, Want: want, Clean: true, Exact: true})
	require.NoError(t, err)
	var paths []string
	for _, s := range p.Steps {
		paths = append(paths, s.Path)
	}
	require.Equal(t, []string{"a", "c"}, paths, "what is in the way goes, and a link within the folder")
	require.Empty(t, p.Extra)
	p, err = Make(Request{Have: have, Want: want, Exact: true, Links: true})
	require.NoError(t, err)
	require.Len(t, p.Steps, 3, "taking a change back takes its links away")
}

func TestLinksThatLeadOutStandWhereThereIsRoom(t *testing.T) {
	m := &manifest.Manifest{Files: []manifest.File{{Path: "a/b"}, {Path: "c"}}}
	s := FromManifest(m, &manifest.Attributes{Links: map[string]string{"a": "/x", "c/d": "/x", "c": "/x", "e/f/g": "/x", "a/l": "../../x"}})
	require.Equal(t, map[string]string{"a/l": "../../x", "e/f/g": "/x"}, s.Links())
	_, there := s.Get("e/f")
	require.True(t, there, "its folders are there with it")
	require.Empty(t, s.Manifest().Links, "a manifest never has them")
}
