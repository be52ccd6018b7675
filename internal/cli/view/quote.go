package view

import (
	"runtime"
	"strings"
	"unicode"
)

// plain reports whether every shell takes a word as it stands.
func plain(word string) bool {
	return word != "" && !strings.ContainsFunc(word, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsNumber(r) && !strings.ContainsRune("_@%+=:,./-", r)
	})
}

// Quoted returns a word of a command line that people may copy into their shell: whatever is
// in it, and whoever wrote it, it stays one word and runs nothing.
func Quoted(word string) string { return quotedFor(runtime.GOOS, word) }

// quotedFor takes double quotes where they are enough, as they mean the same everywhere.
func quotedFor(system, word string) string {
	asIs, special := word, "\"$`\\!"
	if system == "windows" {
		// cmd and PowerShell both take double quotes. What one of the two would expand inside
		// of them is left out: rather a word that is not found than one that does something.
		asIs, special = strings.ReplaceAll(word, `\`, "/"), "\"%!`$"
		word = strings.Map(func(r rune) rune {
			if strings.ContainsRune(special, r) {
				return -1
			}
			return r
		}, word)
	}
	switch {
	case plain(asIs) && !strings.HasPrefix(asIs, "-") && !(system == "windows" && strings.Contains(asIs, "%")):
		return word
	case system == "windows" || !strings.ContainsAny(word, special):
		return `"` + word + `"`
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// QuotedAll quotes the words of a command line.
func QuotedAll(words []string) string {
	list := make([]string, len(words))
	for i, word := range words {
		list[i] = Quoted(word)
	}
	return strings.Join(list, " ")
}
