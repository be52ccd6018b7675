package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"

	"morvant/internal/chunk"
	"morvant/internal/digest"
	"morvant/internal/layout"
	"morvant/internal/pack"
	"morvant/internal/process"
	"morvant/internal/volume"
)

const (
	// segmentSize is how much of a file is cut and handed out at a time, in bytes.
	segmentSize = 2 << 20
	// maxFull is how many full packs may wait for the disk before putting waits too.
	maxFull = 2
	// spare is kept free on the store's disk, in bytes: for the index, and for others.
	spare = 1 << 20
	// maxWorkers bounds the files worked on at once, and with them the memory.
	maxWorkers = 8
)

// Workers returns how many files should be put at once.
func Workers() int { return min(runtime.GOMAXPROCS(0), maxWorkers) }

// Session adds content to a store. Its methods may be called by as many
// goroutines as Workers says. What was put is findable when Close has returned;
// an interrupted session keeps what it had finished.
type Session struct {
	store    *Store
	cutter   *chunk.Cutter
	bufs     chan []byte // segments not in use
	packSize int64
	owner    string // of a session whose unfinished packs are found again; see Resume

	mu      sync.Mutex
	moved   *sync.Cond // full, closed or failed have changed
	current *openPack
	full    []*openPack                // on their way to disk and index, in order
	closed  bool                       // nothing more will come
	pending map[digest.Digest]struct{} // records placed, not in the index yet
	failed  error

	done chan struct{} // all full packs are dealt with

	added   atomic.Int64
	shares  atomic.Bool  // see Share
	shared  atomic.Int64 // bytes
	refused atomic.Int64
}

// openPack is a pack being written, under a name of its own. What a crash leaves
// of it is removed by Trim, which runs only when nobody is writing.
type openPack struct {
	file    *os.File
	writing sync.WaitGroup // records on their way to the file
	writer  *pack.Writer
	layouts []layoutRow
}

// Begin starts a session.
func (s *Store) Begin() *Session {
	s.sessions.Add(1)
	ss := &Session{
		store:    s,
		cutter:   chunk.New(),
		packSize: packSize,
		pending:  make(map[digest.Digest]struct{}),
		done:     make(chan struct{}),
	}
	ss.moved = sync.NewCond(&ss.mu)
	// Each file being put holds one segment while it waits for the next, so more segments than files keep things moving.
	n := 3*Workers() + 2
	ss.bufs = make(chan []byte, n)
	for range n {
		ss.bufs <- nil
	}
	go ss.finishPacks()
	return ss
}

// Added returns the bytes that this session has written to packs.
func (ss *Session) Added() int64 { return ss.added.Load() }

// Put stores what r yields and returns its digest and size. read, if not nil, is told of the bytes as they are read.
func (ss *Session) Put(ctx context.Context, r io.Reader, read func(n int)) (digest.Digest, int64, error) {
	if f, ok := r.(*os.File); ok && ss.shares.Load() {
		if d, n, done, err := ss.putShared(ctx, f, read); done || err != nil {
			return d, n, err
		}
	}
	p := &put{session: ss, ctx: ctx, hasher: digest.NewHasher()}
	d, n, err := p.run(r, read)
	if err != nil {
		return digest.Digest{}, n, err
	}
	return d, n, nil
}

// PutNote stores a short description under its digest.
func (ss *Session) PutNote(ctx context.Context, note []byte) (digest.Digest, error) {
	d := digest.Of(note)
	if ok, err := ss.store.hasRecord(ctx, d); ok || err != nil {
		return d, err
	}
	var scratch []byte
	return d, ss.add(d, pack.Note, note, &scratch)
}

// PutChunk stores a chunk that is coded already, has been checked, and is known to be missing.
func (ss *Session) PutChunk(e pack.Entry, stored []byte) error {
	return ss.append(e.Digest, pack.Chunk, e.Coding, int(e.Plain), stored, nil)
}

// PutPlain stores a chunk that has been checked.
func (ss *Session) PutPlain(ctx context.Context, d digest.Digest, plain []byte) error {
	if ok, err := ss.store.hasRecord(ctx, d); ok || err != nil || ss.isPending(d) {
		return err
	}
	var scratch []byte
	return ss.add(d, pack.Chunk, plain, &scratch)
}

