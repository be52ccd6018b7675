// Package strict reads TOML that people write, and take from each other: a key that is not
// known, or known in other letters, is an error with its line.
package strict

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Mark is what some editors begin a text in UTF-8 with. It says nothing.
const Mark = "\uFEFF"

// Text returns a text without the mark.
func Text(b []byte) []byte { return bytes.TrimPrefix(b, []byte(Mark)) }

// Decode reads b into a struct whose keys are all written in small letters.
func Decode(b []byte, into any) error {
	b = Text(b)
	err := toml.NewDecoder(bytes.NewReader(b)).DisallowUnknownFields().Decode(into)
	var unknown *toml.StrictMissingError
	var syntax *toml.DecodeError
	switch {
	case errors.As(err, &unknown) && len(unknown.Errors) > 0:
		line, _ := unknown.Errors[0].Position()
		return notKnown(line, strings.Join(unknown.Errors[0].Key(), "."))
	case errors.As(err, &syntax):
		line, column := syntax.Position()
		return fmt.Errorf("line %d, column %d: %s", line, column, plain(syntax))
	case err != nil:
		return err
	}
	// The library takes keys in other letters too.
	var all map[string]any
	if err := toml.Unmarshal(b, &all); err != nil {
		return err
	}
	if key := capital(all); key != "" {
		return notKnown(lineOf(b, key), key)
	}
	return nil
}

// wrongType finds what the library says of a value of another type.
var wrongType = regexp.MustCompile(`cannot decode TOML (\S+) into (?:struct field .*?(\w+)|\S+) of type (.+)$|cannot store a (\S+) in an? (\S+)`)

// types are the library's words for types, and ours.
var types = map[string]string{
	"string": "a text in quotes", "integer": "a number", "float": "a number", "bool": "true or false", "boolean": "true or false", "array": "a list in [ ]",
	"table": "a table", "int": "a number", "int64": "a number",
}

func ours(word string) string {
	switch {
	case strings.Contains(word, ".") || strings.Contains(word, "struct"):
		return "a table"
	case strings.HasPrefix(word, "[]"):
		return "a list in [ ]"
	}
	if text := types[word]; text != "" {
		return text
	}
	return word
}

// plain says what is wrong in the words of those who write the file.
func plain(err *toml.DecodeError) string {
	text := strings.TrimPrefix(err.Error(), "toml: ")
	m := wrongType.FindStringSubmatch(text)
	switch {
	case m == nil:
		return text
	case m[4] != "":
		return fmt.Sprintf("this must be %s, not %s", ours(m[5]), ours(m[4]))
	}
	key := strings.Join(err.Key(), ".")
	if key == "" {
		key = "this"
	}
	return fmt.Sprintf("%s must be %s, not %s", key, ours(m[3]), ours(m[1]))
}

func notKnown(line int, key string) error {
	return fmt.Errorf("line %d: unknown key \"%s\"", line, key)
}

// capital finds a key that is not in small letters.
func capital(v any) string {
	switch v := v.(type) {
	case map[string]any:
		for key, inner := range v {
			if key != strings.ToLower(key) {
				return key
			}
			if found := capital(inner); found != "" {
				return found
			}
		}
	case []any:
		for _, inner := range v {
			if found := capital(inner); found != "" {
				return found
			}
		}
	}
	return ""
}

func lineOf(b []byte, key string) int {
	at := regexp.MustCompile(`(?m)["'\s.\[{]?(` + regexp.QuoteMeta(key) + `)["'\s.\]]*(=|\]|$)`).FindSubmatchIndex(b)
	if at == nil {
		return 1
	}
	return 1 + bytes.Count(b[:at[2]], []byte("\n"))
}
