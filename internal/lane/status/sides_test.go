package status

import (
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/rules"
)

func TestAFileIsOfTheModFolderBelowItsKeepRule(t *testing.T) {
	r := rules.Rules{Keep: []string{"Mods/**", "user/content/*/", "*.ini", "\u0130nseln/**"}, IgnoreCase: true}
	for p, folder := range map[string]string{
		"Mods/Trees/a/b.txt":           "Mods/Trees",
		"mods/Trees/b.txt":             "mods/Trees",
		"Mods/readme.txt":              "Mods/readme.txt",
		"user/content/harbour/a/b.sav": "user/content/harbour",
		"options.ini":                  "options.ini",
		"other/b.txt":                  "other",
		"other/deep/er/b.txt":          "other/deep",
		"\u0130nseln/x/y":              "\u0130nseln/x",
		"Modsx/a/b":                    "Modsx/a",
		"i\u0307nseln/x/y":             "i\u0307nseln/x", // longer than its rule
	} {
		require.Equal(t, folder, modFolder(r, p), p)
	}
}
