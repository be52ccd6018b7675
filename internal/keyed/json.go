package keyed

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// object is an object or an array that is being read.
type object struct {
	meant   bool // the path leads through it
	open    int  // behind the brace
	last    int  // behind the last member
	members int
	space   string // before the last key
	key     string
	keyAt   int
	before  int // where what stands before the key begins: behind the brace or the last member
	array   bool
}

// parseJSON reads of JSON what is on a path. The elements of an array go by their number, from 0.
func parseJSON(text string, at int, path []string) (*structure, error) {
	d := jsontext.NewDecoder(strings.NewReader(text[at:]), jsontext.AllowDuplicateNames(true))
	s := &structure{}
	var open []*object
	// meant says whether the path leads through, or to, the value that comes next.
	meant := func() (passes, ends bool) {
		if len(open) == 0 {
			return true, false
		}
		in := open[len(open)-1]
		key := in.key
		if in.array {
			key = strconv.Itoa(in.members)
		}
		passes, ends = through(path, len(open)-1, key)
		return in.meant && passes, in.meant && ends
	}
	done := func(end int) {
		if len(open) > 0 {
			in := open[len(open)-1]
			in.last = end
			in.members++
			in.key = ""
		}
	}
	awaits := func() bool { // a key comes next
		return len(open) > 0 && !open[len(open)-1].array && open[len(open)-1].keyAt == 0
	}
	for {
		start := at + int(d.InputOffset())
		t, err := d.ReadToken()
		if errors.Is(err, io.EOF) {
			return s, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %v", ErrFormat, err)
		}
		end := at + int(d.InputOffset())
		switch kind := t.Kind(); kind {
		case '{', '[':
			passes, ends := meant()
			open = append(open, &object{meant: passes && !ends, open: end, last: end, array: kind == '['})
		case '}', ']':
			o := open[len(open)-1]
			open = open[:len(open)-1]
			if kind == '}' && o.meant {
				s.groups = append(s.groups, group{path[:len(open)], func(names []string, value string) (Edit, error) { return o.add(text, names, value) }})
			}
			done(end)
			if len(open) > 0 {
				open[len(open)-1].keyAt = 0
			}
		default:
			// What separates it from the token before it is read with it.
			start += len(text[start:end]) - len(strings.TrimLeft(text[start:end], " \t\r\n,:"))
			if awaits() {
				in := open[len(open)-1]
				in.key, in.keyAt, in.before = t.String(), start, in.last
				if in.space = text[in.last:start]; in.members > 0 { // without the comma, and what stands before it
					in.space = in.space[strings.IndexByte(in.space, ',')+1:]
				}
				continue
			}
			if len(open) > 0 {
				in := open[len(open)-1]
				if _, ends := meant(); ends {
					s.items = append(s.items, item{path, jsonValue(text, t, span{start, end}, in)})
				}
				in.keyAt = 0
			}
			done(end)
		}
	}
}

func jsonValue(text string, t jsontext.Token, v span, in *object) Value {
	entry := v
	if !in.array {
		entry = span{in.before, v.end} // with the comma before it
		if in.members == 0 {
			// With the one behind it, if there is one; what stands before it stays.
			entry = span{in.keyAt, v.end}
			rest := strings.TrimLeft(text[v.end:], " \t\r\n")
			if strings.HasPrefix(rest, ",") {
				next := strings.TrimLeft(rest[1:], " \t\r\n")
				entry.end = len(text) - len(next)
			}
		}
	}
	out := Value{Text: t.String(), Start: v.start, End: v.end, entry: entry, raw: literal}
	switch t.Kind() {
	case '"':
		out.raw = jsonString
	case 't', 'f':
		out.raw = func(text string) (string, error) { return ofType(text, "neither true nor false", 't', 'f') }
	case '0':
		out.raw = func(text string) (string, error) { return ofType(text, "no number", '0') }
	}
	return out
}

func jsonString(text string) (string, error) {
	b, err := jsontext.AppendQuote(nil, text)
	if err != nil {
		return "", fmt.Errorf("%w: %v", ErrValue, err)
	}
	return string(b), nil
}

// literal is a number, true, false or null.
func literal(text string) (string, error) {
	v := jsontext.Value(text)
	if strings.TrimSpace(text) != text || !v.IsValid() || strings.ContainsAny(text, "\"{[") {
		return "", fmt.Errorf("%w: \"%s\" is no number and none of true, false, null", ErrValue, text)
	}
	return text, nil
}

// ofType is a literal of one of these kinds: another would be none to the program that reads it.
func ofType(text, what string, kinds ...jsontext.Kind) (string, error) {
	raw, err := literal(text)
	if err != nil || !slices.Contains(kinds, jsontext.Value(raw).Kind()) {
		return "", fmt.Errorf("%w: \"%s\" is %s, as the one that is there", ErrValue, text, what)
	}
	return raw, nil
}

// add adds a member behind the last one.
func (o *object) add(text string, names []string, value string) (Edit, error) {
	raw, err := literal(value)
	if err != nil {
		raw, err = jsonString(value)
	}
	for i := len(names) - 1; i >= 0 && err == nil; i-- {
		var key string
		if key, err = jsonString(names[i]); i > 0 {
			raw = "{" + key + ": " + raw + "}"
		} else {
			raw = key + ": " + raw
		}
	}
	if err != nil {
		return Edit{}, err
	}
	if o.members == 0 {
		return Edit{o.open, o.open, raw}, nil
	}
	return Edit{o.last, o.last, "," + o.space + raw}, nil
}