// Assemble records that a file consists of these chunks, all of which are in the
// store. It reads them: content that does not have the file's digest is refused with pack.ErrChecksum.
func (ss *Session) Assemble(ctx context.Context, file digest.Digest, pieces []Piece, read func(n int)) error {
	if len(pieces) == 1 && pieces[0].Digest == file {
		return nil
	}
	var size int64
	err := ss.store.readAs(ctx, file, pieces, func(b []byte) error {
		size += int64(len(b))
		read(len(b))
		return nil
	})
	if err != nil {
		return err
	}
	return ss.putLayout(ctx, file, size, pieces)
}

// put is the work on one file.
type put struct {
	session *Session
	ctx     context.Context
	hasher  *digest.Hasher
	wg      sync.WaitGroup
	mu      sync.Mutex
	err     error
	// nameOnly leaves the chunks where they are, and says what they are.
	nameOnly bool
	pieces   []Piece // what it came to
}

// segment is a run of whole chunks. Its buffer is free again once the file's hash and its chunks have both been through it.
type segment struct {
	buf    []byte
	data   []byte
	pieces []Piece // digests are filled in by the work on the chunks
	users  atomic.Int32
}

func (p *put) run(r io.Reader, read func(int)) (digest.Digest, int64, error) {
	hashing := make(chan *segment, 2)
	p.wg.Add(1)
	go func() {
		defer p.wg.Done()
		for seg := range hashing {
			p.hasher.Write(seg.data)
			p.session.release(seg)
		}
	}()
	lists, size, err := p.cut(r, read, hashing)
	close(hashing)
	p.wg.Wait()
	if err == nil {
		err = p.err
	}
	if err != nil {
		return digest.Digest{}, size, err
	}
	for _, l := range lists {
		p.pieces = append(p.pieces, l...)
	}
	pieces := p.pieces
	if len(pieces) == 1 {
		return pieces[0].Digest, size, nil
	}
	file := p.hasher.Digest()
	if p.nameOnly {
		return file, size, nil
	}
	return file, size, p.session.putLayout(p.ctx, file, size, pieces)
}

// cut reads r to its end, cuts it and starts the work on each segment.
func (p *put) cut(r io.Reader, read func(int), hashing chan<- *segment) (lists [][]Piece, size int64, err error) {
	ss := p.session
	buf, err := ss.buffer(p.ctx)
	if err != nil {
		return nil, 0, err
	}
	have := 0
	for first := true; ; first = false {
		n, err := io.ReadFull(r, buf[have:])
		end := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !end {
			ss.bufs <- buf
			return lists, size, err
		}
		have += n
		size += int64(n)
		if read != nil {
			read(n)
		}
		if err := p.failed(); err != nil {
			ss.bufs <- buf
			return lists, size, err
		}
		seg := &segment{buf: buf}
		at := 0
		for have-at >= ss.cutter.Max() || end && at < have || end && first && len(seg.pieces) == 0 {
			n := ss.cutter.Next(buf[at:have])
			seg.pieces = append(seg.pieces, Piece{Size: n})
			at += n
		}
		seg.data = buf[:at]
		if end && len(seg.pieces) == 0 {
			ss.bufs <- buf
			return lists, size, nil
		}
		lists = append(lists, seg.pieces)
		if end {
			// The only chunk of a small file needs no second hash.
			p.start(seg, hashing, len(lists) == 1 && len(seg.pieces) == 1)
			return lists, size, nil
		}
		next, err := ss.buffer(p.ctx)
		if err != nil {
			ss.bufs <- buf
			return lists, size, err
		}
		have = copy(next, buf[at:have])
		p.start(seg, hashing, false)
		buf = next
	}
}

// start hands a segment to the hash of the file and to the work on its chunks.
func (p *put) start(seg *segment, hashing chan<- *segment, alone bool) {
	seg.users.Store(2)
	if alone {
		seg.users.Store(1)
		p.chunks(seg)
		return
	}
	hashing <- seg
	p.wg.Add(1)
	go func() {
		defer p.wg.Done()
		p.chunks(seg)
	}()
}

