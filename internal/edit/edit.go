// Package edit changes single values in a text file and leaves every other byte of
// it as it is: encoding, line ends, order, comments. UTF-8 and the like are taken
// as bytes; UTF-16 is known by its mark.
package edit

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"morvant/internal/volume"
)

// MaxSize bounds a file whose values are changed, in bytes.
const MaxSize = 16 << 20

// ErrMatches is returned for a value that is not found as often as expected.
var ErrMatches = errors.New("the setting was not found where the rule expects it")

// Document is a text file. Text is what it says.
type Document struct {
	Text string

	raw   []byte
	at    []int     // maps each byte of the text to its place in the file
	order byteOrder // of UTF-16; nil: bytes as they are
}

type byteOrder interface {
	binary.ByteOrder
	binary.AppendByteOrder
}

// Read reads a file.
func Read(path string) (*Document, error) {
	raw, err := volume.ReadFile(path, MaxSize)
	if errors.Is(err, volume.ErrNotRegular) || errors.Is(err, volume.ErrTooLarge) {
		return nil, fmt.Errorf("%s: %w: it is not a text file of a usual size for settings", path, ErrMatches)
	}
	if err != nil {
		return nil, err
	}
	d := Parse(raw)
	if what := notText(raw, d.Text); what != "" {
		return nil, fmt.Errorf("%s: %w: it is %s, not text", path, ErrMatches, what)
	}
	return d, nil
}

// notText says what a file is that is no text; empty if it is some.
func notText(raw []byte, text string) string {
	for begin, what := range map[string]string{
		"SQLite format 3\x00": "a database", "PK\x03\x04": "an archive", "\x1f\x8b": "compressed", "MZ\x90": "a program", "\x7fELF": "a program",
	} {
		if bytes.HasPrefix(raw, []byte(begin)) {
			return what
		}
	}
	if strings.ContainsRune(text, 0) {
		return "binary"
	}
	return ""
}

// Parse reads the content of a file.
func Parse(raw []byte) *Document {
	d := &Document{raw: raw}
	switch {
	case len(raw) >= 2 && raw[0] == 0xFF && raw[1] == 0xFE:
		d.order = binary.LittleEndian
	case len(raw) >= 2 && raw[0] == 0xFE && raw[1] == 0xFF:
		d.order = binary.BigEndian
	default:
		if d.order = unmarked(raw); d.order == nil {
			d.Text = string(raw)
			return d
		}
		d.decode(0)
		return d
	}
	d.decode(2)
	return d
}

// unmarked returns the order of UTF-16 without a mark, as it is known by the zeros in the first
// few thousand bytes; nil if it is none.
func unmarked(raw []byte) byteOrder {
	part := raw[:min(len(raw), 4096)&^1]
	var zeros [2]int // in even and odd places
	for i, b := range part {
		if b == 0 {
			zeros[i%2]++
		}
	}
	half := len(part) / 2
	switch {
	case len(raw)%2 != 0 || half < 2:
	case zeros[0] == 0 && 10*zeros[1] >= 9*half:
		return binary.LittleEndian
	case zeros[1] == 0 && 10*zeros[0] >= 9*half:
		return binary.BigEndian
	}
	return nil
}

// decode reads UTF-16 from a place on, behind its mark if it has one.
func (d *Document) decode(from int) {
	var text []byte
	for i := from; i+1 < len(d.raw); i += 2 {
		start := i
		r := rune(d.order.Uint16(d.raw[i:]))
		if utf16.IsSurrogate(r) && i+3 < len(d.raw) {
			// A half that stands alone takes nothing along.
			if both := utf16.DecodeRune(r, rune(d.order.Uint16(d.raw[i+2:]))); both != utf8.RuneError {
				r = both
				i += 2
			}
		}
		before := len(text)
		text = utf8.AppendRune(text, r)
		for range len(text) - before {
			d.at = append(d.at, start)
		}
	}
	d.at = append(d.at, len(d.raw))
	d.Text = string(text)
}

// place returns where byte i of the text stands in the file.
func (d *Document) place(i int) int {
	if d.order == nil {
		return i
	}
	return d.at[i]
}

func (d *Document) encode(s string) []byte {
	if d.order == nil {
		return []byte(s)
	}
	var out []byte
	for _, u := range utf16.Encode([]rune(s)) {
		out = d.order.AppendUint16(out, u)
	}
	return out
}

// Values are what a pattern captures in a document.
type Values struct {
	Texts  []string
	Raw    [][]byte // as they stand in the file
	places [][2]int // in the file
}

// Find finds what the pattern captures, which must be there so many times.
func (d *Document) Find(ctx context.Context, find string, count int) (*Values, error) {
	p, err := Compile(find)
	if err != nil {
		return nil, err
	}
	matches, err := p.All(ctx, d.Text)
	if err != nil {
		return nil, err
	}
	v := &Values{}
	for _, m := range matches {
		if m[2] < 0 {
			continue
		}
		v.Texts = append(v.Texts, d.Text[m[2]:m[3]])
		at := [2]int{d.place(m[2]), d.place(m[3])}
		v.places = append(v.places, at)
		v.Raw = append(v.Raw, bytes.Clone(d.raw[at[0]:at[1]]))
	}
	if len(v.Texts) != count {
		return nil, fmt.Errorf("%w: \"%s\" matches %s; it must match %s", ErrMatches, find, times(len(v.Texts)), times(count))
	}
	return v, nil
}

// At returns a range of the text as a value that can be replaced.
func (d *Document) At(start, end int) *Values {
	at := [2]int{d.place(start), d.place(end)}
	return &Values{Texts: []string{d.Text[start:end]}, Raw: [][]byte{bytes.Clone(d.raw[at[0]:at[1]])}, places: [][2]int{at}}
}

// Bytes returns the file as it was read.
func (d *Document) Bytes() []byte { return d.raw }

// Encode returns texts as bytes of the file.
func (d *Document) Encode(texts []string) [][]byte {
	raw := make([][]byte, len(texts))
	for i, text := range texts {
		raw[i] = d.encode(text)
	}
	return raw
}

// With returns the file with other values in their places.
func (d *Document) With(v *Values, texts []string) []byte { return d.WithRaw(v, d.Encode(texts)) }

// WithRaw is With for values as bytes of the file. Earlier versions took the CR of a line end for a part of the value.
func (d *Document) WithRaw(v *Values, raw [][]byte) []byte {
	var out []byte
	end := 0
	cr := d.encode("\r")
	for i, p := range v.places {
		out = append(out, d.raw[end:p[0]]...)
		value := raw[i]
		if bytes.HasPrefix(d.raw[p[1]:], cr) {
			value = bytes.TrimSuffix(value, cr)
		}
		out = append(out, value...)
		end = p[1]
	}
	return append(out, d.raw[end:]...)
}

// times says how often.
func times(n int) string {
	switch n {
	case 0:
		return "nowhere"
	case 1:
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}
