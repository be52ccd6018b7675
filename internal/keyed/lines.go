package keyed

import (
	"fmt"
	"strings"
)

// eachLine calls f for each line with its range, without what ends it, and where the next begins.
func eachLine(text string, at int, f func(start, end, next int)) {
	for at < len(text) {
		end, next := len(text), len(text)
		if i := strings.IndexByte(text[at:], '\n'); i >= 0 {
			end, next = at+i, at+i+1
		}
		if end > at && text[end-1] == '\r' {
			end--
		}
		f(at, end, next)
		at = next
	}
}

// trimmed narrows a range to what is not blank.
func trimmed(text string, s span) span {
	for s.start < s.end && (text[s.start] == ' ' || text[s.start] == '\t') {
		s.start++
	}
	for s.end > s.start && (text[s.end-1] == ' ' || text[s.end-1] == '\t') {
		s.end--
	}
	return s
}

// parseLines reads lines of key and value, in sections or not.
func parseLines(text string, at int, sections bool) *structure {
	s := &structure{}
	var path []string
	last := at // the end of the last line of the section that is not blank
	separator := "="
	over := func() {
		path, at, separator := path, last, separator
		s.groups = append(s.groups, group{path, func(names []string, value string) (Edit, error) {
			return addLine(text, at, path, names, separator, value, sections)
		}})
	}
	eachLine(text, at, func(start, end, next int) {
		here := trimmed(text, span{start, end})
		body := text[here.start:here.end]
		if body == "" {
			return
		}
		switch {
		case strings.HasPrefix(body, "#"), strings.HasPrefix(body, ";"), strings.HasPrefix(body, "//"):
		case sections && sectionName(body) != "":
			over()
			path = []string{sectionName(body)}
		default:
			if i := strings.IndexAny(body, "=:"); i > 0 {
				key := strings.TrimSpace(body[:i])
				v := trimmed(text, span{here.start + i + 1, end})
				separator = text[here.start+len(strings.TrimRight(body[:i], " \t")) : v.start]
				s.items = append(s.items, item{append(append([]string{}, path...), strings.Trim(key, `"`)), lineValue(text, v, span{start, next})})
			}
		}
		last = next
	})
	over()
	return s
}

// sectionName is the name of the section that a line begins; empty if it begins none. A remark may stand behind it.
func sectionName(body string) string {
	if body[0] != '[' {
		return ""
	}
	for i := range len(body) {
		if body[i] != ']' {
			continue
		}
		if rest := strings.TrimLeft(body[i+1:], " \t"); rest == "" || rest[0] == ';' || rest[0] == '#' {
			return strings.TrimSpace(body[1:i])
		}
	}
	return ""
}

// lineValue is a value in a line; one in quotes keeps them.
func lineValue(text string, v, entry span) Value {
	body := text[v.start:v.end]
	if len(body) >= 2 && body[0] == '"' && body[len(body)-1] == '"' {
		return Value{Text: body[1 : len(body)-1], Start: v.start, End: v.end, entry: entry, raw: func(text string) (string, error) {
			raw, err := plain(text)
			return `"` + raw + `"`, err
		}}
	}
	return Value{Text: body, Start: v.start, End: v.end, entry: entry, raw: func(text string) (string, error) {
		if raw, err := plain(text); err != nil || strings.TrimSpace(raw) == raw {
			return raw, err
		}
		return "", fmt.Errorf("%w: \"%s\" begins or ends with blanks", ErrValue, text)
	}}
}

func addLine(text string, at int, path, names []string, separator, value string, sections bool) (Edit, error) {
	raw, err := plain(value)
	if err != nil {
		return Edit{}, err
	}
	entry := names[len(names)-1] + separator + raw
	switch {
	case len(names) == 1:
		return atEnd(text, at, entry), nil
	case len(names) == 2 && len(path) == 0 && sections:
		return atEnd(text, len(text), "["+names[0]+"]", entry), nil
	}
	return Edit{}, fmt.Errorf("%w: \"%s\"", ErrPath, strings.Join(names, "/"))
}

// parseRegistry reads registry text: [key], then "name"=value, @ for a value without a name. A
// value goes on in the next line after a backslash.
func parseRegistry(text string, at int) *structure {
	s := &structure{}
	var path []string
	last := at
	over := func() {
		path, at := path, last
		s.groups = append(s.groups, group{path, func(names []string, value string) (Edit, error) { return addRegistry(text, at, path, names, value) }})
	}
	var open *item // a value that goes on
	eachLine(text, at, func(start, end, next int) {
		here := trimmed(text, span{start, end})
		body := text[here.start:here.end]
		switch {
		case open != nil:
			open.End, open.entry.end = here.end, next
			open.Text += body
		case body == "":
			return
		case body[0] == '[' && strings.HasSuffix(body, "]"):
			over()
			path = []string{body[1 : len(body)-1]}
		case body[0] == '"' || body[0] == '@':
			name, rest, ok := registryName(body)
			if !ok {
				break
			}
			v := trimmed(text, span{here.end - len(rest), end})
			s.items = append(s.items, item{append(append([]string{}, path...), name), registryValue(text, v, span{start, next})})
			open = &s.items[len(s.items)-1]
		}
		if open != nil && !strings.HasSuffix(body, `\`) {
			open = nil
		}
		last = next
	})
	over()
	return s
}

// registryName splits "name"=value.
func registryName(body string) (name, rest string, ok bool) {
	if body[0] == '@' {
		rest, ok = strings.CutPrefix(body[1:], "=")
		return "@", rest, ok
	}
	var b strings.Builder
	for i := 1; i < len(body); i++ {
		switch {
		case body[i] == '\\' && i+1 < len(body):
			i++
			b.WriteByte(body[i])
		case body[i] == '"':
			rest, ok = strings.CutPrefix(body[i+1:], "=")
			return b.String(), rest, ok
		default:
			b.WriteByte(body[i])
		}
	}
	return "", "", false
}

func registryValue(text string, v, entry span) Value {
	body := text[v.start:v.end]
	if len(body) >= 2 && body[0] == '"' && body[len(body)-1] == '"' {
		return Value{Text: unquoted(body), Start: v.start, End: v.end, entry: entry, raw: quotedRaw}
	}
	return Value{Text: body, Start: v.start, End: v.end, entry: entry, raw: plain}
}

// unquoted is what a text in quotes says; a backslash stands before a quote and a backslash.
func unquoted(body string) string {
	return strings.NewReplacer(`\\`, `\`, `\"`, `"`).Replace(body[1 : len(body)-1])
}

func quotedRaw(text string) (string, error) {
	raw, err := plain(text)
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(raw) + `"`, err
}

func addRegistry(text string, at int, path, names []string, value string) (Edit, error) {
	raw, err := plain(value)
	if err == nil && !strings.HasPrefix(value, "dword:") && !strings.HasPrefix(value, "hex") {
		raw, err = quotedRaw(value)
	}
	if err != nil {
		return Edit{}, err
	}
	name := names[len(names)-1]
	if name != "@" {
		if name, err = quotedRaw(name); err != nil {
			return Edit{}, err
		}
	}
	entry := name + "=" + raw
	switch {
	case len(names) == 1 && len(path) == 1:
		return atEnd(text, at, entry), nil
	case len(names) == 2:
		return atEnd(text, len(text), "["+names[0]+"]", entry), nil
	}
	return Edit{}, fmt.Errorf("%w: \"%s\"", ErrPath, strings.Join(names, "/"))
}
