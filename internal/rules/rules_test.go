package rules

import (
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/volume"
)

func TestARuleThatMatchesAFolderHoldsForEverythingInIt(t *testing.T) {
	m := Rules{Keep: []string{"Mods/**", "Harbours", "*.ini", "**/*.user"}, Scratch: []string{"logs/**", "cache-?"}}.Matcher()
	for p, kept := range map[string]bool{
		"Mods": true, "Mods/a": true, "Mods/a/b/c": true, "Mods2/a": false, "data/Mods/a": false,
		"Harbours/deep/x.map": true, "settings.ini": true, "data/settings.ini": false, "data/x.user": true, "x.user": true,
	} {
		require.Equal(t, kept, m.Kept(p), p)
	}
	require.True(t, m.Scratch("logs/today.txt"))
	require.True(t, m.Scratch("cache-1/x"))
	require.False(t, m.Scratch("cache/x"))
	require.False(t, Rules{}.Matcher().Kept("anything"))
}

func TestPatternsThatCannotBeUsedAreNamed(t *testing.T) {
	for _, p := range []string{"", "  ", "a[", "{a", "/abs", `a\b`, "..", "../x", "a/../../b"} {
		require.ErrorContains(t, Rules{Keep: []string{p}}.Check(), "pattern", p)
		require.Error(t, Rules{Scratch: []string{p}}.Check(), p)
	}
	require.NoError(t, Rules{Keep: []string{"a/**", "{b,c}/*.txt"}}.Check())
}

func TestLetterCaseCountsWhereFoldersMindIt(t *testing.T) {
	ignored := volume.UsualFold("A") == "a"
	m := Rules{Keep: []string{"mods/**"}, Scratch: []string{"Logs/*.TXT"}, Except: []string{"Mods/Theirs.ini"}}.Matcher()
	require.True(t, m.Kept("mods/a.esp"))
	require.Equal(t, ignored, m.Kept("Mods/a.esp"))
	require.Equal(t, ignored, m.Scratch("logs/last.txt"))
	require.Equal(t, !ignored, m.Kept("mods/theirs.ini"), "the exception is in other letters")
	require.Equal(t, ignored, NewSet([]string{"DATA"}).Match("data/deep/down"))
}
