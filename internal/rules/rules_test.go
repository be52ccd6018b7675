package rules

import (
	"slices"
	"strings"
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

// TestAPatternCannotKeepTheMatcherBusy: one like this takes hours where it is tried.
func TestAPatternCannotKeepTheMatcherBusy(t *testing.T) {
	for _, p := range []string{strings.Repeat("{a,aa}", 30) + "b", strings.Repeat("{a,{b,c},d}", 8), "{" + strings.Repeat("a,", 300) + "b}", strings.Repeat("a", 1001)} {
		require.ErrorContains(t, Rules{Keep: []string{p}}.Check(), "too many choices", p)
	}
	require.ErrorContains(t, Rules{Scratch: slices.Repeat([]string{"{a,b}/**"}, 3000)}.Check(), "too many patterns")
	for _, p := range []string{"**/*.{exe,dll,so,dylib,sh,bat}", "{Mods,Maps}/{a,b,c}/*.{x,y}"} {
		require.NoError(t, Rules{Keep: []string{p}}.Check(), p)
	}
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

func TestAPatternMayHaveJustAsManyChoicesAndNoMore(t *testing.T) {
	most := strings.Repeat("{a,b}", 8) // 256
	require.NoError(t, Rules{Keep: []string{most}}.Check())
	require.ErrorContains(t, Rules{Keep: []string{most + "{a,b}"}}.Check(), "too many choices")
	require.NoError(t, Rules{Keep: slices.Repeat([]string{most}, 16)}.Check(), "4096 in all")
	require.ErrorContains(t, Rules{Keep: append(slices.Repeat([]string{most}, 16), "x")}.Check(), "too many patterns")
	require.NoError(t, Rules{Keep: []string{strings.Repeat("a", 1000)}}.Check())
	require.Equal(t, 1, choices(`\{a,b\}`), "these are no choices")
	require.Equal(t, 1, choices("a,b}"))
	require.Equal(t, 6, choices("{a,b}x{c,d,e}"))
}

// TestPatternsAreTakenAsTheyAreMeant however they are typed.
func TestPatternsAreTakenAsTheyAreMeant(t *testing.T) {
	for typed, meant := range map[string]string{
		`Mods\**`: "Mods/**", `Mods\`: "Mods", "Mods/": "Mods", "./Mods/*": "Mods/*", `C:\Games\Quay\Mods\**`: "Mods/**", "C:/Games/Quay/settings.ini": "settings.ini",
		"/games/quay/Mods": "Mods", "/games/other/Mods": "/games/other/Mods", "": "", "/": "/", "Mods/a[[]1].txt": "Mods/a[[]1].txt",
	} {
		require.Equal(t, meant, Typed(typed, `C:\Games\Quay`, "/games/quay/"), typed)
	}
}

// TestALiteralPatternIsOneThatCanBeTyped, and matches its path alone.
func TestALiteralPatternIsOneThatCanBeTyped(t *testing.T) {
	for _, p := range []string{"a.txt", "Mods/[x] {y,z} *?.pak", "a]b}c"} {
		lit := Literal(p)
		require.NoError(t, Rules{Keep: []string{lit}}.Check())
		require.Equal(t, lit, Typed(lit))
		require.True(t, NewSet([]string{lit}).Match(p), lit)
		require.False(t, NewSet([]string{lit}).Match("x"+p))
		require.False(t, NewSet([]string{lit}).Match("Mods/x y zz.pak"))
	}
}
