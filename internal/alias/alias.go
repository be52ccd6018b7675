// Package alias remembers which content of Morvant's is meant by digests of another kind.
//
// A distributor names content by its own digests. What has not been seen here stands in manifests under
// digest.Unseen; once its bytes have been read, its own digest is known for good. Losing the table costs
// reading again, so one that is damaged is replaced.
package alias

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"sync"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/manifest"
)

var schema = database.Schema{Steps: []string{
	`CREATE TABLE alias (name BLOB PRIMARY KEY, own BLOB NOT NULL) WITHOUT ROWID;`,
	`ALTER TABLE alias ADD COLUMN sum INTEGER NOT NULL DEFAULT 0;`,
}}

// sum tells a row that is as it was written; one of an earlier version has 0.
func sum(name, own digest.Digest) int64 {
	h := digest.Of(append(name[:], own[:]...))
	return int64(binary.LittleEndian.Uint64(h[:8]) | 1)
}

// Table is what is remembered. It is read when it is first needed. Several goroutines may use it at once.
type Table struct {
	file string
	kept *database.Kept

	mu  sync.Mutex
	own map[digest.Digest]digest.Digest
}

// At returns the table that is kept in a file.
func At(file string) *Table { return &Table{file: file, kept: database.Keep(file, schema)} }

// read reads the table once. The caller has locked it.
func (t *Table) read(ctx context.Context) error {
	if t.own != nil {
		return nil
	}
	own := make(map[digest.Digest]digest.Digest)
	if _, err := os.Stat(t.file); errors.Is(err, fs.ErrNotExist) {
		t.own = own
		return nil
	}
	err := t.kept.Do(ctx, func(db *sql.DB) error {
		clear(own)
		rows, err := db.QueryContext(ctx, `SELECT name, own, sum FROM alias`)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var name, is []byte
			var check int64
			if err := rows.Scan(&name, &is, &check); err != nil {
				return err
			}
			n, nameErr := digest.FromBytes(name)
			o, ownErr := digest.FromBytes(is)
			if nameErr == nil && ownErr == nil && (check == 0 || check == sum(n, o)) {
				own[n] = o
			}
		}
		return rows.Err()
	})
	if err == nil {
		t.own = own
	}
	return err
}

// Own returns the digest of the content that d means: d itself, or what is known for it.
func (t *Table) Own(d digest.Digest) digest.Digest {
	if t == nil || !d.IsUnseen() {
		return d
	}
	if own, ok := t.Known(d); ok {
		return own
	}
	return d
}

// Known returns what is remembered under a name.
func (t *Table) Known(name digest.Digest) (digest.Digest, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	_ = t.read(context.Background()) // else it is not known
	own, ok := t.own[name]
	return own, ok
}

// Names lists all names of contents.
func (t *Table) Names(own map[digest.Digest]bool) map[digest.Digest]bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	_ = t.read(context.Background()) // else none is known
	names := make(map[digest.Digest]bool)
	for name, is := range t.own {
		if own[is] {
			names[name] = true
		}
	}
	return names
}

// Learn remembers what names mean.
func (t *Table) Learn(ctx context.Context, names map[digest.Digest]digest.Digest) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.read(ctx); err != nil {
		return err
	}
	var fresh []digest.Digest
	for name, own := range names {
		if was, ok := t.own[name]; !ok || was != own {
			t.own[name] = own
			fresh = append(fresh, name)
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	return t.change(ctx, func(tx *sql.Tx) error {
		for _, name := range fresh {
			own := t.own[name]
			if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO alias (name, own, sum) VALUES (?, ?, ?)`, name[:], own[:], sum(name, own)); err != nil {
				return err
			}
		}
		return nil
	})
}

// change changes the table as a whole.
func (t *Table) change(ctx context.Context, do func(*sql.Tx) error) error {
	return t.kept.Do(ctx, func(db *sql.DB) error {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if err := do(tx); err != nil {
			return err
		}
		return tx.Commit()
	})
}

// Came is the name under which it is remembered for content that came from a distributor by a weak digest, or by none,
// for which subscription it came. It counts for no other.
func Came(own digest.Digest) digest.Digest { return digest.Unseen("came by itself\n" + own.String()) }

// Forget forgets what names mean.
func (t *Table) Forget(ctx context.Context, names ...digest.Digest) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.read(ctx); err != nil {
		return err
	}
	return t.change(ctx, func(tx *sql.Tx) error {
		for _, name := range names {
			delete(t.own, name)
			if _, err := tx.ExecContext(ctx, `DELETE FROM alias WHERE name = ?`, name[:]); err != nil {
				return err
			}
		}
		return nil
	})
}

// Check looks through all of the table, and reports whether it was damaged and had to be begun anew.
func (t *Table) Check(ctx context.Context) (replaced bool, err error) {
	if _, err := os.Stat(t.file); errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return t.kept.Check(ctx)
}

// Manifest returns m with the digests of content that has been seen in place of what stands for them.
func (t *Table) Manifest(m *manifest.Manifest) *manifest.Manifest {
	if t == nil || !Unseen(m) {
		return m
	}
	out := *m
	out.Files = make([]manifest.File, len(m.Files))
	for i, f := range m.Files {
		f.Digest = t.Own(f.Digest)
		out.Files[i] = f
	}
	return &out
}

// Unseen reports whether a manifest lists content that has not been seen.
func Unseen(m *manifest.Manifest) bool {
	for i := range m.Files {
		if m.Files[i].Digest.IsUnseen() {
			return true
		}
	}
	return false
}

// Close gives the file back.
func (t *Table) Close() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.own = nil
	return t.kept.Close()
}
