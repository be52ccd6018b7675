package manifest

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"morvant/internal/problem"
)

// AttributesFormat is the format name and version of encoded attributes.
const AttributesFormat = "morvant-attributes/1"

// Attribute is what this computer keeps beside a file's content.
type Attribute struct {
	Mode  fs.FileMode // permission bits only
	MTime time.Time   // time of last change, to the nanosecond; zero: not known
}

// Equal reports whether both are the same instant and mode.
func (a Attribute) Equal(b Attribute) bool { return a.Mode == b.Mode && a.MTime.Equal(b.MTime) }

// Attributes holds the times and modes of files and folders by path. They
// belong to one computer and so are no part of a manifest.
type Attributes struct {
	Files map[string]Attribute
	Dirs  map[string]Attribute
	// Links are those that lead out of the folder, which no manifest may have: where each leads. They
	// are put back on this computer, and go nowhere else.
	Links map[string]string
	// Others are names of files outside of the folder. They, too, are for this computer alone.
	Others map[string]Other
}

// Other is where a file is that has a second name outside of its folder: a hard link.
type Other struct {
	Name   string // the full path; empty: not known
	Device uint64 // that the file is on, and its number there
	File   uint64
}

// IsZero reports whether the file has no name outside.
func (o Other) IsZero() bool { return o == Other{} }

// NewAttributes returns empty attributes ready to be filled.
func NewAttributes() *Attributes {
	return &Attributes{Files: make(map[string]Attribute), Dirs: make(map[string]Attribute), Links: make(map[string]string), Others: make(map[string]Other)}
}

// Clone returns a copy that can be changed on its own.
func (a *Attributes) Clone() *Attributes {
	return &Attributes{Files: maps.Clone(a.Files), Dirs: maps.Clone(a.Dirs), Links: maps.Clone(a.Links), Others: maps.Clone(a.Others)}
}

type attributeList struct {
	Dirs   entries      `json:"dirs"`
	Files  entries      `json:"files"`
	Format string       `json:"format"`
	Links  []OutLink    `json:"links,omitempty"`
	Others []otherEntry `json:"others,omitempty"`
}

type otherEntry struct {
	Device uint64 `json:"device"`
	File   uint64 `json:"file"`
	Name   string `json:"name"`
	Path   string `json:"path"`
}

// OutLink is a link that leads out of its folder.
type OutLink struct {
	Path   string `json:"path"`
	Target string `json:"target"`
}

type attributeEntry struct {
	Mode  string `json:"mode"`  // octal permission bits
	MTime string `json:"mtime"` // seconds.nanoseconds since 1970; empty: not known
	Path  string `json:"path"`
}

// Encode returns the attributes as canonical JSON.
func (a *Attributes) Encode() []byte {
	out := []byte(`{"dirs":[`)
	out = appendAttributes(out, a.Dirs)
	out = append(out, `],"files":[`...)
	out = appendAttributes(out, a.Files)
	out = append(out, `],"format":"`+AttributesFormat+`"`...)
	if len(a.Links) > 0 {
		out = append(append(out, `,"links":`...), EncodeLinks(a.Links)...)
	}
	if len(a.Others) > 0 {
		out = append(out, `,"others":[`...)
		for i, p := range slices.Sorted(maps.Keys(a.Others)) {
			o := a.Others[p]
			out = fmt.Appendf(comma(out, i), `{"device":%d,"file":%d,"name":`, o.Device, o.File)
			out = appendString(append(appendString(out, o.Name), `,"path":`...), p)
			out = append(out, '}')
		}
		out = append(out, ']')
	}
	return append(out, '}')
}

// EncodeLinks returns links that lead out as canonical JSON.
func EncodeLinks(links map[string]string) []byte {
	out := []byte{'['}
	for i, p := range slices.Sorted(maps.Keys(links)) {
		out = comma(out, i)
		out = appendString(append(out, `{"path":`...), p)
		out = appendString(append(out, `,"target":`...), links[p])
		out = append(out, '}')
	}
	return append(out, ']')
}

// DecodeLinks reads what EncodeLinks has written.
func DecodeLinks(b []byte) (map[string]string, error) {
	return orUnescaped(b, decodeLinks)
}

// windowsPath is where something leads on Windows, in JSON.
var windowsPath = regexp.MustCompile(`"(?:target|name)":"(?:[A-Za-z]:\\|\\\\)`)

