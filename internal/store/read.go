package store

import (
	"container/list"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/volume"
)

// DamageError says that a record is there but cannot be read back.
type DamageError struct {
	Digest digest.Digest
	Pack   string
	Err    error
}

func (e *DamageError) Error() string {
	return fmt.Sprintf("the store is damaged (pack %.12s): %v", e.Pack, e.Err)
}

func (e *DamageError) Unwrap() error { return e.Err }

// ReadError says that a pack cannot be read now: for want of rights, or because the disk
// fails. That is neither damage nor absence.
type ReadError struct {
	Pack string
	Err  error
}

func (e *ReadError) Error() string {
	return fmt.Sprintf("the store cannot be read (pack %.12s): %v", e.Pack, e.Err)
}

func (e *ReadError) Unwrap() error { return e.Err }

// broken tells damage from what only cannot be read now.
func broken(d digest.Digest, name string, err error) error {
	var file *fs.PathError
	if errors.As(err, &file) && !volume.Absent(err) {
		return &ReadError{name, err}
	}
	return &DamageError{d, name, err}
}

// Chunk returns the bytes with this digest, checked. buf is room for them, used if it is large enough.
func (s *Store) Chunk(ctx context.Context, d digest.Digest, buf []byte) ([]byte, error) {
	l, err := s.locate(ctx, d)
	if err != nil {
		return nil, err
	}
	return s.read(l, buf)
}

func (s *Store) read(l location, buf []byte) ([]byte, error) {
	return s.readWith(s.coder.Decode, l, buf)
}

func (s *Store) readWith(decode func(pack.Entry, []byte, []byte) ([]byte, error), l location, buf []byte) ([]byte, error) {
	f, err := s.files.get(l.pack)
	if err != nil {
		return nil, broken(l.entry.Digest, l.pack, err)
	}
	defer s.files.put(f)
	var stored []byte
	if l.entry.Coding == pack.Plain {
		stored = buf
	}
	stored, err = pack.ReadStored(f, l.entry, stored)
	if err != nil {
		return nil, broken(l.entry.Digest, l.pack, err)
	}
	plain, err := decode(l.entry, stored, buf)
	if err != nil {
		return nil, &DamageError{l.entry.Digest, l.pack, err}
	}
	return plain, nil
}

