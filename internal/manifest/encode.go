package manifest

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/problem"
)

// Encode returns the canonical JSON of a sorted manifest. Paths hold no
// character but the quotation mark that RFC 8785 would escape, so writing it
// out directly is the whole of canonical form.
func (m *Manifest) Encode() []byte {
	size := 128
	for _, f := range m.Files {
		size += len(f.Path) + 120
	}
	out := make([]byte, 0, size)
	out = append(out, `{"empty_dirs":[`...)
	for i, d := range m.EmptyDirs {
		out = comma(out, i)
		out = appendString(out, d)
	}
	out = append(out, `],"files":[`...)
	for i, f := range m.Files {
		out = comma(out, i)
		out = append(out, `{"digest":"`...)
		out = hex.AppendEncode(out, f.Digest[:])
		out = append(out, `","path":`...)
		out = appendString(out, f.Path)
		out = append(out, `,"size":`...)
		out = strconv.AppendInt(out, f.Size, 10)
		out = append(out, '}')
	}
	out = append(out, `],"format":"`+Format+`","links":[`...)
	for i, l := range m.Links {
		out = comma(out, i)
		out = append(out, `{"path":`...)
		out = appendString(out, l.Path)
		out = append(out, `,"target":`...)
		out = appendString(out, l.Target)
		out = append(out, '}')
	}
	return append(out, `]}`...)
}

func comma(out []byte, i int) []byte {
	if i > 0 {
		out = append(out, ',')
	}
	return out
}

func appendString(out []byte, s string) []byte {
	out = append(out, '"')
	for {
		i := strings.IndexAny(s, `"\`)
		if i < 0 {
			return append(append(out, s...), '"')
		}
		out = append(append(out, s[:i]...), '\\', s[i])
		s = s[i+1:]
	}
}

// Decode reads an encoded manifest and validates it. Only the canonical bytes
// are accepted: whatever Decode returns encodes to exactly b again.
func Decode(b []byte) (*Manifest, error) {
	m, err := parse(b)
	if err != nil {
		return nil, err
	}
	if err := m.Validate(); err != nil {
		return nil, err
	}
	return m, nil
}

// DecodeRecorded is Decode for what this computer has recorded itself. Earlier versions
// recorded Morvant's own folders below the top, too; those entries are left out.
func DecodeRecorded(b []byte) (*Manifest, error) {
	m, err := parse(b)
	if err != nil {
		return nil, err
	}
	m = m.Without(IsPrivate)
	m.Links = slices.DeleteFunc(m.Links, func(l Link) bool { return IsPrivate(l.Target) })
	if err := m.Validate(); err != nil {
		return nil, err
	}
	return m, nil
}

func parse(b []byte) (*Manifest, error) {
	if len(b) > maxEncoded {
		return nil, fmt.Errorf("%w: %d bytes, at most %d are allowed", ErrFormat, len(b), maxEncoded)
	}
	p := parser{in: b}
	m, ok := p.manifest()
	if !ok {
		if version, found := formatOf(b); found && version != Format {
			return nil, fmt.Errorf("manifest of format \"%s\": %w", version, problem.ErrNewer)
		}
		return nil, fmt.Errorf("%w: unexpected data at byte %d", ErrFormat, p.pos)
	}
	return m, nil
}

// formatOf finds the format name of something that looks like a manifest.
func formatOf(b []byte) (string, bool) {
	const key = `"format":"morvant-manifest/`
	i := bytes.Index(b, []byte(key))
	if i < 0 {
		return "", false
	}
	name, _, found := strings.Cut(string(b[i+len(`"format":"`):min(len(b), i+64)]), `"`)
	return name, found
}

// parser reads exactly what Encode writes; pos stands at the first byte that differs.
type parser struct {
	in  []byte
	pos int
}

func (p *parser) manifest() (*Manifest, bool) {
	m := &Manifest{}
	ok := p.literal(`{"empty_dirs":`) &&
		p.list(func() bool {
			d, ok := p.text()
			m.EmptyDirs = append(m.EmptyDirs, d)
			return ok
		}) &&
		p.literal(`,"files":`) &&
		p.list(func() bool {
			f, ok := p.file()
			m.Files = append(m.Files, f)
			return ok
		}) &&
		p.literal(`,"format":"`+Format+`","links":`) &&
		p.list(func() bool {
			l, ok := p.link()
			m.Links = append(m.Links, l)
			return ok
		}) &&
		p.literal(`}`) && p.pos == len(p.in)
	return m, ok
}

func (p *parser) file() (f File, ok bool) {
	if !p.literal(`{"digest":"`) || len(p.in)-p.pos < 2*digest.Size {
		return f, false
	}
	d, err := digest.Parse(string(p.in[p.pos : p.pos+2*digest.Size]))
	if err != nil {
		return f, false
	}
	p.pos += 2 * digest.Size
	f.Digest = d
	if !p.literal(`","path":`) {
		return f, false
	}
	if f.Path, ok = p.text(); !ok || !p.literal(`,"size":`) {
		return f, false
	}
	if f.Size, ok = p.number(); !ok {
		return f, false
	}
	return f, p.literal(`}`)
}

func (p *parser) link() (l Link, ok bool) {
	if !p.literal(`{"path":`) {
		return l, false
	}
	if l.Path, ok = p.text(); !ok || !p.literal(`,"target":`) {
		return l, false
	}
	if l.Target, ok = p.text(); !ok {
		return l, false
	}
	return l, p.literal(`}`)
}

func (p *parser) literal(s string) bool {
	if len(p.in)-p.pos < len(s) || string(p.in[p.pos:p.pos+len(s)]) != s {
		return false
	}
	p.pos += len(s)
	return true
}

func (p *parser) list(item func() bool) bool {
	if !p.literal(`[`) {
		return false
	}
	if p.literal(`]`) {
		return true
	}
	for n := 0; n < maxEntries; n++ {
		if !item() {
			return false
		}
		if p.literal(`]`) {
			return true
		}
		if !p.literal(`,`) {
			return false
		}
	}
	return false
}

// text reads a string in which only the quotation mark may be escaped; no other
// character that needs escaping is allowed in a path.
func (p *parser) text() (string, bool) {
	if !p.literal(`"`) {
		return "", false
	}
	start := p.pos
	escaped := false
	for ; p.pos < len(p.in); p.pos++ {
		switch p.in[p.pos] {
		case '"':
			s := string(p.in[start:p.pos])
			p.pos++
			if escaped {
				s = strings.ReplaceAll(s, `\"`, `"`)
			}
			return s, true
		case '\\':
			if p.pos+1 >= len(p.in) || p.in[p.pos+1] != '"' {
				return "", false
			}
			escaped = true
			p.pos++
		}
	}
	return "", false
}

func (p *parser) number() (int64, bool) {
	start := p.pos
	for p.pos < len(p.in) && p.in[p.pos] >= '0' && p.in[p.pos] <= '9' {
		p.pos++
	}
	text := string(p.in[start:p.pos])
	if len(text) > 1 && text[0] == '0' {
		return 0, false
	}
	n, err := strconv.ParseInt(text, 10, 64)
	return n, err == nil
}
