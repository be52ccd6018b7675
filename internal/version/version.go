// Package version reads what a game says about its own version: the version
// resource of a Windows program, on any system, and lines of text files and logs.
// It starts nothing, and treats every file as hostile.
package version

import (
	"bytes"
	"context"
	"debug/pe"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf16"

	"morvant/internal/edit"
	"morvant/internal/volume"
)

// ErrNone is returned for a file that says nothing about a version.
var ErrNone = errors.New("it reports no version")

// Info is what a program's version resource says.
type Info struct {
	File    string // "1.1.1.0"
	Product string
}

const (
	// maxResource bounds the resources that are read of a program, in bytes.
	maxResource = 64 << 20
	versionType = 16 // RT_VERSION
	// maxDepth bounds how far boxes within boxes are followed.
	maxDepth = 4
)

// OfProgram reads the version resource of a Windows program.
func OfProgram(r io.ReaderAt) (Info, error) {
	f, err := pe.NewFile(r)
	if err != nil {
		return Info{}, fmt.Errorf("%w: no Windows program", ErrNone)
	}
	s := f.Section(".rsrc")
	if s == nil || s.Size == 0 || s.Size > maxResource {
		return Info{}, ErrNone
	}
	data := make([]byte, s.Size)
	if n, err := s.ReadAt(data, 0); err != nil && !errors.Is(err, io.EOF) {
		return Info{}, err
	} else {
		data = data[:n]
	}
	block, ok := find(data, s.VirtualAddress)
	if !ok {
		return Info{}, ErrNone
	}
	info := Info{}
	walk(block, 0, &info)
	if info == (Info{}) {
		return info, ErrNone
	}
	return info, nil
}

// find follows the resource directory to the first version block: type, name,
// language, data.
func find(data []byte, base uint32) ([]byte, bool) {
	at := uint32(0)
	for level := range 3 {
		next, ok := entry(data, at, level == 0)
		if !ok || (next&0x8000_0000 != 0) != (level < 2) {
			return nil, false
		}
		at = next &^ 0x8000_0000
	}
	if uint64(at)+16 > uint64(len(data)) {
		return nil, false
	}
	start, size := binary.LittleEndian.Uint32(data[at:])-base, binary.LittleEndian.Uint32(data[at+4:])
	if uint64(start)+uint64(size) > uint64(len(data)) {
		return nil, false
	}
	return data[start : start+size], true
}

// entry returns where an entry of the directory at leads: the one for versions, or
// the first.
func entry(data []byte, at uint32, versions bool) (uint32, bool) {
	if uint64(at)+16 > uint64(len(data)) {
		return 0, false
	}
	n := int(binary.LittleEndian.Uint16(data[at+12:])) + int(binary.LittleEndian.Uint16(data[at+14:]))
	for i := range n {
		e := uint64(at) + 16 + 8*uint64(i)
		if e+8 > uint64(len(data)) {
			return 0, false
		}
		if id := binary.LittleEndian.Uint32(data[e:]); !versions || id == versionType {
			return binary.LittleEndian.Uint32(data[e+4:]), true
		}
	}
	return 0, false
}

// walk reads a box of the version block: length, length of its value, kind, key,
// value, then more boxes.
func walk(b []byte, depth int, info *Info) {
	if len(b) < 6 || depth > maxDepth {
		return
	}
	length, valueLength, isText := int(binary.LittleEndian.Uint16(b)), int(binary.LittleEndian.Uint16(b[2:])), binary.LittleEndian.Uint16(b[4:]) == 1
	if length < 6 || length > len(b) {
		return
	}
	b = b[:length]
	key, at := text(b, 6)
	at = align(at)
	if isText {
		valueLength *= 2
	}
	if at > len(b) {
		return
	}
	value := b[at:min(len(b), at+valueLength)]
	switch {
	case key == "VS_VERSION_INFO" && len(value) >= 52 && binary.LittleEndian.Uint32(value) == 0xFEEF04BD:
		info.File = numbers(value[8:])
		info.Product = numbers(value[16:])
	case key == "FileVersion" || key == "ProductVersion":
		if s, _ := text(value, 0); s != "" {
			into := &info.File
			if key == "ProductVersion" {
				into = &info.Product
			}
			*into = printable(s)
		}
		return
	}
	for at = align(at + len(value)); at+6 <= len(b); {
		n := int(binary.LittleEndian.Uint16(b[at:]))
		if n < 6 {
			return
		}
		walk(b[at:], depth+1, info)
		at = align(at + n)
	}
}

func align(n int) int { return (n + 3) &^ 3 }