// eachChunk reads chunks in order, each into room that is given for it, and does not
// check them: the caller checks what they make up.
func (s *Store) eachChunk(ctx context.Context, pieces []Piece, room func() []byte, take func([]byte) error) error {
	for part := range slices.Chunk(pieces, batch) {
		places, err := s.locateAll(ctx, part)
		if err != nil {
			return err
		}
		for _, p := range part {
			l, ok := places[p.Digest]
			if !ok {
				return fmt.Errorf("%s: %w", p.Digest.Short(), ErrMissing)
			}
			b, err := s.readWith(s.coder.Inflate, l, room())
			if err == nil {
				err = take(b)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// readAhead is how many chunks are read ahead of what is done with them.
const readAhead = 8

// Read hands the chunks of the content with this digest to take, in order. While take
// works, the next ones are read. It returns an error unless they make up just that content;
// what take has been given before is not to be used then.
func (s *Store) Read(ctx context.Context, file digest.Digest, take func([]byte) error) error {
	pieces, err := s.Layout(ctx, file)
	if err != nil {
		return err
	}
	return s.readAs(ctx, file, pieces, take)
}

// Reader reads many contents, most of them small, for less than Read does: where those that are one chunk
// stand is asked of the index for many at once.
type Reader struct {
	store *Store
	small map[digest.Digest]location
}

// Reader returns what reads these contents.
func (s *Store) Reader(ctx context.Context, files []digest.Digest) (*Reader, error) {
	r := &Reader{s, make(map[digest.Digest]location)}
	for part := range slices.Chunk(files, batch) {
		pieces := make([]Piece, len(part))
		for i, d := range part {
			pieces[i].Digest = d
		}
		found, err := s.locateAll(ctx, pieces)
		if err != nil {
			return nil, err
		}
		for d, l := range found {
			if l.entry.Kind == pack.Chunk {
				r.small[d] = l
			}
		}
	}
	return r, nil
}

// Read is Store.Read.
func (r *Reader) Read(ctx context.Context, file digest.Digest, take func([]byte) error) error {
	l, is := r.small[file]
	if !is {
		return r.store.Read(ctx, file, take)
	}
	b, err := r.store.read(l, nil)
	if err != nil {
		return err
	}
	return take(b)
}

// readAs is Read for content that consists of these pieces.
func (s *Store) readAs(ctx context.Context, file digest.Digest, pieces []Piece, take func([]byte) error) error {
	chunks, free := make(chan []byte, readAhead), make(chan []byte, readAhead+2)
	for range cap(free) {
		free <- nil
	}
	hasher := digest.NewHasher()
	g, working := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(chunks)
		room := func() []byte {
			select {
			case b := <-free:
				return b
			case <-working.Done():
				return nil
			}
		}
		return s.eachChunk(working, pieces, room, func(b []byte) error {
			select {
			case chunks <- b:
				return nil
			case <-working.Done():
				return working.Err()
			}
		})
	})
	g.Go(func() error {
		for b := range chunks {
			hasher.Write(b)
			if err := take(b); err != nil {
				return err
			}
			select {
			case free <- b:
			default: // once it is over, room comes from nowhere, and there is more than fits
			}
		}
		return nil
	})
	if err := g.Wait(); err != nil {
		return err
	}
	if hasher.Digest() != file {
		return s.blame(ctx, file, pieces)
	}
	return nil
}

// blame finds out why content is not what it should be: a chunk is damaged, or the list of its chunks is.
func (s *Store) blame(ctx context.Context, file digest.Digest, pieces []Piece) error {
	for _, p := range pieces {
		if _, err := s.Chunk(ctx, p.Digest, nil); err != nil {
			return err
		}
	}
	return fmt.Errorf("content %s: %w", file.Short(), pack.ErrChecksum)
}

// WriteTo writes the content with this digest to w, and returns an error unless it is just that.
func (s *Store) WriteTo(ctx context.Context, w io.Writer, file digest.Digest) error {
	return s.Read(ctx, file, func(b []byte) error {
		_, err := w.Write(b)
		return err
	})
}

// Bytes returns the whole content with this digest, which must not be longer than limit bytes.
func (s *Store) Bytes(ctx context.Context, file digest.Digest, limit int64) ([]byte, error) {
	pieces, err := s.Layout(ctx, file)
	if err != nil {
		return nil, err
	}
	var size int64
	for _, p := range pieces {
		size += int64(p.Size)
	}
	if size > limit {
		return nil, fmt.Errorf("content %s: %d bytes are more than the %d expected", file.Short(), size, limit)
	}
	w := &sliceWriter{b: make([]byte, 0, size)}
	err = s.WriteTo(ctx, w, file)
	return w.b, err
}

type sliceWriter struct{ b []byte }

func (w *sliceWriter) Write(b []byte) (int, error) {
	w.b = append(w.b, b...)
	return len(b), nil
}

// packFiles keeps packs open between reads, a bounded number of them.
type packFiles struct {
	dir    string
	mu     sync.Mutex
	byName map[string]*list.Element
	recent *list.List // of *packFile, the last used in front
}

type packFile struct {
	*os.File
	name  string
	users int
	stale bool // closed by the last user
}

const maxOpenPacks = 128

func newPackFiles(dir string) *packFiles {
	return &packFiles{dir: dir, byName: make(map[string]*list.Element), recent: list.New()}
}

func (p *packFiles) get(name string) (*packFile, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if e, ok := p.byName[name]; ok {
		p.recent.MoveToFront(e)
		f := e.Value.(*packFile)
		f.users++
		return f, nil
	}
	file, err := volume.Open(filepath.Join(p.dir, name+packSuffix))
	if err != nil {
		return nil, err
	}
	f := &packFile{File: file, name: name, users: 1}
	p.byName[name] = p.recent.PushFront(f)
	if p.recent.Len() > maxOpenPacks {
		p.drop(p.recent.Back())
	}
	return f, nil
}

func (p *packFiles) put(f *packFile) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if f.users--; f.users == 0 && f.stale {
		f.Close()
	}
}

// drop forgets a pack; p.mu is held.
func (p *packFiles) drop(e *list.Element) error {
	f := p.recent.Remove(e).(*packFile)
	delete(p.byName, f.name)
	if f.users > 0 {
		f.stale = true
		return nil
	}
	return f.Close()
}

// forget closes a pack that is about to be removed.
func (p *packFiles) forget(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if e, ok := p.byName[name]; ok {
		p.drop(e)
	}
}

func (p *packFiles) close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	var err error
	for p.recent.Len() > 0 {
		err = errors.Join(err, p.drop(p.recent.Back()))
	}
	return err
}
