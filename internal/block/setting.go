package block

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"unicode/utf16"
	"unicode/utf8"
)

// maxSettings bounds a launcher's settings file, in bytes.
const maxSettings = 16 << 20

// document is a text file whose bytes stay as they are but for single values. Text
// is what it says; at maps each byte of the text to its place in the file.
type document struct {
	path  string
	raw   []byte
	text  string
	at    []int
	order utf16Order // of UTF-16; nil: bytes as they are, UTF-8 or the like
	mode  os.FileMode
}

type utf16Order interface {
	binary.ByteOrder
	binary.AppendByteOrder
}

func readDocument(path string) (*document, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > maxSettings {
		return nil, fmt.Errorf("%s: %w: no text file of a size that settings have", path, ErrMatches)
	}
	d := &document{path: path, mode: info.Mode().Perm()}
	if d.raw, err = os.ReadFile(path); err != nil {
		return nil, err
	}
	switch {
	case len(d.raw) >= 2 && d.raw[0] == 0xFF && d.raw[1] == 0xFE:
		d.order = binary.LittleEndian
	case len(d.raw) >= 2 && d.raw[0] == 0xFE && d.raw[1] == 0xFF:
		d.order = binary.BigEndian
	default:
		d.text = string(d.raw)
		return d, nil
	}
	d.decode()
	return d, nil
}

// decode reads UTF-16 behind its mark.
func (d *document) decode() {
	var text []byte
	for i := 2; i+1 < len(d.raw); i += 2 {
		start := i
		r := rune(d.order.Uint16(d.raw[i:]))
		if utf16.IsSurrogate(r) && i+3 < len(d.raw) {
			r = utf16.DecodeRune(r, rune(d.order.Uint16(d.raw[i+2:])))
			i += 2
		}
		before := len(text)
		text = utf8.AppendRune(text, r)
		for range len(text) - before {
			d.at = append(d.at, start)
		}
	}
	d.at = append(d.at, len(d.raw))
	d.text = string(text)
}

// place returns where byte i of the text stands in the file.
func (d *document) place(i int) int {
	if d.order == nil {
		return i
	}
	return d.at[i]
}

func (d *document) encode(s string) []byte {
	if d.order == nil {
		return []byte(s)
	}
	var out []byte
	for _, u := range utf16.Encode([]rune(s)) {
		out = d.order.AppendUint16(out, u)
	}
	return out
}

// values finds what the rule captures: their text and where they stand in the file.
func (d *document) values(r Rule) (values []string, places [][2]int, err error) {
	p, err := r.pattern()
	if err != nil {
		return nil, nil, err
	}
	for _, m := range p.FindAllStringSubmatchIndex(d.text, -1) {
		if m[2] < 0 {
			continue
		}
		values = append(values, d.text[m[2]:m[3]])
		places = append(places, [2]int{d.place(m[2]), d.place(m[3])})
	}
	if len(values) != r.matches() {
		return nil, nil, fmt.Errorf("%s: %w: %q matches %d times, and %d were expected", d.path, ErrMatches, r.Find, len(values), r.matches())
	}
	return values, places, nil
}

// replace writes the file with other values at these places.
func (d *document) replace(places [][2]int, values []string) error {
	var out []byte
	end := 0
	for i, p := range places {
		out = append(out, d.raw[end:p[0]]...)
		out = append(out, d.encode(values[i])...)
		end = p[1]
	}
	return d.write(append(out, d.raw[end:]...))
}

// partSuffix is the end of a file that is about to take the place of the settings.
// The name is always the same, so that a killed run leaves nothing behind that the
// next one does not clear away.
const partSuffix = ".morvant-part"

func (d *document) write(content []byte) error {
	part := d.path + partSuffix
	f, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, d.mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Chmod(d.mode), f.Sync(), f.Close()); err == nil {
		err = os.Rename(part, d.path)
	}
	if err != nil {
		os.Remove(part)
	}
	return err
}

func (h *Hold) prepareSetting(at Place) error {
	h.Path = at.resolve(h.Rule.File)
	d, err := readDocument(h.Path)
	if err != nil {
		return err
	}
	h.Values, _, err = d.values(h.Rule)
	return err
}

func (h *Hold) wanted() []string { return slices.Repeat([]string{h.Rule.Set}, len(h.Values)) }

func (h *Hold) setSetting() error { return h.put(h.wanted()) }

// put sets the values, if they are not that already.
func (h *Hold) put(values []string) error {
	d, err := readDocument(h.Path)
	if err != nil {
		return err
	}
	now, places, err := d.values(h.Rule)
	if err != nil || slices.Equal(now, values) {
		_ = os.Remove(h.Path + partSuffix) // of a run that was cut off
		return err
	}
	return d.replace(places, values)
}

func (h *Hold) current() ([]string, error) {
	d, err := readDocument(h.Path)
	if err != nil {
		return nil, err
	}
	values, _, err := d.values(h.Rule)
	return values, err
}

func (h *Hold) checkSetting() string {
	now, err := h.current()
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return h.Path + " is gone"
	case err != nil:
		return err.Error()
	case !slices.Equal(now, h.wanted()):
		return fmt.Sprintf("%s says %q again, not %q", h.Path, now[0], h.Rule.Set)
	}
	return ""
}

func (h *Hold) liftSetting(force bool) error {
	now, err := h.current()
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil // nothing is left to be put back
	case err != nil:
		return err
	case slices.Equal(now, h.Values):
		return h.put(h.Values) // nothing but what a killed run has left
	case !slices.Equal(now, h.wanted()) && !force:
		return fmt.Errorf("%s says %q: %w", h.Path, now[0], ErrTouched)
	}
	return h.put(h.Values)
}
