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
	"strings"
	"time"

	"morvant/internal/pack"
	"morvant/internal/process"
	"morvant/internal/volume"
)

// rewriteShare is the part of a pack that must be dead before its living records
// are copied out of it: below that, copying costs more than it frees.
const rewriteShare = 0.2

// TrimPlan is what a trim would do.
type TrimPlan struct {
	Freed   int64 // bytes of disk given back
	Drop    int   // packs with nothing alive
	Rewrite int   // packs whose living records move together
	Stale   int   // unfinished packs left by a crash
	Copied  int64 // bytes moved
	Kept    int   // packs that stay although nothing alive is in them, or little

	drop, rewrite []packRow
	stale         []string
}

// Empty reports whether there is nothing to give back.
func (p *TrimPlan) Empty() bool { return p.Drop+p.Rewrite+p.Stale == 0 }

// PlanTrim finds what can be dropped: every record that m has not marked. Packs from before unknown stay, for who marked may
// not know them; so do unfinished packs of the owners in keep, see Resume.
func (s *Store) PlanTrim(ctx context.Context, m *Mark, unknown time.Time, keep ...string) (*TrimPlan, error) {
	packs, err := s.packs(ctx)
	if err != nil {
		return nil, err
	}
	plan := &TrimPlan{}
	for _, p := range packs {
		if err := s.accounted(ctx, m, p); err != nil {
			return nil, err
		}
		var live int64
		err := m.conn.QueryRowContext(ctx, `SELECT coalesce(sum(r.stored + ?), 0) FROM record r JOIN temp.live l ON l.digest = r.digest WHERE r.pack = ?`, pack.Overhead, p.id).Scan(&live)
		if err != nil {
			return nil, indexError(err)
		}
		shared, err := s.holdsShared(ctx, p.id)
		if err != nil {
			return nil, err
		}
		dead := live == 0 || float64(p.size-live) > rewriteShare*float64(p.size)
		switch {
		case dead && writtenBefore(s.packPath(p.name), unknown):
			plan.Kept++
		case live == 0:
			plan.drop = append(plan.drop, p)
			plan.Freed += p.size
		case shared && 2*live > p.size: // it may take no space at all, and packed it would
		case dead:
			plan.rewrite = append(plan.rewrite, p)
			plan.Freed += p.size - live
			plan.Copied += live
		}
	}
	if plan.stale, err = filepath.Glob(filepath.Join(s.dir, packsDir, openPrefix+"*")); err != nil {
		return nil, err
	}
	plan.stale = slices.DeleteFunc(plan.stale, func(name string) bool {
		return slices.ContainsFunc(keep, func(owner string) bool { return strings.HasPrefix(filepath.Base(name), openPrefix+owner+"-") })
	})
	for _, name := range plan.stale {
		if info, err := os.Stat(name); err == nil {
			plan.Freed += info.Size()
		}
	}
	plan.Drop, plan.Rewrite, plan.Stale = len(plan.drop), len(plan.rewrite), len(plan.stale)
	return plan, nil
}

// writtenBefore reports whether a pack was written before a time.
func writtenBefore(file string, t time.Time) bool {
	info, err := os.Stat(file)
	return !t.IsZero() && (err != nil || info.ModTime().Before(t))
}

// accounted looks into a pack itself, and returns ErrIndexLost if it holds something
// that is needed and that the index does not find, here or elsewhere.
func (s *Store) accounted(ctx context.Context, m *Mark, p packRow) error {
	entries, err := s.trailer(p.name)
	if err != nil {
		var file *fs.PathError
		if errors.As(err, &file) && !volume.Absent(err) {
			return &ReadError{p.name, err}
		}
		return nil // a damaged pack is the business of Check
	}
	for part := range slices.Chunk(entries, batch) {
		args := make([]any, len(part))
		for i := range part {
			args[i] = part[i].Digest[:]
		}
		var n int
		err := m.conn.QueryRowContext(ctx, `SELECT count(*) FROM temp.live l WHERE l.digest IN (`+marks(len(args))+`)
			AND NOT EXISTS (SELECT 1 FROM record r WHERE r.digest = l.digest)`, args...).Scan(&n)
		if err != nil {
			return indexError(err)
		}
		if n > 0 {
			return fmt.Errorf("pack %.12s has %d chunks that are needed and that the index does not find: %w", p.name, n, ErrIndexLost)
		}
	}
	return nil
}

// Adopt takes in packs that a crash left out of the index, so that a trim sees them.
func (s *Store) Adopt(ctx context.Context) error { return s.takeInPacks(ctx) }

