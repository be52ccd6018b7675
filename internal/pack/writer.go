package pack

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"math"
	"os"

	"morvant/internal/digest"
)

const (
	bufferSize = 128 << 10
	// direct is the size from which a record is written on its own: a call costs
	// less than a copy in the buffer.
	direct = bufferSize / 4
)

// Writer appends records to a new pack. It is not safe for several goroutines.
type Writer struct {
	file    *os.File
	out     *bufio.Writer
	offset  int64
	entries []Entry
	head    []byte // room for one record head
}

// NewWriter starts a pack in f, which must be empty.
func NewWriter(f *os.File) (*Writer, error) {
	w := &Writer{file: f, out: bufio.NewWriterSize(f, bufferSize), offset: headerSize}
	if _, err := w.out.Write(header()); err != nil {
		return nil, err
	}
	return w, nil
}

// Append adds a record whose bytes are already coded. The returned entry says
// where it went.
func (w *Writer) Append(d digest.Digest, kind Kind, coding Coding, plain int, stored []byte) (Entry, error) {
	if plain > math.MaxUint32 || len(stored) > math.MaxUint32 {
		return Entry{}, fmt.Errorf("%w: a record of %d bytes", ErrFormat, plain)
	}
	e := Entry{Digest: d, Kind: kind, Coding: coding, Plain: uint32(plain), Stored: uint32(len(stored)), Offset: w.offset}
	if err := e.check(); err != nil {
		return Entry{}, err
	}
	w.head = e.appendHead(w.head[:0])
	if _, err := w.out.Write(w.head); err != nil {
		return Entry{}, err
	}
	if err := w.write(stored); err != nil {
		return Entry{}, err
	}
	w.offset += e.Size()
	w.entries = append(w.entries, e)
	return e, nil
}

// write writes small records through the buffer and large ones around it.
func (w *Writer) write(stored []byte) error {
	if len(stored) < direct {
		_, err := w.out.Write(stored)
		return err
	}
	if err := w.out.Flush(); err != nil {
		return err
	}
	_, err := w.file.Write(stored)
	return err
}

// Size returns the bytes appended so far.
func (w *Writer) Size() int64 { return w.offset }

// Entries returns what was appended so far, in order.
func (w *Writer) Entries() []Entry { return w.entries }

// Finish writes the trailer, syncs the file to disk and returns the pack's name.
// The file stays open.
func (w *Writer) Finish() (digest.Digest, error) {
	index := header()
	for _, e := range w.entries {
		index = e.appendEntry(index)
	}
	name := digest.Of(index)
	if _, err := w.out.Write(index[headerSize:]); err != nil {
		return name, err
	}
	footer := binary.LittleEndian.AppendUint32(nil, uint32(len(w.entries)))
	footer = append(footer, 0, 0, 0, 0)
	footer = append(footer, name[:]...)
	footer = append(footer, footerMagic[:]...)
	if _, err := w.out.Write(footer); err != nil {
		return name, err
	}
	if err := w.out.Flush(); err != nil {
		return name, err
	}
	return name, w.file.Sync()
}
