package store

import (
	"context"
	"errors"
	"io"
	"os"
	"runtime"

	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/reflink"
)

// ShareFrom is the size from which a file is shared with the store rather than cut and packed, in bytes.
const ShareFrom = 1 << 20

// maxRefused is how many files may be refused until no more are tried.
const maxRefused = 3

// Share makes the session share the content of large files with the disk that they lie on, where that disk
// can: a pack then takes the space of its trailer, for as long as the file stays as it is. What changes
// the file later does not change the pack. Nothing is packed smaller that way.
func (ss *Session) Share() { ss.shares.Store(true) }

// Shared returns the bytes that this session shares with the files that it took.
func (ss *Session) Shared() int64 { return ss.shared.Load() }

// CanShare tries whether the store can share content with a file.
func (s *Store) CanShare(f *os.File) bool {
	info, err := f.Stat()
	if err != nil || info.Size() < reflink.Block {
		return false
	}
	p, err := s.newPack("")
	if err != nil {
		return false
	}
	defer p.discard()
	return sharedInto(p, f, reflink.Block) == nil
}

// shareRange shares a range of a file; tests, on disks that cannot, copy.
var shareRange = reflink.Range

// sharedInto makes the pack share the first bytes of a file.
func sharedInto(p *openPack, f *os.File, size int64) error {
	_, err := p.writer.Share(size, func(at int64) error {
		if runtime.GOOS == "windows" { // where a range has to lie within the file
			if err := p.file.Truncate(at + (size+reflink.Block-1)/reflink.Block*reflink.Block); err != nil {
				return err
			}
		}
		return shareRange(p.file, at, f, 0, size)
	})
	return err
}

// putShared puts a file by sharing its content. It is not done where that cannot be, or is not worth it.
func (ss *Session) putShared(ctx context.Context, f *os.File, read func(n int)) (d digest.Digest, size int64, done bool, err error) {
	info, err := f.Stat()
	if err != nil || info.Size() < ShareFrom || !reflink.Ranges {
		return d, 0, false, err
	}
	p, err := ss.store.newPack("")
	if err != nil {
		return d, 0, false, err
	}
	kept := false
	defer func() {
		if !kept {
			p.discard()
		}
	}()
	size = info.Size()
	if err := sharedInto(p, f, size); err != nil {
		if errors.Is(err, reflink.ErrUnsupported) {
			if ss.refused.Add(1) >= maxRefused { // one file may be refused for want of room where it lies
				ss.shares.Store(false)
			}
			err = nil
		}
		return d, 0, false, err
	}
	// From here on nobody else changes what is read.
	const at = reflink.Block
	content := io.NewSectionReader(p.file, at, size)
	named := &put{session: ss, ctx: ctx, hasher: digest.NewHasher(), nameOnly: true}
	if d, _, err = named.run(content, read); err != nil {
		return d, 0, false, err
	}
	missing, bytes, err := ss.lacking(ctx, named.pieces)
	if err != nil {
		return d, 0, false, err
	}
	if 2*bytes < size { // most of it is here: what is new is packed
		if _, err := content.Seek(0, io.SeekStart); err != nil {
			return d, 0, false, err
		}
		again := &put{session: ss, ctx: ctx, hasher: digest.NewHasher()}
		_, _, err := again.run(content, nil)
		return d, size, err == nil, err
	}
	offset := int64(at)
	for _, piece := range named.pieces {
		if missing[piece.Digest] {
			delete(missing, piece.Digest)
			if err := p.writer.Bare(piece.Digest, offset, piece.Size); err != nil {
				return d, 0, false, err
			}
		}
		offset += int64(piece.Size)
	}
	kept = true // or discarded by what follows
	if err := ss.store.finish(ctx, p); err != nil {
		return d, 0, false, err
	}
	ss.added.Add(int64(len(p.writer.Entries())) * pack.Overhead)
	ss.shared.Add(bytes)
	if len(named.pieces) > 1 {
		err = ss.putLayout(ctx, d, size, named.pieces)
	}
	return d, size, err == nil, err
}

// lacking finds out which chunks are not in the store, and how many bytes they are together.
func (ss *Session) lacking(ctx context.Context, pieces []Piece) (missing map[digest.Digest]bool, bytes int64, err error) {
	var all []digest.Digest
	for _, p := range pieces {
		all = append(all, p.Digest)
	}
	if missing, err = ss.store.Missing(ctx, all); err != nil {
		return nil, 0, err
	}
	counted := make(map[digest.Digest]bool)
	for _, p := range pieces {
		switch {
		case !missing[p.Digest] || counted[p.Digest]:
		case ss.isPending(p.Digest):
			delete(missing, p.Digest)
		default:
			counted[p.Digest] = true
			bytes += int64(p.Size)
		}
	}
	return missing, bytes, nil
}

// holdsShared reports whether a pack shares content.
func (s *Store) holdsShared(ctx context.Context, id int64) (bool, error) {
	var n int
	err := s.db.QueryRowContext(ctx, `SELECT count(*) FROM (SELECT 1 FROM record WHERE pack = ? AND coding = ? LIMIT 1)`, id, pack.Bare).Scan(&n)
	return n > 0, indexError(err)
}
