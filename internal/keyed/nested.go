package keyed

import (
	"fmt"
	"strings"
)

// token is a word, in quotes or not, or a brace.
type token struct {
	span
	text   string
	quoted bool
	brace  byte // 0: it is a word
}

// tokens cuts a text of nested blocks; // begins a remark.
func tokens(text string, at int) ([]token, error) {
	var list []token
	for at < len(text) {
		switch c := text[at]; {
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
			at++
		case strings.HasPrefix(text[at:], "//"):
			if i := strings.IndexByte(text[at:], '\n'); i >= 0 {
				at += i
			} else {
				at = len(text)
			}
		case c == '{' || c == '}':
			list = append(list, token{span: span{at, at + 1}, brace: c})
			at++
		case c == '"':
			end := at + 1
			for end < len(text) && text[end] != '"' {
				if text[end] == '\\' {
					end++
				}
				end++
			}
			if end >= len(text) {
				return nil, fmt.Errorf("%w: the quotes in line %d do not end", ErrFormat, line(text, at))
			}
			list = append(list, token{span: span{at, end + 1}, text: unquoted(text[at : end+1]), quoted: true})
			at = end + 1
		default:
			end := at
			for end < len(text) && !strings.ContainsRune(" \t\r\n{}\"", rune(text[end])) {
				end++
			}
			list = append(list, token{span: span{at, end}, text: text[at:end]})
			at = end
		}
	}
	return list, nil
}

// parseNested reads of nested blocks what is on a path.
func parseNested(text string, at int, path []string) (*structure, error) {
	list, err := tokens(text, at)
	if err != nil {
		return nil, err
	}
	s := &structure{}
	type block struct {
		open  token
		meant bool // the path leads through it
	}
	blocks := []block{{meant: true}}
	for i := 0; i < len(list); i++ {
		in := blocks[len(blocks)-1]
		key := list[i]
		if key.brace == '}' && len(blocks) > 1 {
			blocks = blocks[:len(blocks)-1]
			if in.meant {
				s.groups = append(s.groups, group{path[:len(blocks)], func(names []string, value string) (Edit, error) {
					return addNested(text, in.open.end, key.start, names, value)
				}})
			}
			continue
		}
		if key.brace != 0 || i+1 == len(list) || list[i+1].brace == '}' {
			return nil, fmt.Errorf("%w: line %d has a key without a value, or a brace that fits none", ErrFormat, line(text, key.start))
		}
		i++
		v := list[i]
		passes, ends := through(path, len(blocks)-1, key.text)
		if v.brace == '{' {
			blocks = append(blocks, block{v, in.meant && passes && !ends})
			continue
		}
		if !in.meant || !ends {
			continue
		}
		raw := quotedRaw
		if !v.quoted {
			raw = bareRaw
		}
		s.items = append(s.items, item{path, Value{Text: v.text, Start: v.start, End: v.end, entry: entryOf(text, key.start, v.end), raw: raw}})
	}
	if len(blocks) > 1 {
		return nil, fmt.Errorf("%w: the block %s does not end", ErrFormat, fmt.Sprintf("of line %d", line(text, blocks[len(blocks)-1].open.start)))
	}
	s.groups = append(s.groups, group{nil, func(names []string, value string) (Edit, error) {
		lines, err := nestedLines("", names, value)
		return atEnd(text, len(text), lines...), err
	}})
	return s, nil
}

// bareRaw is a word without quotes.
func bareRaw(text string) (string, error) {
	if text == "" || strings.ContainsAny(text, " \t\r\n{}\"\x00") || strings.HasPrefix(text, "//") {
		return "", fmt.Errorf("%w: \"%s\" would need quotes", ErrValue, text)
	}
	return text, nil
}

// entryOf widens a range to its line, if it has the line to itself.
func entryOf(text string, start, end int) span {
	s, e := start, end
	for s > 0 && (text[s-1] == ' ' || text[s-1] == '\t') {
		s--
	}
	for e < len(text) && (text[e] == ' ' || text[e] == '\t' || text[e] == '\r') {
		e++
	}
	if (s == 0 || text[s-1] == '\n') && e < len(text) && text[e] == '\n' {
		return span{s, e + 1}
	}
	return span{s, end}
}

func nestedLines(indent string, names []string, value string) ([]string, error) {
	key, err := quotedRaw(names[0])
	if err != nil {
		return nil, err
	}
	if len(names) == 1 {
		raw, err := quotedRaw(value)
		return []string{indent + key + "\t\t" + raw}, err
	}
	inner, err := nestedLines(indent+"\t", names[1:], value)
	return append(append([]string{indent + key, indent + "{"}, inner...), indent+"}"), err
}

// addNested adds at the end of a block: before the line of its brace, or before the brace.
func addNested(text string, open, brace int, names []string, value string) (Edit, error) {
	start := brace
	for start > open && (text[start-1] == ' ' || text[start-1] == '\t') {
		start--
	}
	if start == 0 || text[start-1] != '\n' {
		lines, err := nestedLines("", names, value)
		return Edit{brace, brace, strings.ReplaceAll(strings.Join(lines, " "), "\t\t", " ") + " "}, err
	}
	lines, err := nestedLines(text[start:brace]+"\t", names, value)
	return atEnd(text, start, lines...), err
}
