package strict

import (
	"testing"

	"github.com/stretchr/testify/require"
)

type file struct {
	Keep  []string `toml:"keep"`
	Rules []struct {
		File string `toml:"file"`
	} `toml:"rule"`
}

func TestKeysAreWrittenAsTheyAre(t *testing.T) {
	var f file
	require.NoError(t, Decode([]byte("keep = ['Mods/**']\n[[rule]]\nfile = 'A'\n"), &f))
	require.Equal(t, "A", f.Rules[0].File)
	for text, want := range map[string]string{
		"# a\n\nKeep = ['x']\n":                 `line 3: unknown key "Keep"`,
		"keep = ['x']\nKEEP = ['y']\n":          `line 2: unknown key "KEEP"`,
		"[[rule]]\nfile = 'a'\n[[Rule]]\n":      `line 3: unknown key "Rule"`,
		"[[rule]]\nFile = 'a'\n":                `line 2: unknown key "File"`,
		"keeps = 1\n":                           `line 1: unknown key "keeps"`,
		"[[rule]]\nfiles = 1\n":                 `unknown key "rule.files"`,
		"rule = [{file = 'a'}, {FILE = 'b'}]\n": `line 1: unknown key "FILE"`,
		"keep = [":                              "line 1, column",
		"keep = 5":                              "line 1, column 8: keep must be a list in [ ], not a number",
		"keep = ['a', 3]":                       "keep must be a text in quotes, not a number",
		"[[rule]]\nfile = true":                 "rule.file must be a text in quotes, not true or false",
		"rule = 3":                              "rule must be a table, not a number",
	} {
		require.ErrorContains(t, Decode([]byte(text), &file{}), want, text)
	}
}
