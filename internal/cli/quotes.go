package cli

import (
	"strings"

	"morvant/internal/cli/app"
)

// On Windows a backslash before a closing quotation mark takes that along, and everything up to the next one becomes part
// of the same argument: "Mods\" is what Tab completes. So an argument with a quotation mark in it is never a path or a
// pattern there. What may be any text is excepted.

// texts are the flags whose values may be any text.
var texts = map[string]bool{
	"edit": true, "companion": true, "after-pin": true, "no-after-pin": true, "convert-saves": true, "through": true, "after": true, "notice": true, "argument": true,
	"no-argument": true, "note": true, "title": true, "find": true, "version-rule": true, "waiting-rule": true, "updating-rule": true, "without": true,
}

// textual reports whether what stands behind the words of a command may be any text.
func textual(words []string, arg string) bool {
	switch {
	case len(words) == 0:
		return false
	case words[0] == "launch", words[0] == "saves" && len(words) > 1 && words[1] == "backup", words[0] == "builds" && len(words) > 1 && words[1] == "note":
		return true
	case words[0] == "block":
		name, _, ok := strings.Cut(arg, "=")
		return ok && name != "file" && name != "path"
	}
	return false
}

// swallowed returns the number of the argument in which a quotation mark is that cannot be meant; 0: there is none.
func swallowed(args []string) int {
	var words []string // of the command
	flag := ""         // that the argument may be the value of
	for i, arg := range args {
		if i == 0 {
			continue
		}
		if arg == "--" {
			return 0 // what follows is for another program
		}
		is, value := flag, arg
		if name, ok := strings.CutPrefix(arg, "-"); ok && arg != "-" {
			name, rest, given := strings.Cut(strings.TrimLeft(name, "-"), "=")
			if flag = name; !given {
				if strings.Contains(name, `"`) {
					return i
				}
				continue
			}
			is, value, flag = name, rest, ""
		} else {
			flag = ""
			if is == "" || len(words) == 0 {
				words = append(words, arg)
			}
		}
		if strings.Contains(value, `"`) && !texts[is] && !textual(words, value) {
			return i
		}
	}
	return 0
}

// meant returns the command line that was most likely meant, where a quotation mark was swallowed in an argument.
func meant(args []string, at int) string {
	quoted := func(word string) string {
		if word == "" || strings.ContainsAny(word, " \t") {
			return `"` + word + `"`
		}
		return word
	}
	words := []string{"morvant"}
	for i, arg := range args[1:] {
		if i+1 != at {
			words = append(words, quoted(arg))
			continue
		}
		prefix, value := "", arg
		if name, rest, ok := strings.Cut(arg, "="); ok && strings.HasPrefix(arg, "-") && !strings.Contains(name, `"`) {
			prefix, value = name+"=", rest
		}
		first, rest, _ := strings.Cut(value, `"`)
		words = append(words, prefix+`"`+strings.TrimRight(first, `\`)+`"`)
		if rest = strings.TrimSpace(rest); rest != "" {
			// What came behind lost its own quotation marks in the same way.
			words = append(words, strings.ReplaceAll(rest, `\"`, `"`))
		}
	}
	return strings.Join(words, " ")
}

// misquoted refuses a line in which a quotation mark was swallowed.
func misquoted(args []string) error {
	at := swallowed(args)
	if at == 0 {
		return nil
	}
	return app.Usagef("%s: the backslash before the closing quotation mark has taken it along, and what follows with it; leave that backslash out. It was probably meant like this: %s", args[at], meant(args, at))
}