// Trim carries out a plan. The caller has the store to itself. Living records
// are on disk and in the index at their new place before the old one goes.
func (s *Store) Trim(ctx context.Context, m *Mark, plan *TrimPlan, moved func(n int64)) error {
	// These go first: a pack written below may get the name of one of them, which a trim that was killed has left.
	for _, p := range plan.drop {
		if err := s.dropPack(ctx, p); err != nil {
			return err
		}
	}
	t := &trimmer{store: s, mark: m, moved: moved}
	for _, p := range plan.rewrite {
		if err := t.rewrite(ctx, p); err != nil {
			t.discard()
			return err
		}
	}
	if err := t.finish(ctx); err != nil {
		return err
	}
	for _, name := range plan.stale {
		if err := os.Remove(name); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	_, err := s.db.ExecContext(ctx, `DELETE FROM layout WHERE record NOT IN (SELECT digest FROM record)`)
	return indexError(err)
}

// trimmer gathers living records of several packs in new ones.
type trimmer struct {
	store *Store
	mark  *Mark
	moved func(int64)
	out   *openPack
	from  []packRow // packs whose living records are all in out
}

func (t *trimmer) rewrite(ctx context.Context, p packRow) error {
	entries, err := t.living(ctx, p)
	if err != nil {
		return err
	}
	if t.out == nil {
		if t.out, err = t.store.newPack(""); err != nil {
			return err
		}
	}
	f, err := t.store.files.get(p.name)
	if err != nil {
		return err
	}
	defer t.store.files.put(f)
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		stored, err := pack.ReadStored(f, e, nil)
		var plain []byte
		if err == nil {
			plain, err = t.store.coder.Decode(e, stored, nil)
		}
		if err != nil {
			return &DamageError{e.Digest, p.name, err}
		}
		if e.Coding == pack.Bare {
			e.Coding, stored = t.store.coder.Encode(plain, nil)
		}
		if _, err := t.out.writer.Append(e.Digest, e.Kind, e.Coding, int(e.Plain), stored); err != nil {
			return err
		}
		t.moved(e.Size())
	}
	t.from = append(t.from, p)
	if t.out.writer.Size() > packSize {
		return t.finish(ctx)
	}
	return nil
}

func (t *trimmer) living(ctx context.Context, p packRow) ([]pack.Entry, error) {
	all, err := t.store.recordsIn(ctx, p.id)
	if err != nil {
		return nil, err
	}
	var living []pack.Entry
	for _, e := range all {
		var n int
		if err := t.mark.conn.QueryRowContext(ctx, `SELECT count(*) FROM temp.live WHERE digest = ?`, e.Digest[:]).Scan(&n); err != nil {
			return nil, indexError(err)
		}
		if n > 0 {
			living = append(living, e)
		}
	}
	return living, nil
}

// finish closes the new pack, points the index at it and removes the old packs.
func (t *trimmer) finish(ctx context.Context) error {
	if t.out == nil {
		return nil
	}
	out, from := t.out, t.from
	t.out, t.from = nil, nil
	name, err := t.store.name(out)
	if err != nil {
		return err
	}
	info, err := os.Stat(t.store.packPath(name.String()))
	if err != nil {
		return err
	}
	err = t.store.inTx(ctx, func(tx *sql.Tx) error {
		for _, p := range from {
			if _, err := tx.ExecContext(ctx, `DELETE FROM record WHERE pack = ?`, p.id); err != nil {
				return err
			}
			if p.name == name.String() {
				continue
			}
			if _, err := tx.ExecContext(ctx, `DELETE FROM pack WHERE id = ?`, p.id); err != nil {
				return err
			}
		}
		return addToIndex(ctx, tx, name.String(), info.Size(), out.writer.Entries(), nil)
	})
	if err != nil {
		return err
	}
	for _, p := range from {
		if p.name == name.String() {
			continue
		}
		if err := t.store.removePack(p.name); err != nil {
			return err
		}
	}
	return nil
}

func (t *trimmer) discard() {
	if t.out != nil {
		t.out.discard()
	}
}

func (s *Store) dropPack(ctx context.Context, p packRow) error {
	err := s.inTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM record WHERE pack = ?`, p.id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM pack WHERE id = ?`, p.id)
		return err
	})
	if err != nil {
		return err
	}
	return s.removePack(p.name)
}

func (s *Store) removePack(name string) error {
	s.files.forget(name)
	err := process.Patiently(s.packPath(name), func() error { return os.Remove(s.packPath(name)) })
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("remove pack %.12s: %w", name, err)
	}
	return nil
}
