// Package keyed finds single values in structured text files by their path, and changes them so
// that every other byte stays: nested blocks of quoted keys, JSON, INI sections, XML attributes,
// lines of key and value, exported registry text.
//
// A path is a list of names; letter case does not count. The result is a list of edits: which
// bytes of the text to replace, and with what. Nothing here touches a file.
package keyed

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Format is how a file is structured.
type Format string

// The formats.
const (
	KeyValue Format = "key-value" // lines of key and value, with = or :
	INI      Format = "ini"       // the same in [sections]
	JSON     Format = "json"
	XML      Format = "xml"      // elements, the last name is @attribute, or an element with nothing but text
	Nested   Format = "nested"   // "key" "value" and "key" { ... }
	Registry Format = "registry" // [key] and "name"=value, as the registry of Windows is exported
)

// Formats lists them.
func Formats() []Format { return []Format{KeyValue, INI, JSON, XML, Nested, Registry} }

// Errors that callers test for.
var (
	ErrFormat  = errors.New("the file is not structured as the rule says")
	ErrMissing = errors.New("there is no such key")
	ErrTwice   = errors.New("the key is there twice")
	ErrValue   = errors.New("the value cannot stand there")
	ErrPath    = errors.New("not a path of a key")
)

// ParsePath splits a path at its slashes; \/ is a slash in a name.
func ParsePath(path string) ([]string, error) {
	var names []string
	var b strings.Builder
	for i := 0; i < len(path); i++ {
		switch {
		case path[i] == '\\' && i+1 < len(path) && path[i+1] == '/':
			i++
			b.WriteByte('/')
		case path[i] == '/':
			names = append(names, b.String())
			b.Reset()
		default:
			b.WriteByte(path[i])
		}
	}
	names = append(names, b.String())
	if slices.Contains(names, "") || strings.ContainsAny(path, "\x00\r\n") {
		return nil, fmt.Errorf("%w: \"%s\"", ErrPath, path)
	}
	return names, nil
}

// Value is a value in a text: what it says, and where what stands for it is.
type Value struct {
	Text       string
	Start, End int
	// entry is all of the key and its value, as it is taken out.
	entry span
	raw   func(text string) (string, error)
}

type span struct{ start, end int }

// Edit puts Text in the place of the bytes from Start to End of a text.
type Edit struct {
	Start, End int
	Text       string
}

// In returns the text with the edit made.
func (e Edit) In(text string) string { return text[:e.Start] + e.Text + text[e.End:] }

// To returns the edit that makes the value say something else.
func (v *Value) To(text string) (Edit, error) {
	raw, err := v.raw(text)
	return Edit{v.Start, v.End, raw}, err
}

// Out returns the edit that takes the key and its value out. added is the text that was put in
// when it was added: if it still stands there just so, exactly that goes.
func (v *Value) Out(text, added string) Edit {
	raw := text[v.Start:v.End]
	for at := strings.Index(added, raw); at >= 0; {
		start := v.Start - at
		if start >= 0 && strings.HasPrefix(text[start:], added) {
			return Edit{start, start + len(added), ""}
		}
		next := strings.Index(added[at+1:], raw)
		if next < 0 {
			break
		}
		at += 1 + next
	}
	return Edit{v.entry.start, v.entry.end, ""}
}

// item is a value with its path.
type item struct {
	path []string
	Value
}

// group is what keys stand in.
type group struct {
	path []string
	// add returns the edit that adds a key in it, which stands in further groups if there are
	// several names.
	add func(names []string, text string) (Edit, error)
}

// structure is what a text holds.
type structure struct {
	items  []item
	groups []group
}

func parse(f Format, text string, path []string) (*structure, error) {
	start := 0
	if strings.HasPrefix(text, mark) {
		start = len(mark)
	}
	switch f {
	case KeyValue, INI:
		return parseLines(text, start, f == INI), nil
	case Registry:
		return parseRegistry(text, start), nil
	case JSON:
		return parseJSON(text, start, path)
	case XML:
		return parseXML(text, start, path)
	case Nested:
		return parseNested(text, start, path)
	}
	return nil, fmt.Errorf("%w: there is no format \"%s\"", ErrFormat, f)
}

// mark is what some files in UTF-8 begin with.
const mark = "\uFEFF"

// through reports whether a path leads through a name at this depth, and to it.
func through(path []string, depth int, name string) (passes, ends bool) {
	if depth >= len(path) || !sameName(path[depth], name) {
		return false, false
	}
	return true, depth == len(path)-1
}

func samePath(a, b []string) bool { return slices.EqualFunc(a, b, sameName) }

func sameName(a, b string) bool { return strings.EqualFold(a, b) }

// Find finds the value at a path. It is ErrMissing if there is none, and ErrTwice, with the lines,
// if there are several.
func Find(f Format, text string, path []string) (*Value, error) {
	s, err := parse(f, text, path)
	if err != nil {
		return nil, err
	}
	var found []*item
	for i := range s.items {
		if samePath(s.items[i].path, path) {
			found = append(found, &s.items[i])
		}
	}
	switch len(found) {
	case 0:
		return nil, fmt.Errorf("%s: %w", strings.Join(path, "/"), ErrMissing)
	case 1:
		return &found[0].Value, nil
	}
	return nil, fmt.Errorf("%s: %w: \"%s\" in line %d, \"%s\" in line %d", strings.Join(path, "/"), ErrTwice,
		found[0].Text, line(text, found[0].Start), found[1].Text, line(text, found[1].Start))
}

func line(text string, at int) int { return 1 + strings.Count(text[:at], "\n") }

// Add returns the edit that adds a key that is missing, in the innermost group of its path that is
// there.
func Add(f Format, text string, path []string, value string) (Edit, error) {
	s, err := parse(f, text, path)
	if err != nil {
		return Edit{}, err
	}
	best := -1
	for i, g := range s.groups {
		if len(g.path) < len(path) && samePath(g.path, path[:len(g.path)]) && (best < 0 || len(g.path) > len(s.groups[best].path)) {
			best = i
		}
	}
	if best < 0 {
		return Edit{}, fmt.Errorf("%s: %w, and nothing that it could stand in", strings.Join(path, "/"), ErrMissing)
	}
	return s.groups[best].add(path[len(s.groups[best].path):], value)
}

// eol is how the lines of a text end.
func eol(text string) string {
	if i := strings.IndexByte(text, '\n'); i > 0 && text[i-1] == '\r' {
		return "\r\n"
	}
	return "\n"
}

// plain is the raw form of a value that stands in a line as it is.
func plain(text string) (string, error) {
	if strings.ContainsAny(text, "\r\n\x00") {
		return "", fmt.Errorf("%w: \"%s\" is more than a line", ErrValue, text)
	}
	return text, nil
}

// atEnd is the edit that adds lines at a place that is the end of one.
func atEnd(text string, at int, lines ...string) Edit {
	nl := eol(text)
	added := strings.Join(lines, nl)
	if at == 0 || text[at-1] == '\n' || text[:at] == mark {
		return Edit{at, at, added + nl}
	}
	return Edit{at, at, nl + added}
}
