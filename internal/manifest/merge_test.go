package manifest

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestComponentsAreMerged(t *testing.T) {
	base := &Manifest{Files: []File{{"bin/a", 1, d("a")}, {"z", 2, d("z")}}, EmptyDirs: []string{"voices/en", "logs"}}
	voices := &Manifest{Files: []File{{"voices/en/b", 3, d("b")}}, Links: []Link{{"voices/l", "en"}}, EmptyDirs: []string{"logs"}}
	m, err := Merge(base, voices)
	require.NoError(t, err)
	require.Equal(t, []string{"bin/a", "voices/en/b", "z"}, paths(m.Files))
	require.Equal(t, []string{"logs"}, m.EmptyDirs, "what one component fills is not empty")
	require.Len(t, m.Links, 1)
	back, err := Merge(voices, base)
	require.NoError(t, err)
	require.Equal(t, m.Digest(), back.Digest(), "in any order")

	one, err := Merge(base)
	require.NoError(t, err)
	require.Equal(t, base.Files, one.Files)
	none, err := Merge()
	require.NoError(t, err)
	require.Empty(t, none.Files)
}

func TestComponentsInEachOthersWayAreRefused(t *testing.T) {
	base := &Manifest{Files: []File{{"a/b", 1, d("1")}}}
	for name, other := range map[string]*Manifest{
		"the same path":        {Files: []File{{"a/b", 1, d("2")}}},
		"a file for a folder":  {Files: []File{{"a", 1, d("1")}}},
		"a link for a folder":  {Links: []Link{{"a", "x"}}},
		"below another's file": {Files: []File{{"a/b/c", 1, d("1")}}},
	} {
		_, err := Merge(base, other)
		require.Error(t, err, name)
	}
}