// numbers writes the two halves of a version: 1.2.3.4.
func numbers(b []byte) string {
	high, low := binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint32(b[4:])
	return fmt.Sprintf("%d.%d.%d.%d", high>>16, high&0xFFFF, low>>16, low&0xFFFF)
}

// text reads UTF-16 from at up to its end, and returns the place behind it.
func text(b []byte, at int) (string, int) {
	var units []uint16
	for ; at+1 < len(b); at += 2 {
		u := binary.LittleEndian.Uint16(b[at:])
		if u == 0 {
			return string(utf16.Decode(units)), at + 2
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units)), at
}

// maxVersion bounds what is shown of a version, in bytes.
const maxVersion = 80

func printable(s string) string {
	s = strings.TrimSpace(strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return -1
		}
		return r
	}, s))
	return s[:min(len(s), maxVersion)]
}

// Rule finds a version in a text file or a log.
type Rule struct {
	File string `toml:"file"` // relative to the live folder
	Find string `toml:"find"` // pattern (RE2, line by line) with one captured value
}

// Check returns an error unless the rule can be used.
func (r Rule) Check() error {
	switch {
	case r.File == "" || r.Find == "":
		return errors.New("a version rule needs file and find")
	case !filepath.IsLocal(filepath.FromSlash(r.File)):
		return fmt.Errorf("a version rule is about a file of the game, not \"%s\"", r.File)
	}
	_, err := edit.Compile(r.Find)
	return err
}

// maxLog bounds how much of a text file is read, from its end, in bytes.
const maxLog = 4 << 20

// Seen is what a file that a rule reads was like at one moment.
type Seen struct {
	size int64
	time time.Time
	end  []byte // its last bytes
}

// endSize is how much of the end of a file tells whether more was added to it, in bytes.
const endSize = 64 << 10

// Look remembers what the rule's file is like; nothing of one that cannot be read.
func Look(root *os.Root, r Rule) Seen {
	f, err := volume.OpenIn(root, r.File)
	if err != nil {
		return Seen{}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return Seen{}
	}
	s := Seen{size: info.Size(), time: info.ModTime()}
	s.end, err = io.ReadAll(io.NewSectionReader(f, max(0, s.size-endSize), min(s.size, endSize)))
	if err != nil {
		return Seen{}
	}
	return s
}

// Since returns the last version that the rule finds in what was written since: what was added, or
// all of a file that was written anew. ErrNone if that is nothing.
func Since(root *os.Root, r Rule, was Seen) (string, error) {
	f, err := volume.OpenIn(root, r.File)
	if err != nil {
		return "", err
	}
	info, err := f.Stat()
	if err == nil && info.Size() == was.size && info.ModTime().Equal(was.time) {
		err = fmt.Errorf("%s: %w", r.File, ErrNone)
	}
	end := make([]byte, len(was.end))
	if err == nil && info.Size() > was.size {
		_, err = f.ReadAt(end, was.size-int64(len(end)))
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return "", err
	}
	if info.Size() > was.size && bytes.Equal(end, was.end) {
		return lastOf(root, r, was.size)
	}
	return lastOf(root, r, 0)
}

// OfText returns the last version that the rule finds below root.
func OfText(root *os.Root, r Rule) (string, error) { return lastOf(root, r, 0) }

// lastOf returns the last version that the rule finds from an offset on.
func lastOf(root *os.Root, r Rule, from int64) (string, error) {
	p, err := edit.Compile(r.Find)
	if err != nil {
		return "", err
	}
	f, err := volume.OpenIn(root, r.File)
	if errors.Is(err, volume.ErrNotRegular) {
		return "", fmt.Errorf("%s: %w", r.File, ErrNone)
	}
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	b, err := io.ReadAll(io.NewSectionReader(f, max(from, info.Size()-maxLog), maxLog))
	if err != nil {
		return "", err
	}
	text := string(bytes.ToValidUTF8(b, nil))
	found, err := p.All(context.Background(), text)
	if err != nil {
		return "", fmt.Errorf("%s: %w", r.File, err)
	}
	if len(found) == 0 {
		return "", fmt.Errorf("%s: %w", r.File, ErrNone)
	}
	last := found[len(found)-1]
	return printable(text[max(last[2], 0):max(last[3], 0)]), nil
}

// Means reports whether a version that a game shows is that of a label: the same,
// or the same but for zeros at its end ("1.1.1.0" is 1.1.1).
func Means(version, label string) bool {
	for {
		if version == label {
			return true
		}
		short, ok := strings.CutSuffix(version, ".0")
		if !ok {
			return false
		}
		version = short
	}
}
