// Package store holds Morvant's content store: every chunk once, whatever it
// came from.
//
// A store is a folder with packs (see package pack) and an index, an SQLite
// file that says where each chunk is and which chunks make up each file. The
// packs alone are enough: the index can be rebuilt from them.
//
// What is put in appears in the index only after its pack is on disk, synced and
// named, and a file's layout only after all of its chunks. So whatever the index
// names can be read back, and what a crash leaves behind is at worst a pack
// that nothing refers to.
//
// Any number of processes may read and add at the same time; each holds a
// shared lock. Trim and the repairing half of Check need the store to
// themselves.
package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/volume"
)

// Errors that callers test for.
var (
	ErrMissing   = errors.New("not in the store")
	ErrIndexLost = errors.New("the store's index is lost or damaged")
	ErrBusy      = errors.New("another Morvant is using the store")
)

const (
	packsDir   = "packs"
	indexFile  = "index.db"
	lockFile   = "lock"
	packSuffix = ".pack"
	openPrefix = "open-"
	// packSize is where a pack is closed and the next begun, in bytes.
	packSize = 64 << 20
)

var schema = database.Schema{Steps: []string{`
CREATE TABLE pack (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, size INTEGER NOT NULL);
CREATE TABLE record (
	digest BLOB PRIMARY KEY, pack INTEGER NOT NULL, offset INTEGER NOT NULL,
	plain INTEGER NOT NULL, stored INTEGER NOT NULL, kind INTEGER NOT NULL, coding INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX record_pack ON record (pack);
CREATE TABLE layout (file BLOB, part INTEGER, record BLOB NOT NULL, PRIMARY KEY (file, part)) WITHOUT ROWID;
`}}

// Store is an open store.
type Store struct {
	dir   string
	lock  *flock.Flock
	db    *sql.DB
	coder *pack.Coder
	files *packFiles
	find  *sql.Stmt // where is this record?
	// Rebuilt says that the index had been lost or damaged, and was made anew from the
	// packs.
	Rebuilt bool
}

// patience is how long Open waits for somebody who needs the store alone.
const patience = 5 * time.Second

// Open opens the store in dir, creating it if there is none. It returns ErrBusy
// if somebody else needs the store alone for longer than a few seconds.
func Open(ctx context.Context, dir string) (*Store, error) {
	if err := os.MkdirAll(filepath.Join(dir, packsDir), 0o755); err != nil && !isDir(filepath.Join(dir, packsDir)) {
		return nil, err
	}
	lock := flock.New(filepath.Join(dir, lockFile))
	waiting, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if _, err := lock.TryRLockContext(waiting, 50*time.Millisecond); err != nil {
		if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
			err = ErrBusy
		}
		if !volume.ReadOnly(err) && !volume.Full(err) { // there it can be looked at
			return nil, err
		}
	}
	s, err := open(ctx, dir, lock)
	if errors.Is(err, ErrIndexLost) {
		// Rebuilding it takes the store alone.
		if unlockErr := lock.Unlock(); unlockErr != nil {
			return nil, errors.Join(err, unlockErr)
		}
		if alone, lockErr := lock.TryLock(); lockErr == nil && alone {
			if s, err = rebuild(ctx, dir, lock); err == nil {
				s.Rebuilt = true
				_, err = lock.TryRLock() // others may come in again
			}
		}
	}
	if err != nil {
		lock.Close()
		return nil, err
	}
	return s, nil
}

// OpenAlone opens the store for a caller that needs it to itself. It returns
// ErrBusy while others use it. An index that is lost or damaged is put aside
// and rebuilt from the packs; rebuilt tells.
func OpenAlone(ctx context.Context, dir string) (s *Store, rebuilt bool, err error) {
	if err := os.MkdirAll(filepath.Join(dir, packsDir), 0o755); err != nil {
		return nil, false, err
	}
	lock := flock.New(filepath.Join(dir, lockFile))
	switch ok, err := lock.TryLock(); {
	case err != nil:
		return nil, false, fmt.Errorf("lock the store: %w", err)
	case !ok:
		return nil, false, ErrBusy
	}
	s, err = open(ctx, dir, lock)
	if err == nil {
		if err = s.audit(ctx); err != nil {
			err = errors.Join(err, s.closeFiles())
		}
	}
	if errors.Is(err, ErrIndexLost) {
		rebuilt = true
		s, err = rebuild(ctx, dir, lock)
	}
	if err != nil {
		lock.Close()
		return nil, false, err
	}
	s.Rebuilt = rebuilt
	return s, rebuilt, nil
}

