package cli

import (
	"regexp"
	"runtime"
	"strings"
)

// plain is what every shell takes as it stands.
var plain = regexp.MustCompile(`^[\p{L}\p{N}_@%+=:,./-]+$`)

// quoted returns a word of a command line that people may copy into their shell: whatever is
// in it, and whoever wrote it, it stays one word and runs nothing.
func quoted(word string) string { return quotedFor(runtime.GOOS, word) }

func quotedFor(system, word string) string {
	safe := plain.MatchString(word) && !strings.HasPrefix(word, "-")
	if system == "windows" {
		// cmd and PowerShell both take double quotes. What one of the two would expand inside
		// of them is left out: rather a word that is not found than one that does something.
		if plain.MatchString(strings.ReplaceAll(word, `\`, "/")) && !strings.HasPrefix(word, "-") && !strings.Contains(word, "%") {
			return word
		}
		word = strings.Map(func(r rune) rune {
			if strings.ContainsRune("\"%!`$", r) {
				return -1
			}
			return r
		}, word)
		return `"` + word + `"`
	}
	if safe {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

func quotedAll(words []string) string {
	list := make([]string, len(words))
	for i, word := range words {
		list[i] = quoted(word)
	}
	return strings.Join(list, " ")
}
