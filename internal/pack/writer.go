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
	// Eager writes every record at once, so that a killed process leaves all but
	// the last to be found again by Recover.
	Eager bool
}

// NewWriter starts a pack in f, which must be empty.
func NewWriter(f *os.File) *Writer {
	return &Writer{file: f, offset: headerSize, buf: header()}
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
	if plain > MaxPlain || len(stored) > maxStored {
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
	index := header()
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
