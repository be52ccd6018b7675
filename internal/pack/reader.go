package pack

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"morvant/internal/digest"
	"morvant/internal/problem"
)

// ReadIndex reads the trailer of a pack of size bytes: its name and its entries.
func ReadIndex(r io.ReaderAt, size int64) (digest.Digest, []Entry, error) {
	var name digest.Digest
	head := make([]byte, headerSize)
	if err := readFull(r, head, 0); err != nil {
		return name, nil, err
	}
	if err := checkHeader(head); err != nil {
		return name, nil, err
	}
	if size < headerSize+footerSize {
		return name, nil, fmt.Errorf("%w: %d bytes long", ErrFormat, size)
	}
	footer := make([]byte, footerSize)
	if err := readFull(r, footer, size-footerSize); err != nil {
		return name, nil, err
	}
	if [8]byte(footer[40:]) != footerMagic {
		return name, nil, fmt.Errorf("%w: it has no trailer", ErrFormat)
	}
	count := int64(binary.LittleEndian.Uint32(footer))
	if count > maxEntries || count*entrySize > size-headerSize-footerSize {
		return name, nil, fmt.Errorf("%w: %d entries in %d bytes", ErrFormat, count, size)
	}
	name = digest.Digest(footer[8:40])
	end := size - footerSize - count*entrySize
	index := make([]byte, headerSize+count*entrySize)
	copy(index, head)
	if err := readFull(r, index[headerSize:], end); err != nil {
		return name, nil, err
	}
	if digest.Of(index) != name {
		return name, nil, fmt.Errorf("trailer: %w", ErrChecksum)
	}
	entries := make([]Entry, count)
	for i := range entries {
		e, err := parseEntry(index[headerSize+i*entrySize:], end)
		if err != nil {
			return name, nil, err
		}
		if e.Coding == Bare && !holdsBare(head) {
			return name, nil, fmt.Errorf("%w: a bare record in a pack of version %d", ErrFormat, Version)
		}
		entries[i] = e
	}
	return name, entries, nil
}

// ReadStored reads the stored bytes of a record into buf, growing it as needed,
// and checks the head in front of them.
func ReadStored(r io.ReaderAt, e Entry, buf []byte) ([]byte, error) {
	if err := e.Check(); err != nil {
		return nil, err
	}
	n := int(e.Size())
	if cap(buf) < n {
		buf = make([]byte, n)
	}
	buf = buf[:n]
	if err := readFull(r, buf, e.Offset); err != nil {
		return nil, fmt.Errorf("record %s: %w", e.Digest.Short(), err)
	}
	return Stored(buf, e)
}

// Stored returns the stored bytes of a record whose e.Size() bytes are in buf.
func Stored(buf []byte, e Entry) ([]byte, error) {
	if e.Coding == Bare {
		return buf, nil
	}
	found, err := parseHead(buf)
	if err != nil {
		return nil, fmt.Errorf("record %s: %w", e.Digest.Short(), err)
	}
	found.Offset = e.Offset
	if found != e {
		return nil, fmt.Errorf("record %s: %w: another record is in its place", e.Digest.Short(), ErrChecksum)
	}
	return buf[recordSize:], nil
}

// Recover finds every whole record in a pack whose trailer is lost, by walking
// the record heads and searching for the next one behind damage. The content is
// not checked.
func Recover(r io.ReaderAt, size int64) ([]Entry, error) {
	head := make([]byte, headerSize)
	if err := readFull(r, head, 0); err != nil {
		return nil, err
	}
	// A damaged header says nothing about the records; a newer one does.
	if err := checkHeader(head); errors.Is(err, problem.ErrNewer) {
		return nil, err
	}
	if holdsBare(head) {
		return nil, nil // nothing but the trailer tells where its records are
	}
	var entries []Entry
	b := make([]byte, recordSize)
	for at := int64(headerSize); at+recordSize <= size; {
		if err := readFull(r, b, at); err != nil {
			return entries, err
		}
		e, err := parseHead(b)
		if err != nil || at+e.Size() > size {
			next, err := findRecord(r, at+1, size)
			if err != nil {
				return entries, err
			}
			at = next
			continue
		}
		e.Offset = at
		entries = append(entries, e)
		at += e.Size()
	}
	return entries, nil
}

// findRecord returns the next place from at on where the magic of a record
// stands, or size.
func findRecord(r io.ReaderAt, at, size int64) (int64, error) {
	buf := make([]byte, 1<<16)
	for at < size {
		n, err := r.ReadAt(buf[:min(int64(len(buf)), size-at)], at)
		if err != nil && !(errors.Is(err, io.EOF) && n > 0) {
			return size, err
		}
		if i := bytes.Index(buf[:n], recordMagic[:]); i >= 0 {
			return at + int64(i), nil
		}
		if n < len(recordMagic) {
			break
		}
		at += int64(n - len(recordMagic) + 1)
	}
	return size, nil
}

func readFull(r io.ReaderAt, b []byte, at int64) error {
	n, err := r.ReadAt(b, at)
	if n == len(b) {
		return nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		return fmt.Errorf("%w: it ends early", ErrFormat)
	}
	return err
}
