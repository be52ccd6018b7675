package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/pack"
)

// Nobody is the owner of what is kept for no build: sharing a record with it does
// not count. It must be marked after all others.
const Nobody = -1

// Mark collects which records are referred to, and by whom. It keeps its list in
// a temporary table, so its memory does not grow with the store.
type Mark struct {
	store *Store
	conn  *sql.Conn
	files map[digest.Digest]mention
}

// mention remembers who referred to a file, so that its chunks are visited twice at most.
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
	return m, nil
}

// Close drops the list.
func (m *Mark) Close() error {
	_, err := m.conn.ExecContext(context.Background(), `ROLLBACK`)
	return errors.Join(err, m.conn.Close())
}

// Records marks records by their digests.
func (m *Mark) Records(ctx context.Context, digests []digest.Digest, owner int) error {
	for part := range slices.Chunk(digests, batch) {
		args := make([]any, 0, 2*len(part))
		for i := range part {
			args = append(args, part[i][:], owner)
		}
		values := strings.TrimSuffix(strings.Repeat("(?, ?, 0),", len(part)), ",")
		_, err := m.conn.ExecContext(ctx, `INSERT INTO temp.live (digest, owner, shared) VALUES `+values+`
			ON CONFLICT (digest) DO UPDATE SET shared = 1 WHERE owner <> excluded.owner AND excluded.owner <> -1`, args...)
		if err != nil {
			return indexError(err)
		}
	}
	return nil
}

// Files marks everything that belongs to the contents with these digests. Content that is not in the store is passed over.
func (m *Mark) Files(ctx context.Context, files []digest.Digest, owner int) error {
	var fresh []digest.Digest
	for _, f := range files {
		seen, known := m.files[f]
		if known && (seen.shared || seen.owner == owner || owner == Nobody) {
			continue
		}
		m.files[f] = mention{owner: owner, shared: known}
		fresh = append(fresh, f)
	}
	for part := range slices.Chunk(fresh, batch) {
		// Most files are one chunk, and that is a record of their own digest.
		single, err := m.store.present(ctx, part)
		if err != nil {
			return err
		}
		var records []digest.Digest
		for _, f := range part {
			if single[f] {
				records = append(records, f)
				continue
			}
			more, err := m.store.recordsOf(ctx, f)
			if err != nil {
				return err
			}
			records = append(records, more...)
		}
		if err := m.Records(ctx, records, owner); err != nil {
			return err
		}
	}
	return nil
}

// recordsOf lists the records of content that has a layout: its parts and all chunks.
func (s *Store) recordsOf(ctx context.Context, file digest.Digest) ([]digest.Digest, error) {
	records, err := s.layoutRecords(ctx, file)
	if err != nil || len(records) == 0 {
		return nil, err
	}
	pieces, err := s.Layout(ctx, file)
	if err != nil {
		// Trimming on the word of a damaged layout could drop what it names.
		return nil, fmt.Errorf("content %s: %w", file.Short(), err)
	}
	for _, p := range pieces {
		records = append(records, p.Digest)
	}
	return records, nil
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
	var live int64
	for query, into := range map[string][]any{
		`SELECT count(*), coalesce(sum(size), 0) FROM pack`:                                                 {&u.Packs, &u.Bytes},
		`SELECT count(*), coalesce(sum(plain), 0) FROM record`:                                              {&u.Records, &u.Plain},
		`SELECT coalesce(sum(r.stored), 0), count(*) FROM temp.live l JOIN record r ON r.digest = l.digest`: {&u.Live, &live},
	} {
		if err := m.conn.QueryRowContext(ctx, query).Scan(into...); err != nil {
			return u, indexError(err)
		}
	}
	u.Live += live*pack.Overhead + int64(u.Packs)*pack.Frame
	return u, nil
}
