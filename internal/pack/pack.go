// Package pack holds the pack: an append-only file of content records that is
// never changed once closed.
//
// A pack is a header, records one after the other, and a trailer that indexes
// them. All numbers are little-endian.
//
//	header   magic "MORVPACK", version (4 bytes), zero (4)
//	record   magic "MREC", kind (1), coding (1), zero (2), plain size (4),
//	         stored size (4), digest of the plain bytes (32), CRC-32C of the
//	         48 bytes before (4), then the stored bytes
//	entry    digest (32), offset of the record (8), plain size (4),
//	         stored size (4), kind (1), coding (1), zero (2)
//	bare     the stored bytes alone, in a pack of version 2: content that it shares with
//	         another file, from the first multiple of 4096 bytes on
//	footer   number of entries (4), zero (4), digest of header and entries (32),
//	         magic "MORVTAIL"
//
// The digest in the footer is the pack's name. Each record can be checked and
// decoded on its own, so the trailer can be rebuilt when it is lost: Recover
// finds every whole record of a damaged file.
//
// A reader checks every length against a limit before it allocates, and every
// record against its digest before it hands it out.
package pack

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"

	"morvant/internal/digest"
	"morvant/internal/problem"
)

// The format versions: a pack is of the first, unless it holds bare records.
const (
	Version     = 1
	BareVersion = 2
)

// MaxPlain is the most bytes one record may hold once decoded.
const MaxPlain = 4 << 20

// Overhead is what a record takes in a pack beside its stored bytes: its head and
// its entry.
const Overhead = recordSize + entrySize

// Frame is what a pack takes beside its records: header and footer.
const Frame = headerSize + footerSize

const (
	headerSize = 16
	recordSize = 52
	entrySize  = 52
	footerSize = 48

	// maxStored allows for the few bytes by which a coding can exceed its input.
	maxStored = MaxPlain + 1<<16
	// maxEntries bounds the trailer of one pack, far above what writers produce.
	maxEntries = 1 << 22
)

var (
	headerMagic = [8]byte{'M', 'O', 'R', 'V', 'P', 'A', 'C', 'K'}
	recordMagic = [4]byte{'M', 'R', 'E', 'C'}
	footerMagic = [8]byte{'M', 'O', 'R', 'V', 'T', 'A', 'I', 'L'}
)

// Errors that callers test for.
var (
	ErrFormat   = errors.New("not a pack")
	ErrChecksum = errors.New("content does not match its digest")
)

// Kind says what a record holds.
type Kind uint8

// The kinds of records.
const (
	Chunk  Kind = 1 // a piece of file content
	Layout Kind = 2 // which chunks make up one file
	Note   Kind = 3 // a description of a build, so that it can be found again from the packs alone
	Again  Kind = 4 // a chunk that stands in another pack as well, here coded against another base
)

// Coding says how the bytes of a record are stored.
type Coding uint8

// The codings.
const (
	Plain Coding = 0
	Zstd  Coding = 1 // one RFC 8878 frame
	Based Coding = 2 // the digest of a base chunk, then a frame whose raw dictionary is that chunk
	Bare  Coding = 3 // the plain bytes, and no head in front of them
)

// NeedsBase reports whether another chunk is needed to decode a record.
func (c Coding) NeedsBase() bool { return c == Based }

// Entry tells what a record holds and where it is.
type Entry struct {
	Digest digest.Digest // of the plain bytes
	Kind   Kind
	Coding Coding
	Plain  uint32 // bytes once decoded
	Stored uint32 // bytes in the pack
	Offset int64  // of the record in the pack
}

// Size returns the bytes that the record takes in the pack, its head included.
func (e Entry) Size() int64 {
	if e.Coding == Bare {
		return int64(e.Stored)
	}
	return recordSize + int64(e.Stored)
}

