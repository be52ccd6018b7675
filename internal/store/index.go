package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/pack"
)

// Size returns the bytes of all packs.
func (x *index) Size(ctx context.Context) (n int64, err error) {
	err = x.db.QueryRowContext(ctx, `SELECT coalesce(sum(size), 0) FROM pack`).Scan(&n)
	return n, indexError(err)
}

type packRow struct {
	id   int64
	name string
	size int64
}

func (x *index) packs(ctx context.Context) ([]packRow, error) {
	rows, err := x.db.QueryContext(ctx, `SELECT id, name, size FROM pack ORDER BY id`)
	if err != nil {
		return nil, indexError(err)
	}
	defer rows.Close()
	var list []packRow
	for rows.Next() {
		var p packRow
		if err := rows.Scan(&p.id, &p.name, &p.size); err != nil {
			return nil, err
		}
		list = append(list, p)
	}
	return list, indexError(rows.Err())
}

// recordsIn lists the records that the index finds in a pack, in their order there.
func (x *index) recordsIn(ctx context.Context, packID int64) ([]pack.Entry, error) {
	rows, err := x.db.QueryContext(ctx, `SELECT digest, offset, plain, stored, kind, coding FROM record WHERE pack = ? ORDER BY offset`, packID)
	if err != nil {
		return nil, indexError(err)
	}
	defer rows.Close()
	var list []pack.Entry
	for rows.Next() {
		var e pack.Entry
		var d []byte
		if err := rows.Scan(&d, &e.Offset, &e.Plain, &e.Stored, &e.Kind, &e.Coding); err != nil {
			return nil, err
		}
		if e.Digest, err = digest.FromBytes(d); err != nil {
			return nil, fmt.Errorf("%w: %v", ErrIndexLost, err)
		}
		list = append(list, e)
	}
	return list, indexError(rows.Err())
}

// layoutRecords lists the records that hold the layout of a file, in order; none if it has no layout.
func (x *index) layoutRecords(ctx context.Context, file digest.Digest) ([]digest.Digest, error) {
	return x.digests(ctx, `SELECT record FROM layout WHERE file = ? ORDER BY part`, file[:])
}

var schema = database.Schema{Steps: []string{`
CREATE TABLE pack (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, size INTEGER NOT NULL);
CREATE TABLE record (
	digest BLOB PRIMARY KEY, pack INTEGER NOT NULL, offset INTEGER NOT NULL,
	plain INTEGER NOT NULL, stored INTEGER NOT NULL, kind INTEGER NOT NULL, coding INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX record_pack ON record (pack);
CREATE TABLE layout (file BLOB, part INTEGER, record BLOB NOT NULL, PRIMARY KEY (file, part)) WITHOUT ROWID;
`}}

// index is the open index: it says where each record stands.
type index struct {
	db   *sql.DB
	find *sql.Stmt // where is this record?

	asked sync.Map // *sql.Stmt by text: reading one anew takes as long as answering it
}

// query asks the index something.
func (x *index) query(ctx context.Context, text string, args ...any) (*sql.Rows, error) {
	if len(args) != 1 && len(args) != batch { // these differ in their length each time
		return x.db.QueryContext(ctx, text, args...)
	}
	stmt, known := x.asked.Load(text)
	if !known {
		fresh, err := x.db.PrepareContext(ctx, text)
		if err != nil {
			return nil, err
		}
		stmt, _ = x.asked.LoadOrStore(text, fresh) // a second one goes with the index
	}
	return stmt.(*sql.Stmt).QueryContext(ctx, args...)
}

// location is where a record stands.
type location struct {
	pack  string
	entry pack.Entry
}

// locate looks a record up in the index.
func (x *index) locate(ctx context.Context, d digest.Digest) (location, error) {
	l := location{entry: pack.Entry{Digest: d}}
	e := &l.entry
	err := x.find.QueryRowContext(ctx, d[:]).Scan(&l.pack, &e.Offset, &e.Plain, &e.Stored, &e.Kind, &e.Coding)
	if errors.Is(err, sql.ErrNoRows) {
		return l, fmt.Errorf("%s: %w", d.Short(), ErrMissing)
	}
	return l, indexError(err)
}

// locateAll looks up to batch records up at once. What is not there is left out.
func (x *index) locateAll(ctx context.Context, pieces []Piece) (map[digest.Digest]location, error) {
	args := make([]any, len(pieces))
	for i := range pieces {
		args[i] = pieces[i].Digest[:]
	}
	rows, err := x.query(ctx, `SELECT r.digest, p.name, r.offset, r.plain, r.stored, r.kind, r.coding FROM record r JOIN pack p ON p.id = r.pack
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

func (x *index) hasRecord(ctx context.Context, d digest.Digest) (bool, error) {
	_, err := x.locate(ctx, d)
	if errors.Is(err, ErrMissing) {
		return false, nil
	}
	return err == nil, err
}

// present tells which of the records are in the index. One question about many is much cheaper than many questions.
func (x *index) present(ctx context.Context, digests []digest.Digest) (map[digest.Digest]bool, error) {
	found := make(map[digest.Digest]bool)
	args := make([]any, len(digests))
	for i := range digests {
		args[i] = digests[i][:]
	}
	list, err := x.digests(ctx, `SELECT digest FROM record WHERE digest IN (`+marks(len(args))+`)`, args...)
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		found[d] = true
	}
	return found, nil
}

// digests runs a query whose only column holds digests.
func (x *index) digests(ctx context.Context, query string, args ...any) ([]digest.Digest, error) {
	rows, err := x.query(ctx, query, args...)
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
func (x *index) Has(ctx context.Context, file digest.Digest) (bool, error) {
	if ok, err := x.hasRecord(ctx, file); ok || err != nil {
		return ok, err
	}
	records, err := x.layoutRecords(ctx, file)
	return len(records) > 0, err
}

// batch is how many records are asked for or marked in one statement.
const batch = 250

// Missing returns which of the records are not in the store.
func (x *index) Missing(ctx context.Context, records []digest.Digest) (map[digest.Digest]bool, error) {
	missing := make(map[digest.Digest]bool)
	for part := range slices.Chunk(records, batch) {
		found, err := x.present(ctx, part)
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
func (x *index) Lacks(ctx context.Context, files []digest.Digest) (map[digest.Digest]bool, error) {
	missing, err := x.Missing(ctx, files)
	if err != nil {
		return nil, err
	}
	rest := slices.Collect(maps.Keys(missing))
	for part := range slices.Chunk(rest, batch) {
		args := make([]any, len(part))
		for i := range part {
			args[i] = part[i][:]
		}
		cut, err := x.digests(ctx, `SELECT file FROM layout WHERE part = 0 AND file IN (`+marks(len(args))+`)`, args...)
		if err != nil {
			return nil, err
		}
		for _, d := range cut {
			delete(missing, d)
		}
	}
	return missing, nil
}

// inTx runs f in a write transaction.
func (x *index) inTx(ctx context.Context, f func(tx *sql.Tx) error) error {
	tx, err := x.db.BeginTx(ctx, nil)
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
