package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"morvant/internal/digest"
)

// Nobody is the owner of what is kept for no build: sharing a record with it does
// not count. It must be marked after all others.
const Nobody = -1

// Mark collects which records are referred to, and by whom. It keeps its list in
// a temporary table, so its memory does not grow with the store.
type Mark struct {
	store *Store
	conn  *sql.Conn
	add   *sql.Stmt
	files map[digest.Digest]mention
}

// mention remembers who referred to a file, so that its chunks are visited twice
// at most.
type mention struct {
	owner  int
	shared bool
}

// NewMark returns an empty mark. It must be closed.
func (s *Store) NewMark(ctx context.Context) (*Mark, error) {
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return nil, indexError(err)
	}
	m := &Mark{store: s, conn: conn, files: make(map[digest.Digest]mention)}
	for _, statement := range []string{
		`PRAGMA temp_store = FILE`,
		`DROP TABLE IF EXISTS temp.live`,
		`CREATE TEMP TABLE live (digest BLOB PRIMARY KEY, owner INTEGER NOT NULL, shared INTEGER NOT NULL) WITHOUT ROWID`,
		`BEGIN DEFERRED`, // one transaction, on the temporary table alone
	} {
		if _, err := conn.ExecContext(ctx, statement); err != nil {
			conn.Close()
			return nil, indexError(err)
		}
	}
	m.add, err = conn.PrepareContext(ctx, `INSERT INTO temp.live (digest, owner, shared) VALUES (?, ?, 0)
		ON CONFLICT (digest) DO UPDATE SET shared = 1 WHERE owner <> excluded.owner AND excluded.owner <> -1`)
	if err != nil {
		conn.Close()
		return nil, indexError(err)
	}
	return m, nil
}

// Close drops the list.
func (m *Mark) Close() error {
	_, err := m.conn.ExecContext(context.Background(), `ROLLBACK`)
	return errors.Join(err, m.add.Close(), m.conn.Close())
}

// Record marks one record by its digest.
func (m *Mark) Record(ctx context.Context, d digest.Digest, owner int) error {
	_, err := m.add.ExecContext(ctx, d[:], owner)
	return indexError(err)
}

// File marks everything that belongs to the content with this digest. Content
// that is not in the store is passed over; complete says whether it was there.
func (m *Mark) File(ctx context.Context, file digest.Digest, owner int) (complete bool, err error) {
	seen, known := m.files[file]
	if known && (seen.shared || seen.owner == owner || owner == Nobody) {
		return true, nil
	}
	records, err := m.store.layoutRecords(ctx, file)
	if err != nil {
		return false, err
	}
	for _, r := range records {
		if err := m.Record(ctx, r, owner); err != nil {
			return false, err
		}
	}
	pieces, err := m.store.Layout(ctx, file)
	switch {
	case errors.Is(err, ErrMissing):
		return false, nil
	case err != nil:
		// Trimming on the word of a damaged layout could drop what it names.
		return false, fmt.Errorf("content %s: %w", file.Short(), err)
	}
	for _, p := range pieces {
		if err := m.Record(ctx, p.Digest, owner); err != nil {
			return false, err
		}
	}
	m.files[file] = mention{owner: owner, shared: known}
	return true, nil
}

// Share is what one owner's records come to.
type Share struct {
	OnlyPlain  int64 // bytes of content that no other owner refers to
	OnlyStored int64 // what they take in the store
}

// Shares returns the share of each owner.
func (m *Mark) Shares(ctx context.Context) (map[int]Share, error) {
	rows, err := m.conn.QueryContext(ctx, `SELECT l.owner, sum(r.plain), sum(r.stored) FROM temp.live l JOIN record r ON r.digest = l.digest
		WHERE l.shared = 0 AND r.kind = 1 GROUP BY l.owner`)
	if err != nil {
		return nil, indexError(err)
	}
	defer rows.Close()
	shares := make(map[int]Share)
	for rows.Next() {
		var owner int
		var s Share
		if err := rows.Scan(&owner, &s.OnlyPlain, &s.OnlyStored); err != nil {
			return nil, err
		}
		shares[owner] = s
	}
	return shares, indexError(rows.Err())
}

// Usage is what a store comes to.
type Usage struct {
	Packs   int
	Bytes   int64 // on disk, packs only
	Records int
	Plain   int64 // bytes of all records once decoded
	Live    int64 // bytes on disk that something refers to
}

// Usage sums up the store.
func (m *Mark) Usage(ctx context.Context) (Usage, error) {
	var u Usage
	for query, into := range map[string][]any{
		`SELECT count(*), coalesce(sum(size), 0) FROM pack`:                                       {&u.Packs, &u.Bytes},
		`SELECT count(*), coalesce(sum(plain), 0) FROM record`:                                    {&u.Records, &u.Plain},
		`SELECT coalesce(sum(r.stored), 0) FROM temp.live l JOIN record r ON r.digest = l.digest`: {&u.Live},
	} {
		if err := m.conn.QueryRowContext(ctx, query).Scan(into...); err != nil {
			return u, indexError(err)
		}
	}
	return u, nil
}