func (p *put) chunks(seg *segment) {
	defer p.session.release(seg)
	if p.nameOnly {
		seg.name()
		return
	}
	if err := p.session.chunks(p.ctx, seg); err != nil {
		p.mu.Lock()
		p.err = errors.Join(p.err, err)
		p.mu.Unlock()
	}
}

// name fills in the digests of a segment's chunks, and returns their bytes.
func (seg *segment) name() [][]byte {
	data := seg.data
	plain := make([][]byte, len(seg.pieces))
	for i := range seg.pieces {
		p := &seg.pieces[i]
		plain[i], data = data[:p.Size], data[p.Size:]
		p.Digest = digest.Of(plain[i])
	}
	return plain
}

// chunks names the chunks of a segment and stores those that are not there yet.
func (ss *Session) chunks(ctx context.Context, seg *segment) error {
	plain := seg.name()
	digests := make([]digest.Digest, len(seg.pieces))
	for i := range seg.pieces {
		digests[i] = seg.pieces[i].Digest
	}
	stored, err := ss.store.present(ctx, digests)
	if err != nil {
		return err
	}
	var scratch []byte
	for i, d := range digests {
		if err := ctx.Err(); err != nil {
			return err
		}
		if stored[d] || ss.isPending(d) {
			continue
		}
		if err := ss.add(d, pack.Chunk, plain[i], &scratch); err != nil {
			return err
		}
	}
	return nil
}

func (p *put) failed() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.err != nil {
		return p.err
	}
	return p.ctx.Err()
}

