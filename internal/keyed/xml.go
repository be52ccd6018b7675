package keyed

import (
	"encoding/xml"
	"errors"
	"fmt"
	"html"
	"io"
	"regexp"
	"strings"
)

var (
	attribute = regexp.MustCompile(`[ \t\r\n]([^ \t\r\n=<>/"']+)[ \t\r\n]*=[ \t\r\n]*("[^"]*"|'[^']*')`)
	tagName   = regexp.MustCompile(`^<([^ \t\r\n<>/]+)`)
)

// element is an element that is being read.
type element struct {
	meant bool // the path leads to it, or through it
	start int  // behind its start tag
	plain bool // it has nothing but text, and remarks, so far
	runs  []run
	noted bool // it has remarks
}

// run is a run of text in an element, between remarks.
type run struct {
	span
	cdata bool
}

// value is what the text of an element says; false where it is in several pieces, so that nobody knows which is meant.
// end is where the end tag begins.
func (e *element) value(text string, end int) (Value, bool) {
	if !e.noted && len(e.runs) <= 1 && (len(e.runs) == 0 || !e.runs[0].cdata) {
		body := text[e.start:end]
		return Value{Text: html.UnescapeString(body), Start: e.start, End: end, entry: span{e.start, end}, raw: escaped("<>")}, true
	}
	at := run{span: span{e.start, e.start}}
	for _, r := range e.runs {
		if !r.cdata {
			r.span = trimmedAround(text, r.span)
		}
		switch {
		case r.start == r.end && !r.cdata:
		case at.start != at.end || at.cdata:
			return Value{}, false
		default:
			at = r
		}
	}
	if at.cdata {
		return Value{Text: text[at.start:at.end], Start: at.start, End: at.end, entry: at.span, raw: inCDATA}, true
	}
	return Value{Text: html.UnescapeString(text[at.start:at.end]), Start: at.start, End: at.end, entry: at.span, raw: escaped("<>")}, true
}

// trimmedAround narrows a range to what is neither blank nor the end of a line.
func trimmedAround(text string, s span) span {
	body := text[s.start:s.end]
	s.start += len(body) - len(strings.TrimLeft(body, " \t\r\n"))
	s.end -= len(body) - len(strings.TrimRight(body, " \t\r\n"))
	return span{min(s.start, s.end), s.end}
}

func inCDATA(text string) (string, error) {
	if strings.Contains(text, "]]>") || strings.ContainsAny(text, "\x00") {
		return "", fmt.Errorf("%w: \"%s\"", ErrValue, text)
	}
	return text, nil
}

// parseXML reads of XML what is on a path. An element goes by its name, and by its name with each
// of its attributes: option[name=updates].
func parseXML(text string, at int, path []string) (*structure, error) {
	d := xml.NewDecoder(strings.NewReader(text[at:]))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	s := &structure{}
	var open []*element
	for {
		from := at + int(d.InputOffset())
		t, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %v", ErrFormat, err)
		}
		to := at + int(d.InputOffset())
		switch t.(type) {
		case xml.StartElement:
			if len(open) > 0 {
				open[len(open)-1].plain = false
			}
			e, err := startElement(s, text, span{from, to}, open, path)
			if err != nil {
				return nil, err
			}
			open = append(open, e)
		case xml.CharData:
			if len(open) == 0 {
				continue
			}
			e := open[len(open)-1]
			const begins, ends = "<![CDATA[", "]]>"
			if strings.HasPrefix(text[from:to], begins) {
				e.runs = append(e.runs, run{span{from + len(begins), to - len(ends)}, true})
			} else {
				e.runs = append(e.runs, run{span: span{from, to}})
			}
		case xml.Comment, xml.ProcInst, xml.Directive:
			if len(open) > 0 {
				open[len(open)-1].noted = true
			}
		case xml.EndElement:
			if len(open) == 0 {
				return nil, fmt.Errorf("%w: an element ends in line %d that has not begun", ErrFormat, line(text, from))
			}
			e := open[len(open)-1]
			open = open[:len(open)-1]
			if !e.plain || !e.meant || len(open) != len(path)-1 || to == from { // the second half of <a/> has no length
				continue
			}
			if v, ok := e.value(text, from); ok {
				s.items = append(s.items, item{path, v})
			}
		}
	}
	if len(open) > 0 {
		return nil, fmt.Errorf("%w: an element does not end", ErrFormat)
	}
	return s, nil
}

// startElement takes in a start tag with its attributes.
func startElement(s *structure, text string, tag span, open []*element, path []string) (*element, error) {
	raw := text[tag.start:tag.end]
	name := tagName.FindStringSubmatch(raw)
	if name == nil {
		return nil, fmt.Errorf("%w: line %d", ErrFormat, line(text, tag.start))
	}
	found := attribute.FindAllStringSubmatchIndex(raw, -1)
	depth := len(open)
	e := &element{start: tag.end, plain: true, meant: depth < len(path) && (depth == 0 || open[depth-1].meant)}
	is := e.meant && sameName(path[depth], name[1])
	for _, m := range found {
		is = is || e.meant && sameName(path[depth], fmt.Sprintf("%s[%s=%s]", name[1], raw[m[2]:m[3]], html.UnescapeString(raw[m[4]+1:m[5]-1])))
	}
	if e.meant = is; !is {
		return e, nil
	}
	end := tag.end - 1
	if text[end-1] == '/' {
		end--
	}
	for end > tag.start && strings.ContainsRune(" \t\r\n", rune(text[end-1])) {
		end--
	}
	for _, m := range found {
		if depth != len(path)-2 || !sameName(path[depth+1], "@"+raw[m[2]:m[3]]) {
			continue
		}
		s.items = append(s.items, item{path, Value{
			Text: html.UnescapeString(raw[m[4]+1 : m[5]-1]), Start: tag.start + m[4] + 1, End: tag.start + m[5] - 1,
			entry: span{tag.start + m[0], tag.start + m[1]}, raw: escaped(raw[m[4]:m[4]+1] + "<"),
		}})
	}
	s.groups = append(s.groups, group{path[:depth+1], func(names []string, value string) (Edit, error) {
		key, is := strings.CutPrefix(names[0], "@")
		if len(names) != 1 || !is {
			return Edit{}, fmt.Errorf("%s: %w, and only attributes are added", strings.Join(names, "/"), ErrMissing)
		}
		raw, err := escaped(`"<`)(value)
		return Edit{end, end, " " + key + `="` + raw + `"`}, err
	}})
	return e, nil
}

// escaped writes some characters as entities, and an ampersand.
func escaped(special string) func(text string) (string, error) {
	return func(text string) (string, error) {
		if strings.ContainsAny(text, "\x00") {
			return "", fmt.Errorf("%w: \"%s\"", ErrValue, text)
		}
		text = strings.ReplaceAll(text, "&", "&amp;")
		for _, c := range special {
			text = strings.ReplaceAll(text, string(c), map[rune]string{'"': "&quot;", '\'': "&#39;", '<': "&lt;", '>': "&gt;"}[c])
		}
		return text, nil
	}
}
