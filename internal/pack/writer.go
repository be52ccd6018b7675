package pack

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"

	"morvant/internal/digest"
)

const (
	bufferSize = 128 << 10
	// direct is the size from which a record is written on its own: a call costs
	// less than a copy in the buffer.
	direct = bufferSize / 4
)

// Writer appends records to a new pack. Its methods must not be called at the
// same time; the functions that Place returns may be.
type Writer struct {
	file    *os.File
	offset  int64 // where the next record goes
	buf     []byte
	bufAt   int64 // where the buffer goes
	entries []Entry
	version uint32
	// Eager writes every record at once, so that a killed process leaves all but
	// the last to be found again by Recover.
	Eager bool
}

// NewWriter starts a pack in f, which must be empty.
func NewWriter(f *os.File) *Writer {
	return &Writer{file: f, offset: headerSize, buf: header(Version), version: Version}
}

// Append adds a record whose bytes are already coded. The returned entry says
// where it went.
func (w *Writer) Append(d digest.Digest, kind Kind, coding Coding, plain int, stored []byte) (Entry, error) {
	e, write, err := w.Place(d, kind, coding, plain, stored)
	if err != nil {
		return e, err
	}
	return e, write()
}

// Place gives a record its place in the pack. The record is there once write has
// returned nil, which must be before Finish.
func (w *Writer) Place(d digest.Digest, kind Kind, coding Coding, plain int, stored []byte) (e Entry, write func() error, err error) {
	if coding == Bare || plain > MaxPlain || len(stored) > maxStored {
		return Entry{}, nil, fmt.Errorf("%w: a record of %d bytes", ErrFormat, plain)
	}
	e = Entry{Digest: d, Kind: kind, Coding: coding, Plain: uint32(plain), Stored: uint32(len(stored)), Offset: w.offset}
	if err := e.Check(); err != nil {
		return Entry{}, nil, err
	}
	write = func() error { return nil }
	if len(stored) < direct {
		w.buf = append(e.appendHead(w.buf), stored...)
		if len(w.buf) >= bufferSize || w.Eager {
			err = w.flush(e.Offset + e.Size())
		}
	} else {
		w.buf = e.appendHead(w.buf)
		err = w.flush(e.Offset + e.Size())
		write = func() error {
			_, err := w.file.WriteAt(stored, e.Offset+recordSize)
			return err
		}
	}
	w.offset = e.Offset + e.Size()
	w.entries = append(w.entries, e)
	return e, write, err
}

// bareAlign is what the place of shared content in a pack is a multiple of.
const bareAlign = 4096

// Share makes room for size bytes that share puts into the file, from where it is told on: content that
// the pack shares with another file. It must be the first of all; Bare then says what is in it.
func (w *Writer) Share(size int64, share func(at int64) error) (at int64, err error) {
	if w.offset != headerSize || size <= 0 {
		return 0, fmt.Errorf("%w: shared content is not the first", ErrFormat)
	}
	w.version, w.buf = BareVersion, header(BareVersion)
	at = bareAlign
	w.offset = at + (size+bareAlign-1)/bareAlign*bareAlign
	return at, errors.Join(w.flush(w.offset), share(at))
}

// Bare adds a record that stands in the shared content.
func (w *Writer) Bare(d digest.Digest, offset int64, size int) error {
	e := Entry{Digest: d, Kind: Chunk, Coding: Bare, Plain: uint32(size), Stored: uint32(size), Offset: offset}
	if err := e.Check(); err != nil || offset < bareAlign || offset+int64(size) > w.offset {
		return errors.Join(err, fmt.Errorf("%w: a record outside the pack", ErrFormat))
	}
	w.entries = append(w.entries, e)
	return nil
}

// flush writes the buffer; what is buffered next goes to offset next.
func (w *Writer) flush(next int64) error {
	_, err := w.file.WriteAt(w.buf, w.bufAt)
	w.buf, w.bufAt = w.buf[:0], next
	return err
}

// Size returns the bytes placed so far.
func (w *Writer) Size() int64 { return w.offset }

// Entries returns what was placed so far, in order.
func (w *Writer) Entries() []Entry { return w.entries }

// Finish writes the trailer, syncs the file to disk and returns the pack's name.
// The file stays open.
func (w *Writer) Finish() (digest.Digest, error) {
	index := header(w.version)
	for _, e := range w.entries {
		index = e.appendEntry(index)
	}
	name := digest.Of(index)
	w.buf = append(w.buf, index[headerSize:]...)
	w.buf = binary.LittleEndian.AppendUint32(w.buf, uint32(len(w.entries)))
	w.buf = append(w.buf, 0, 0, 0, 0)
	w.buf = append(w.buf, name[:]...)
	w.buf = append(w.buf, footerMagic[:]...)
	return name, errors.Join(w.flush(0), w.file.Sync())
}