func (ss *Session) buffer(ctx context.Context) ([]byte, error) {
	select {
	case b := <-ss.bufs:
		if b == nil {
			b = make([]byte, segmentSize+ss.cutter.Max())
		}
		return b, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (ss *Session) release(seg *segment) {
	if seg.users.Add(-1) == 0 {
		ss.bufs <- seg.buf
	}
}

// add codes and stores one record. scratch is room to code in, kept for the next call.
func (ss *Session) add(d digest.Digest, kind pack.Kind, plain []byte, scratch *[]byte) error {
	coding, stored := ss.store.coder.Encode(plain, *scratch)
	if coding != pack.Plain {
		*scratch = stored
	}
	return ss.append(d, kind, coding, len(plain), stored, nil)
}

func (ss *Session) isPending(d digest.Digest) bool {
	ss.mu.Lock()
	defer ss.mu.Unlock()
	_, ok := ss.pending[d]
	return ok
}

// append adds a coded record to the current pack, unless another goroutine was
// faster. row, if not nil, is the line of the index that goes with it.
func (ss *Session) append(d digest.Digest, kind pack.Kind, coding pack.Coding, plain int, stored []byte, row *layoutRow) error {
	p, write, err := ss.place(d, kind, coding, plain, stored, row)
	if err != nil || p == nil {
		return err
	}
	// Writing needs no lock: every record has a place of its own.
	err = write()
	if err != nil {
		ss.mu.Lock()
		ss.failed = errors.Join(ss.failed, err)
		ss.mu.Unlock()
	}
	p.writing.Done()
	return err
}

// place finds room for a record. It returns no pack if the record is there already.
func (ss *Session) place(d digest.Digest, kind pack.Kind, coding pack.Coding, plain int, stored []byte, row *layoutRow) (*openPack, func() error, error) {
	ss.mu.Lock()
	defer ss.mu.Unlock()
	for len(ss.full) >= maxFull && ss.failed == nil {
		ss.moved.Wait()
	}
	if ss.failed != nil {
		return nil, nil, ss.failed
	}
	if ss.current != nil && ss.current.writer.Size() > ss.packSize {
		ss.retire()
	}
	if ss.current == nil {
		if ss.current, ss.failed = ss.store.newPack(ss.owner); ss.failed != nil {
			return nil, nil, ss.failed
		}
	}
	p := ss.current
	if row != nil {
		p.layouts = append(p.layouts, *row)
	}
	if _, ok := ss.pending[d]; ok {
		return nil, nil, nil
	}
	var e pack.Entry
	var write func() error
	if e, write, ss.failed = p.writer.Place(d, kind, coding, plain, stored); ss.failed != nil {
		return nil, nil, ss.failed
	}
	ss.pending[d] = struct{}{}
	ss.added.Add(e.Size())
	p.writing.Add(1)
	return p, write, nil
}

// retire hands the current pack on; ss.mu is held.
func (ss *Session) retire() {
	ss.full = append(ss.full, ss.current)
	ss.current = nil
	ss.moved.Broadcast()
}

// putLayout records which chunks make up a file. All of them are in this pack or in earlier ones.
func (ss *Session) putLayout(ctx context.Context, file digest.Digest, size int64, pieces []Piece) error {
	if ok, err := ss.store.Has(ctx, file); ok || err != nil {
		return err
	}
	for i, part := range layout.Encode(file, size, pieces) {
		d := digest.Of(part)
		coding, stored := ss.store.coder.Encode(part, nil)
		if err := ss.append(d, pack.Layout, coding, len(part), stored, &layoutRow{file, i, d}); err != nil {
			return err
		}
	}
	return nil
}

// Close brings everything put so far to disk and into the index.
func (ss *Session) Close() error {
	ss.mu.Lock()
	if ss.current != nil {
		ss.retire()
	}
	again := ss.closed
	ss.closed = true
	ss.moved.Broadcast()
	ss.mu.Unlock()
	<-ss.done
	if !again {
		ss.store.sessions.Add(-1)
	}
	return ss.failed
}

// finishPacks takes full packs to disk one after the other, so that what the
// index names is always complete, while the next one is being filled.
func (ss *Session) finishPacks() {
	defer close(ss.done)
	for {
		p := ss.next()
		if p == nil {
			return
		}
		p.writing.Wait()
		ss.mu.Lock()
		err := ss.failed
		ss.mu.Unlock()
		if err != nil {
			p.discard()
		} else {
			// Even a cancelled session keeps what it has: nothing is waited for twice.
			err = ss.store.finish(context.Background(), p)
		}
		ss.mu.Lock()
		if ss.failed == nil {
			ss.failed = err
		}
		for _, e := range p.writer.Entries() {
			delete(ss.pending, e.Digest)
		}
		ss.full = ss.full[1:]
		ss.moved.Broadcast()
		ss.mu.Unlock()
	}
}

// next waits for a full pack; nil means that no more will come.
func (ss *Session) next() *openPack {
	ss.mu.Lock()
	defer ss.mu.Unlock()
	for len(ss.full) == 0 && !ss.closed {
		ss.moved.Wait()
	}
	if len(ss.full) == 0 {
		return nil
	}
	return ss.full[0]
}

// newPack begins a pack. One that has an owner can be found again by Resume.
//
// The disk is not filled to its last byte: before that it is a volume.SpaceError.
func (s *Store) newPack(owner string) (*openPack, error) {
	if err := volume.CheckFree(s.dir, spare); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(filepath.Join(s.dir, packsDir), openPrefix+owner+"*")
	if err != nil {
		return nil, err
	}
	w := pack.NewWriter(f)
	w.Eager = owner != ""
	return &openPack{file: f, writer: w}, nil
}

func (p *openPack) discard() {
	p.file.Close()
	os.Remove(p.file.Name())
}

// finish closes a pack, gives it its name and adds it to the index.
func (s *Store) finish(ctx context.Context, p *openPack) error {
	name, err := s.name(p)
	if err != nil {
		return fmt.Errorf("write to the store: %w", err)
	}
	info, err := os.Stat(s.packPath(name.String()))
	if err != nil {
		return err
	}
	return s.inTx(ctx, func(tx *sql.Tx) error {
		return addToIndex(ctx, tx, name.String(), info.Size(), p.writer.Entries(), p.layouts)
	})
}

// name closes a pack and brings it to disk under its name.
func (s *Store) name(p *openPack) (digest.Digest, error) {
	name, err := p.writer.Finish()
	if err != nil {
		p.discard()
		return name, err
	}
	if err := p.file.Close(); err != nil {
		return name, err
	}
	// One of that name may be there and, on some systems, cannot be replaced while it is open.
	s.files.forget(name.String())
	if err := process.Rename(p.file.Name(), s.packPath(name.String())); err != nil {
		return name, err
	}
	return name, s.syncPacks()
}

// syncPacks brings the names of the packs to disk.
func (s *Store) syncPacks() error { return volume.SyncFolder(filepath.Join(s.dir, packsDir)) }