// Rebuild makes the index anew from the packs, for a caller that has the store alone.
func (s *Store) Rebuild(ctx context.Context) (*Store, error) {
	if err := s.closeFiles(); err != nil {
		return nil, err
	}
	fresh, err := rebuild(ctx, s.dir, s.lock)
	if err != nil {
		return nil, errors.Join(err, s.lock.Close())
	}
	fresh.Rebuilt = true
	return fresh, nil
}

func isDir(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

func open(ctx context.Context, dir string, lock *flock.Flock) (*Store, error) {
	index := filepath.Join(dir, indexFile)
	names, err := packNames(dir)
	if err != nil {
		return nil, err
	}
	lost := fmt.Errorf("%s: %w", index, ErrIndexLost)
	if _, err := os.Stat(index); errors.Is(err, fs.ErrNotExist) && len(names) > 0 {
		return nil, lost
	}
	s, err := openIndex(ctx, dir, index, lock)
	if err != nil {
		return nil, err
	}
	var known bool
	if err := s.db.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM pack)`).Scan(&known); err != nil {
		return nil, errors.Join(indexError(err), s.closeFiles())
	}
	if !known && len(names) > 0 {
		return nil, errors.Join(lost, s.closeFiles())
	}
	return s, nil
}

func openIndex(ctx context.Context, dir, index string, lock *flock.Flock) (*Store, error) {
	db, err := database.Open(ctx, index, schema)
	if database.Damaged(err) {
		return nil, fmt.Errorf("%s: %w", index, ErrIndexLost)
	} else if err != nil {
		return nil, err
	}
	s := &Store{dir: dir, lock: lock, db: db, files: newPackFiles(filepath.Join(dir, packsDir))}
	s.find, err = db.PrepareContext(ctx, `SELECT p.name, r.offset, r.plain, r.stored, r.kind, r.coding FROM record r JOIN pack p ON p.id = r.pack WHERE r.digest = ?`)
	if err != nil {
		db.Close()
		return nil, indexError(err)
	}
	if s.coder, err = pack.NewCoder(pack.Fast); err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

// Close gives the store back. Sessions must be closed before.
func (s *Store) Close() error { return errors.Join(s.closeFiles(), s.lock.Close()) }

func (s *Store) closeFiles() error {
	s.coder.Close()
	return errors.Join(s.files.close(), s.db.Close())
}

// Dir returns the folder that holds the store.
func (s *Store) Dir() string { return s.dir }

// location is where a record stands.
type location struct {
	pack  string
	entry pack.Entry
}

// locate looks a record up in the index.
func (s *Store) locate(ctx context.Context, d digest.Digest) (location, error) {
	l := location{entry: pack.Entry{Digest: d}}
	e := &l.entry
	err := s.find.QueryRowContext(ctx, d[:]).Scan(&l.pack, &e.Offset, &e.Plain, &e.Stored, &e.Kind, &e.Coding)
	if errors.Is(err, sql.ErrNoRows) {
		return l, fmt.Errorf("%s: %w", d.Short(), ErrMissing)
	}
	return l, indexError(err)
}

// locateAll looks up to batch records up at once. What is not there is left out.
func (s *Store) locateAll(ctx context.Context, pieces []Piece) (map[digest.Digest]location, error) {
	args := make([]any, len(pieces))
	for i := range pieces {
		args[i] = pieces[i].Digest[:]
	}
	rows, err := s.db.QueryContext(ctx, `SELECT r.digest, p.name, r.offset, r.plain, r.stored, r.kind, r.coding FROM record r JOIN pack p ON p.id = r.pack
		WHERE r.digest IN (`+marks(len(args))+`)`, args...)
	if err != nil {
		return nil, indexError(err)
	}
	defer rows.Close()
	found := make(map[digest.Digest]location, len(pieces))
	for rows.Next() {
		var l location
		var d []byte
		e := &l.entry
		if err := rows.Scan(&d, &l.pack, &e.Offset, &e.Plain, &e.Stored, &e.Kind, &e.Coding); err != nil {
			return nil, err
		}
		if e.Digest, err = digest.FromBytes(d); err != nil {
			return nil, fmt.Errorf("%w: %v", ErrIndexLost, err)
		}
		found[e.Digest] = l
	}
	return found, indexError(rows.Err())
}

// marks returns n question marks for a list in a statement.
func marks(n int) string { return strings.TrimSuffix(strings.Repeat("?,", n), ",") }

func (s *Store) hasRecord(ctx context.Context, d digest.Digest) (bool, error) {
	_, err := s.locate(ctx, d)
	if errors.Is(err, ErrMissing) {
		return false, nil
	}
	return err == nil, err
}

// present tells which of the records are in the index. One question about many is
// much cheaper than many questions.
func (s *Store) present(ctx context.Context, digests []digest.Digest) (map[digest.Digest]bool, error) {
	found := make(map[digest.Digest]bool)
	args := make([]any, len(digests))
	for i := range digests {
		args[i] = digests[i][:]
	}
	list, err := s.digests(ctx, `SELECT digest FROM record WHERE digest IN (`+marks(len(args))+`)`, args...)
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		found[d] = true
	}
	return found, nil
}

// digests runs a query whose only column holds digests.
func (s *Store) digests(ctx context.Context, query string, args ...any) ([]digest.Digest, error) {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, indexError(err)
	}
	defer rows.Close()
	var list []digest.Digest
	for rows.Next() {
		var b []byte
		if err := rows.Scan(&b); err != nil {
			return nil, err
		}
		d, err := digest.FromBytes(b)
		if err != nil {
			return nil, fmt.Errorf("%w: %v", ErrIndexLost, err)
		}
		list = append(list, d)
	}
	return list, indexError(rows.Err())
}

// Has reports whether the whole content with this digest is in the store.
func (s *Store) Has(ctx context.Context, file digest.Digest) (bool, error) {
	if ok, err := s.hasRecord(ctx, file); ok || err != nil {
		return ok, err
	}
	records, err := s.layoutRecords(ctx, file)
	return len(records) > 0, err
}

// batch is how many records are asked for or marked in one statement.
const batch = 250

// Missing returns which of the records are not in the store.
func (s *Store) Missing(ctx context.Context, records []digest.Digest) (map[digest.Digest]bool, error) {
	missing := make(map[digest.Digest]bool)
	for part := range slices.Chunk(records, batch) {
		found, err := s.present(ctx, part)
		if err != nil {
			return nil, err
		}
		for _, d := range part {
			if !found[d] {
				missing[d] = true
			}
		}
	}
	return missing, nil
}

// Lacks returns which of the contents are not in the store as a whole.
func (s *Store) Lacks(ctx context.Context, files []digest.Digest) (map[digest.Digest]bool, error) {
	missing, err := s.Missing(ctx, files)
	if err != nil {
		return nil, err
	}
	rest := slices.Collect(maps.Keys(missing))
	for part := range slices.Chunk(rest, batch) {
		args := make([]any, len(part))
		for i := range part {
			args[i] = part[i][:]
		}
		cut, err := s.digests(ctx, `SELECT file FROM layout WHERE part = 0 AND file IN (`+marks(len(args))+`)`, args...)
		if err != nil {
			return nil, err
		}
		for _, d := range cut {
			delete(missing, d)
		}
	}
	return missing, nil
}

func indexError(err error) error {
	if database.Damaged(err) {
		return fmt.Errorf("%w (%v)", ErrIndexLost, err)
	}
	return err
}

// packNames lists the closed packs of the store in dir, without suffix.
func packNames(dir string) ([]string, error) {
	list, err := os.ReadDir(filepath.Join(dir, packsDir))
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range list {
		name, ok := strings.CutSuffix(e.Name(), packSuffix)
		if _, err := hex.DecodeString(name); ok && err == nil && len(name) == 2*digest.Size {
			names = append(names, name)
		}
	}
	return names, nil
}

func (s *Store) packPath(name string) string {
	return filepath.Join(s.dir, packsDir, name+packSuffix)
}

// inTx runs f in a write transaction.
func (s *Store) inTx(ctx context.Context, f func(tx *sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return indexError(err)
	}
	defer tx.Rollback()
	if err := f(tx); err != nil {
		return indexError(err)
	}
	return indexError(tx.Commit())
}

// addToIndex makes the records of a pack findable. Records that another pack
// already holds stay where they are. Layouts are read from their records.
func addToIndex(ctx context.Context, tx *sql.Tx, name string, size int64, entries []pack.Entry, layouts []layoutRow) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO pack (name, size) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET size = excluded.size`, name, size)
	if err != nil {
		return err
	}
	var id int64
	if err := tx.QueryRowContext(ctx, `SELECT id FROM pack WHERE name = ?`, name).Scan(&id); err != nil {
		return err
	}
	put, err := tx.PrepareContext(ctx, `INSERT OR IGNORE INTO record (digest, pack, offset, plain, stored, kind, coding) VALUES (?, ?, ?, ?, ?, ?, ?)`)
	if err != nil {
		return err
	}
	defer put.Close()
	for _, e := range entries {
		if _, err := put.ExecContext(ctx, e.Digest[:], id, e.Offset, e.Plain, e.Stored, e.Kind, e.Coding); err != nil {
			return err
		}
	}
	for _, l := range layouts {
		if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO layout (file, part, record) VALUES (?, ?, ?)`, l.file[:], l.part, l.record[:]); err != nil {
			return err
		}
	}
	return nil
}
