package standin

import (
	"encoding/binary"
	"fmt"
	"io"
	"unicode/utf16"
)

// The stand-in's program file is a Windows program (PE32+) that returns at once,
// with a version resource (VS_VERSIONINFO) as real ones have:
// https://learn.microsoft.com/windows/win32/debug/pe-format
// https://learn.microsoft.com/windows/win32/menurc/vs-versioninfo
const (
	fileAlign     = 0x200
	sectionAlign  = 0x1000
	headersSize   = 0x400
	textAddress   = 0x1000
	optionalSize  = 112 + 16*8
	resourceTypes = 16 // RT_VERSION
)

// writeProgram writes a program of at least size bytes whose version resource
// says version.
func writeProgram(w io.Writer, version string, size int64) error {
	code := make([]byte, align(int(size), fileAlign))
	copy(code, []byte{0x31, 0xc0, 0xc3}) // xor eax, eax; ret
	fill := &sliceOf{code[16:]}
	if err := seeded("program "+version, int64(len(code)-16))(fill); err != nil {
		return err
	}
	resourceAddress := textAddress + align(len(code), sectionAlign)
	resource := versionResource(version, resourceAddress)
	padded := make([]byte, align(len(resource), fileAlign))
	copy(padded, resource)
	head := programHeaders(len(code), len(resource), len(padded), resourceAddress)
	for _, part := range [][]byte{head, code, padded} {
		if _, err := w.Write(part); err != nil {
			return err
		}
	}
	return nil
}

type sliceOf struct{ rest []byte }

func (s *sliceOf) Write(b []byte) (int, error) {
	n := copy(s.rest, b)
	s.rest = s.rest[n:]
	return len(b), nil
}

func align(n, to int) int { return (n + to - 1) / to * to }

// layout writes little-endian numbers one after the other.
type layout struct{ b []byte }

func (l *layout) u16(values ...uint16) {
	for _, v := range values {
		l.b = binary.LittleEndian.AppendUint16(l.b, v)
	}
}

func (l *layout) u32(values ...uint32) {
	for _, v := range values {
		l.b = binary.LittleEndian.AppendUint32(l.b, v)
	}
}

func (l *layout) u64(values ...uint64) {
	for _, v := range values {
		l.b = binary.LittleEndian.AppendUint64(l.b, v)
	}
}

func (l *layout) text(s string) {
	for _, u := range utf16.Encode([]rune(s)) {
		l.u16(u)
	}
	l.u16(0)
}

func (l *layout) pad(to int) { l.b = append(l.b, make([]byte, align(len(l.b), to)-len(l.b))...) }

func programHeaders(codeSize, resourceSize, resourcePadded, resourceAddress int) []byte {
	l := &layout{b: make([]byte, 0x40)}
	copy(l.b, "MZ")
	binary.LittleEndian.PutUint32(l.b[0x3c:], 0x40)
	l.b = append(l.b, "PE\x00\x00"...)
	l.u16(0x8664, 2) // machine, sections
	l.u32(0, 0, 0)   // time, symbols
	l.u16(optionalSize, 0x0022)
	l.u16(0x20b, 0) // PE32+
	l.u32(uint32(codeSize), uint32(resourcePadded), 0, textAddress, textAddress)
	l.u64(0x140000000)
	l.u32(sectionAlign, fileAlign)
	l.u16(6, 0, 0, 0, 6, 0)
	l.u32(0, uint32(resourceAddress+align(resourceSize, sectionAlign)), headersSize, 0)
	l.u16(2, 0x8160) // window program
	l.u64(1<<20, 1<<12, 1<<20, 1<<12)
	l.u32(0, 16)
	l.u64(0, 0) // exports, imports
	l.u32(uint32(resourceAddress), uint32(resourceSize))
	for range 13 {
		l.u64(0)
	}
	section := func(name string, size, address, raw, at int, flags uint32) {
		l.b = append(l.b, fmt.Sprintf("%-8s", name)...)
		for i := len(l.b) - 8; i < len(l.b); i++ {
			if l.b[i] == ' ' {
				l.b[i] = 0
			}
		}
		l.u32(uint32(size), uint32(address), uint32(raw), uint32(at), 0, 0, 0, flags)
	}
	section(".text", codeSize, textAddress, codeSize, headersSize, 0x60000020)
	section(".rsrc", resourceSize, resourceAddress, resourcePadded, headersSize+codeSize, 0x40000040)
	l.pad(headersSize)
	return l.b
}

// versionResource is a resource section that holds a version and nothing else.
func versionResource(version string, address int) []byte {
	info := versionInfo(version)
	l := &layout{}
	for level, id := range []uint32{resourceTypes, 1, 1033} {
		l.u32(0, 0)
		l.u16(0, 0, 0, 1)
		next := uint32(len(l.b) + 8)
		if level < 2 {
			next |= 1 << 31 // another folder of the resource tree
		}
		l.u32(id, next)
	}
	l.u32(uint32(address+len(l.b)+16), uint32(len(info)), 0, 0)
	return append(l.b, info...)
}

func versionInfo(version string) []byte {
	var major, minor, patch uint32
	fmt.Sscanf(version, "%d.%d.%d", &major, &minor, &patch)
	fixed := &layout{}
	fixed.u32(0xfeef04bd, 0x10000, major<<16|minor, patch<<16, major<<16|minor, patch<<16, 0x3f, 0, 0x40004, 1, 0, 0, 0)
	var texts []byte
	for _, pair := range [][2]string{
		{"CompanyName", "Saltmarsh Works"}, {"FileDescription", "Cinder Quay"}, {"FileVersion", version},
		{"OriginalFilename", "quay.exe"}, {"ProductName", "Cinder Quay"}, {"ProductVersion", version},
	} {
		value := &layout{}
		value.text(pair[1])
		texts = block(texts, pair[0], value.b, len(value.b)/2, 1, nil)
	}
	table := block(nil, "040904b0", nil, 0, 1, texts)
	strings := block(nil, "StringFileInfo", nil, 0, 1, table)
	translation := block(nil, "Translation", []byte{0x09, 0x04, 0xb0, 0x04}, 4, 0, nil)
	children := append(strings, make([]byte, align(len(strings), 4)-len(strings))...)
	children = append(children, block(nil, "VarFileInfo", nil, 0, 1, translation)...)
	return block(nil, "VS_VERSION_INFO", fixed.b, len(fixed.b), 0, children)
}

// block appends one block of a version resource: its length, the length of its
// value, whether that is text, its key, the value and the blocks inside it.
func block(to []byte, key string, value []byte, valueLength int, isText uint16, children []byte) []byte {
	l := &layout{}
	l.u16(0, uint16(valueLength), isText)
	l.text(key)
	l.pad(4)
	l.b = append(l.b, value...)
	if len(children) > 0 {
		l.pad(4)
		l.b = append(l.b, children...)
	}
	binary.LittleEndian.PutUint16(l.b, uint16(len(l.b)))
	to = append(to, make([]byte, align(len(to), 4)-len(to))...)
	return append(to, l.b...)
}