// orUnescaped decodes what may have been written by a version that did not escape the backslashes of links
// into other folders, which only Windows has.
func orUnescaped[T any](b []byte, decode func([]byte) (T, error)) (T, error) {
	out, err := decode(b)
	if err == nil || !windowsPath.Match(b) || errors.Is(err, problem.ErrNewer) {
		return out, err
	}
	if again, err := decode(bytes.ReplaceAll(b, []byte(`\`), []byte(`\\`))); err == nil {
		return again, nil
	}
	return out, err
}

func decodeLinks(b []byte) (map[string]string, error) {
	var list []OutLink
	if err := json.Unmarshal(b, &list); err != nil {
		return nil, fmt.Errorf("%w: links: %v", ErrFormat, err)
	}
	return linksOf(list)
}

func linksOf(list []OutLink) (map[string]string, error) {
	if len(list) > maxEntries {
		return nil, fmt.Errorf("%w: too many links", ErrFormat)
	}
	links := make(map[string]string, len(list))
	for _, l := range list {
		if err := CheckPath(l.Path); err != nil {
			return nil, err
		}
		if !CanLead(l.Target) {
			return nil, fmt.Errorf("%w: \"%s\" leads to what cannot be written down", ErrFormat, clipPath(l.Path))
		}
		if _, twice := links[l.Path]; twice {
			return nil, fmt.Errorf("%w: the link \"%s\" appears twice", ErrFormat, clipPath(l.Path))
		}
		links[l.Path] = l.Target
	}
	return links, nil
}

// CanLead reports whether a link can lead to target as far as it is written: it is a text of bounded
// length without control characters.
func CanLead(target string) bool {
	return target != "" && len(target) <= maxPath && utf8.ValidString(target) && !strings.ContainsFunc(target, unicode.IsControl)
}

func appendAttributes(out []byte, m map[string]Attribute) []byte {
	paths := make([]string, 0, len(m))
	for p := range m {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	for i, p := range paths {
		out = comma(out, i)
		a := m[p]
		out = append(out, `{"mode":"`...)
		out = strconv.AppendUint(out, uint64(a.Mode.Perm()), 8)
		out = append(out, `","mtime":"`...)
		out = append(out, FormatTime(a.MTime)...)
		out = append(out, `","path":`...)
		out = appendString(out, p)
		out = append(out, '}')
	}
	return out
}

// DecodeAttributes reads encoded attributes and validates every path, mode and time.
func DecodeAttributes(b []byte) (*Attributes, error) { return orUnescaped(b, decodeAttributes) }

func decodeAttributes(b []byte) (*Attributes, error) {
	if len(b) > maxEncoded {
		return nil, fmt.Errorf("%w: %d bytes of attributes", ErrFormat, len(b))
	}
	var list attributeList
	if err := json.Unmarshal(b, &list); err != nil {
		return nil, fmt.Errorf("%w: attributes: %v", ErrFormat, err)
	}
	if list.Format != AttributesFormat {
		if strings.HasPrefix(list.Format, "morvant-attributes/") {
			return nil, fmt.Errorf("attributes of format \"%s\": %w", list.Format, problem.ErrNewer)
		}
		return nil, fmt.Errorf("%w: attributes of format \"%s\"", ErrFormat, list.Format)
	}
	if len(list.Files)+len(list.Dirs) > maxEntries {
		return nil, fmt.Errorf("%w: too many attributes", ErrFormat)
	}
	a := NewAttributes()
	if err := fillAttributes(a.Files, list.Files); err != nil {
		return nil, err
	}
	if err := fillAttributes(a.Dirs, list.Dirs); err != nil {
		return nil, err
	}
	var err error
	if a.Links, err = linksOf(list.Links); err != nil {
		return nil, err
	}
	return a, a.fillOthers(list.Others)
}

func (a *Attributes) fillOthers(list []otherEntry) error {
	if len(list) > maxEntries {
		return fmt.Errorf("%w: too many names of files", ErrFormat)
	}
	for _, e := range list {
		if err := CheckPath(e.Path); err != nil {
			return err
		}
		if e.Name != "" && !CanLead(e.Name) {
			return fmt.Errorf("%w: \"%s\" has another name that cannot be written down", ErrFormat, clipPath(e.Path))
		}
		if _, twice := a.Others[e.Path]; twice {
			return fmt.Errorf("%w: the other name of \"%s\" appears twice", ErrFormat, clipPath(e.Path))
		}
		a.Others[e.Path] = Other{Name: e.Name, Device: e.Device, File: e.File}
	}
	return nil
}

func fillAttributes(m map[string]Attribute, list []attributeEntry) error {
	for _, e := range list {
		if IsPrivate(e.Path) {
			continue // recorded by an earlier version; see DecodeRecorded
		}
		if err := CheckPath(e.Path); err != nil {
			return err
		}
		if _, twice := m[e.Path]; twice {
			return fmt.Errorf("%w: attributes of \"%s\" appear twice", ErrFormat, e.Path)
		}
		mode, err := strconv.ParseUint(e.Mode, 8, 32)
		if err != nil || mode > 0o777 {
			return fmt.Errorf("%w: mode \"%s\" of \"%s\"", ErrFormat, e.Mode, e.Path)
		}
		mtime, err := ParseTime(e.MTime)
		if err != nil {
			return fmt.Errorf("%w: time \"%s\" of \"%s\"", ErrFormat, e.MTime, e.Path)
		}
		m[e.Path] = Attribute{Mode: fs.FileMode(mode), MTime: mtime}
	}
	return nil
}

// FormatTime writes a time of last change: seconds since 1970, a dot, nine digits of nanoseconds; empty:
// it is not known.
func FormatTime(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return fmt.Sprintf("%d.%09d", t.Unix(), t.Nanosecond())
}

// ParseTime reads what FormatTime has written.
func ParseTime(s string) (time.Time, error) {
	if s == "" {
		return time.Time{}, nil
	}
	whole, part, found := strings.Cut(s, ".")
	if !found || len(part) != 9 {
		return time.Time{}, ErrFormat
	}
	sec, err := strconv.ParseInt(whole, 10, 64)
	if err != nil {
		return time.Time{}, err
	}
	nsec, err := strconv.ParseUint(part, 10, 32)
	if err != nil {
		return time.Time{}, err
	}
	return time.Unix(sec, int64(nsec)), nil
}