// Check returns an error unless the entry can be that of a record.
func (e Entry) Check() error {
	switch {
	case e.Plain > MaxPlain || e.Stored > maxStored:
		return fmt.Errorf("%w: a record of %d bytes, stored in %d", ErrFormat, e.Plain, e.Stored)
	case e.Kind < Chunk || e.Kind > Again:
		return fmt.Errorf("%w: record kind %d", ErrFormat, e.Kind)
	case e.Coding > Bare || e.Coding == Based && e.Stored < digest.Size:
		return fmt.Errorf("%w: coding %d", ErrFormat, e.Coding)
	case (e.Coding == Plain || e.Coding == Bare) && e.Plain != e.Stored:
		return fmt.Errorf("%w: plain record of %d bytes stored in %d", ErrFormat, e.Plain, e.Stored)
	}
	return nil
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func (e Entry) appendHead(b []byte) []byte {
	start := len(b)
	b = append(b, recordMagic[:]...)
	b = append(b, byte(e.Kind), byte(e.Coding), 0, 0)
	b = binary.LittleEndian.AppendUint32(b, e.Plain)
	b = binary.LittleEndian.AppendUint32(b, e.Stored)
	b = append(b, e.Digest[:]...)
	return binary.LittleEndian.AppendUint32(b, crc32.Checksum(b[start:], castagnoli))
}

// parseHead reads what appendHead wrote; the offset is the caller's to set.
func parseHead(b []byte) (Entry, error) {
	var e Entry
	if len(b) < recordSize || [4]byte(b[:4]) != recordMagic {
		return e, fmt.Errorf("%w: no record here", ErrFormat)
	}
	if crc32.Checksum(b[:48], castagnoli) != binary.LittleEndian.Uint32(b[48:]) {
		return e, fmt.Errorf("record head: %w", ErrChecksum)
	}
	e.Kind, e.Coding = Kind(b[4]), Coding(b[5])
	if e.Coding == Bare {
		return e, fmt.Errorf("%w: a bare record has no head", ErrFormat)
	}
	e.Plain = binary.LittleEndian.Uint32(b[8:])
	e.Stored = binary.LittleEndian.Uint32(b[12:])
	e.Digest = digest.Digest(b[16:48])
	return e, e.Check()
}

func (e Entry) appendEntry(b []byte) []byte {
	b = append(b, e.Digest[:]...)
	b = binary.LittleEndian.AppendUint64(b, uint64(e.Offset))
	b = binary.LittleEndian.AppendUint32(b, e.Plain)
	b = binary.LittleEndian.AppendUint32(b, e.Stored)
	return append(b, byte(e.Kind), byte(e.Coding), 0, 0)
}

func parseEntry(b []byte, end int64) (Entry, error) {
	e := Entry{
		Digest: digest.Digest(b[:32]),
		Offset: int64(binary.LittleEndian.Uint64(b[32:])),
		Plain:  binary.LittleEndian.Uint32(b[40:]),
		Stored: binary.LittleEndian.Uint32(b[44:]),
		Kind:   Kind(b[48]),
		Coding: Coding(b[49]),
	}
	if err := e.Check(); err != nil {
		return e, err
	}
	if e.Offset < headerSize || e.Offset > end-e.Size() {
		return e, fmt.Errorf("%w: a record outside the pack", ErrFormat)
	}
	return e, nil
}

func header(version uint32) []byte {
	b := append(make([]byte, 0, headerSize), headerMagic[:]...)
	b = binary.LittleEndian.AppendUint32(b, version)
	return append(b, 0, 0, 0, 0)
}

// holdsBare reports whether the pack with this header may hold bare records.
func holdsBare(header []byte) bool { return binary.LittleEndian.Uint32(header[8:]) == BareVersion }

func checkHeader(b []byte) error {
	if len(b) < headerSize || [8]byte(b[:8]) != headerMagic {
		return ErrFormat
	}
	if v := binary.LittleEndian.Uint32(b[8:]); v != Version && v != BareVersion {
		return fmt.Errorf("pack of version %d: %w", v, problem.ErrNewer)
	}
	return nil
}
