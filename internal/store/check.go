package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/gofrs/flock"
	"golang.org/x/sync/errgroup"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/layout"
	"morvant/internal/pack"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/volume"
)

// rebuild makes a new index out of the packs, which is the index once it has them all. The lost one is kept beside it.
func rebuild(ctx context.Context, dir string, lock *flock.Flock) (*Store, error) {
	index, fresh := filepath.Join(dir, indexFile), filepath.Join(dir, indexFile+".new")
	if err := database.Remove(fresh); err != nil {
		return nil, err
	}
	s, err := openIndex(ctx, dir, fresh, lock)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(s.takeInPacks(ctx), s.closeFiles()); err != nil {
		return nil, errors.Join(err, database.Remove(fresh))
	}
	if _, err := os.Stat(index); err == nil {
		if err := process.Rename(index, index+".damaged"); err != nil {
			return nil, err
		}
	}
	if err := database.Remove(index); err != nil { // what SQLite kept beside it
		return nil, err
	}
	if err := process.Rename(fresh, index); err != nil {
		return nil, err
	}
	if err := volume.SyncFolder(dir); err != nil {
		return nil, err
	}
	return openIndex(ctx, dir, index, lock)
}

// takeInPacks adds to the index every pack in the folder that it does not name yet.
func (s *Store) takeInPacks(ctx context.Context) error {
	names, err := packNames(s.dir)
	if err != nil {
		return err
	}
	for _, name := range names {
		var known int
		if err := s.db.QueryRowContext(ctx, `SELECT count(*) FROM pack WHERE name = ?`, name).Scan(&known); err != nil {
			return indexError(err)
		}
		if known > 0 {
			continue
		}
		if err := s.adoptPack(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) adoptPack(ctx context.Context, name string) error {
	f, err := s.files.get(name)
	if err != nil {
		return err
	}
	defer s.files.put(f)
	info, err := f.Stat()
	if err != nil {
		return err
	}
	entries, err := packEntries(f, name, info.Size())
	var unread *fs.PathError
	if errors.Is(err, problem.ErrNewer) || errors.As(err, &unread) {
		return fmt.Errorf("pack %.12s: %w", name, err)
	}
	return s.takeIn(ctx, name, info.Size(), entries)
}

// takeIn makes records of a pack findable, with the layouts among them.
func (s *Store) takeIn(ctx context.Context, name string, size int64, entries []pack.Entry) error {
	// Whatever could be found of a damaged pack is taken in; reading the records will show which of them are whole.
	var layouts []layoutRow
	for _, e := range entries {
		if e.Kind != pack.Layout {
			continue
		}
		b, err := s.read(location{name, e}, nil)
		if err != nil {
			continue
		}
		if l, err := layout.Decode(b); err == nil {
			layouts = append(layouts, layoutRow{l.File, l.Number, e.Digest})
		}
	}
	return s.inTx(ctx, func(tx *sql.Tx) error {
		return addToIndex(ctx, tx, name, size, entries, layouts)
	})
}

// audit compares the index with the trailers of the packs: where it says of a pack what
// the pack does not, it is damaged, whatever SQLite thinks of it. Packs that cannot be
// read, or are damaged themselves, say nothing.
func (s *Store) audit(ctx context.Context) error {
	if err := database.Check(ctx, s.db); err != nil {
		return indexError(err)
	}
	packs, err := s.packs(ctx)
	if err != nil {
		return err
	}
	for _, p := range packs {
		if err := ctx.Err(); err != nil {
			return err
		}
		entries, err := s.trailer(p.name)
		if err != nil {
			continue
		}
		has := make(map[pack.Entry]bool, len(entries))
		for _, e := range entries {
			has[e] = true
		}
		records, err := s.recordsIn(ctx, p.id)
		if err != nil {
			return err
		}
		for _, r := range records {
			if !has[r] {
				return fmt.Errorf("the index says of pack %.12s what the pack does not: %w", p.name, ErrIndexLost)
			}
		}
	}
	return nil
}

// trailer reads what a pack says of itself.
func (s *Store) trailer(name string) ([]pack.Entry, error) {
	f, err := s.files.get(name)
	if err != nil {
		return nil, err
	}
	defer s.files.put(f)
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	found, entries, err := pack.ReadIndex(f, info.Size())
	if err == nil && found.String() != name {
		err = fmt.Errorf("trailer: %w", pack.ErrChecksum)
	}
	return entries, err
}

// readopt takes in records of a pack again that the index has dropped and that can be read back, and returns how many.
func (s *Store) readopt(ctx context.Context, p packRow) (int, error) {
	entries, err := s.trailer(p.name)
	if err != nil {
		return 0, nil // whatever is wrong with the pack is said of its records
	}
	var whole []pack.Entry
	for part := range slices.Chunk(entries, batch) {
		digests := make([]digest.Digest, len(part))
		for i := range part {
			digests[i] = part[i].Digest
		}
		found, err := s.present(ctx, digests)
		if err != nil {
			return 0, err
		}
		for _, e := range part {
			if found[e.Digest] {
				continue
			}
			if _, err := s.read(location{p.name, e}, nil); err == nil {
				whole = append(whole, e)
			}
		}
	}
	if len(whole) == 0 {
		return 0, nil
	}
	return len(whole), s.takeIn(ctx, p.name, p.size, whole)
}

// packEntries lists the records of a pack: from its trailer, or one by one where
// the trailer is damaged (then the error says so as well).
func packEntries(f *packFile, name string, size int64) ([]pack.Entry, error) {
	found, entries, err := pack.ReadIndex(f, size)
	if err == nil && found.String() != name {
		err = fmt.Errorf("trailer: %w", pack.ErrChecksum)
	}
	if err == nil || errors.Is(err, problem.ErrNewer) {
		return entries, err
	}
	entries, _ = pack.Recover(f, size)
	return entries, err
}

// Damage is a record that the index names and that cannot be read back.
type Damage struct {
	Digest digest.Digest
	Kind   pack.Kind
	Pack   string
	Reason error
}

// Report is what Check found.
type Report struct {
	Packs   int
	Records int
	Bytes   int64 // read
	Damaged []Damage
	// Unread lists records that cannot be read now, for want of rights or because the
	// disk fails. They are not known to be damaged.
	Unread []Damage
	// Again is how many records were taken in again that had been dropped.
	Again int
}

// Check reads every record and compares it with its digest. Damage is returned,
// not repaired. read is told of bytes as they are read; Size tells the total.
func (s *Store) Check(ctx context.Context, read func(n int64)) (*Report, error) {
	packs, err := s.packs(ctx)
	if err != nil {
		return nil, err
	}
	report := &Report{Packs: len(packs)}
	var mu sync.Mutex
	g, groupCtx := errgroup.WithContext(ctx)
	g.SetLimit(Workers())
	for _, p := range packs {
		g.Go(func() error {
			entries, err := s.recordsIn(groupCtx, p.id)
			if err != nil {
				return err
			}
			var buf []byte
			for _, e := range entries {
				if err := groupCtx.Err(); err != nil {
					return err
				}
				b, err := s.read(location{p.name, e}, buf)
				if cap(b) > cap(buf) {
					buf = b
				}
				mu.Lock()
				report.Records++
				report.Bytes += e.Size()
				var unread *ReadError
				switch {
				case errors.As(err, &unread):
					report.Unread = append(report.Unread, Damage{e.Digest, e.Kind, p.name, unread.Err})
				case err != nil:
					report.Damaged = append(report.Damaged, Damage{e.Digest, e.Kind, p.name, errors.Unwrap(err)})
				}
				mu.Unlock()
				read(e.Size())
			}
			n, err := s.readopt(groupCtx, p)
			mu.Lock()
			report.Again += n
			mu.Unlock()
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	lost, err := s.lostLayouts(ctx)
	if err != nil {
		return nil, err
	}
	report.Damaged = append(report.Damaged, lost...)
	slices.SortFunc(report.Damaged, func(a, b Damage) int { return slices.Compare(a.Digest[:], b.Digest[:]) })
	return report, nil
}

// lostLayouts lists layouts whose record no pack holds any more.
func (s *Store) lostLayouts(ctx context.Context) ([]Damage, error) {
	digests, err := s.digests(ctx, `SELECT DISTINCT record FROM layout WHERE record NOT IN (SELECT digest FROM record)`)
	if err != nil {
		return nil, err
	}
	var list []Damage
	for _, d := range digests {
		list = append(list, Damage{Digest: d, Kind: pack.Layout, Reason: ErrMissing})
	}
	return list, nil
}

// Forget takes damaged records out of the index, and the layouts of the files
// that cannot be put together without them, so that the same content can be put
// in again. The caller has the store to itself.
func (s *Store) Forget(ctx context.Context, damaged []Damage, files []digest.Digest) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		for _, d := range damaged {
			for _, query := range []string{
				`DELETE FROM layout WHERE file IN (SELECT file FROM layout WHERE record = ?)`,
				`DELETE FROM record WHERE digest = ?`,
			} {
				if _, err := tx.ExecContext(ctx, query, d.Digest[:]); err != nil {
					return err
				}
			}
		}
		for _, f := range files {
			if _, err := tx.ExecContext(ctx, `DELETE FROM layout WHERE file = ?`, f[:]); err != nil {
				return err
			}
		}
		return nil
	})
}

// Complete reports whether everything of this content is findable: the layout
// and each of its chunks. Unlike Has it does not take the layout's word for it.
func (s *Store) Complete(ctx context.Context, file digest.Digest) (bool, error) {
	pieces, err := s.Layout(ctx, file)
	var damage *DamageError
	switch {
	case errors.Is(err, ErrMissing), errors.As(err, &damage), errors.Is(err, layout.Err):
		return false, nil
	case err != nil:
		return false, err
	}
	for _, p := range pieces {
		if ok, err := s.hasRecord(ctx, p.Digest); !ok || err != nil {
			return false, err
		}
	}
	return true, nil
}

// Notes yields every note in the store that can be read back.
func (s *Store) Notes(ctx context.Context) ([][]byte, error) {
	digests, err := s.digests(ctx, `SELECT digest FROM record WHERE kind = ?`, pack.Note)
	if err != nil {
		return nil, err
	}
	var notes [][]byte
	for _, d := range digests {
		if b, err := s.Chunk(ctx, d, nil); err == nil {
			notes = append(notes, b)
		}
	}
	return notes, nil
}
