// Package alias remembers which content of Morvant's is meant by digests of another kind.
//
// A distributor names content by its own digests. What has not been seen here stands in manifests under
// digest.Unseen; once its bytes have been read, its own digest is known for good. Losing the table costs
// reading again, so one that is damaged is replaced.
package alias

import (
	"context"
	"database/sql"
	"errors"
	"io/fs"
	"os"
	"sync"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/problem"
)

var schema = database.Schema{Steps: []string{`CREATE TABLE alias (name BLOB PRIMARY KEY, own BLOB NOT NULL) WITHOUT ROWID;`}}

// Table is what is remembered. It is opened when it is first needed. Several goroutines may use it at once.
type Table struct {
	file string

	mu  sync.Mutex
	db  *sql.DB
	own map[digest.Digest]digest.Digest
	err error
}

// At returns the table that is kept in a file.
func At(file string) *Table { return &Table{file: file} }

// read reads the table once. The caller has locked it.
func (t *Table) read(ctx context.Context, making bool) error {
	if t.own != nil && (t.db != nil || !making) {
		return t.err
	}
	if t.own == nil {
		t.own = make(map[digest.Digest]digest.Digest)
	}
	if _, err := os.Stat(t.file); errors.Is(err, fs.ErrNotExist) && !making {
		return nil
	}
	t.db, t.err = database.Open(ctx, t.file, schema)
	if errors.Is(t.err, problem.ErrNewer) || database.Damaged(t.err) {
		if t.err = database.Remove(t.file); t.err == nil {
			t.db, t.err = database.Open(ctx, t.file, schema)
		}
	}
	if t.err != nil {
		return t.err
	}
	t.db.SetMaxOpenConns(1)
	// What a power cut takes is read again.
	if _, t.err = t.db.ExecContext(ctx, "PRAGMA synchronous = NORMAL"); t.err != nil {
		return t.err
	}
	rows, err := t.db.QueryContext(ctx, `SELECT name, own FROM alias`)
	if err != nil {
		t.err = err
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name, own []byte
		if t.err = rows.Scan(&name, &own); t.err != nil {
			return t.err
		}
		n, nameErr := digest.FromBytes(name)
		o, ownErr := digest.FromBytes(own)
		if nameErr == nil && ownErr == nil {
			t.own[n] = o
		}
	}
	t.err = rows.Err()
	return t.err
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
	_ = t.read(context.Background(), false) // then it is not known
	own, ok := t.own[name]
	return own, ok
}

// Learn remembers what names mean.
func (t *Table) Learn(ctx context.Context, names map[digest.Digest]digest.Digest) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.read(ctx, true); err != nil {
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
	tx, err := t.db.BeginTx(ctx, nil)
	if err != nil {
		return t.spare(err)
	}
	defer tx.Rollback()
	for _, name := range fresh {
		own := t.own[name]
		if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO alias (name, own) VALUES (?, ?)`, name[:], own[:]); err != nil {
			return t.spare(err)
		}
	}
	return t.spare(tx.Commit())
}

// Came is the name under which it is remembered for content that came from a distributor by a weak digest, or by none,
// for which subscription it came. It counts for no other.
func Came(own digest.Digest) digest.Digest { return digest.Unseen("came by itself\n" + own.String()) }

// Forget forgets what names mean.
func (t *Table) Forget(ctx context.Context, names ...digest.Digest) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.read(ctx, true); err != nil {
		return err
	}
	for _, name := range names {
		delete(t.own, name)
		if _, err := t.db.ExecContext(ctx, `DELETE FROM alias WHERE name = ?`, name[:]); err != nil {
			return t.spare(err)
		}
	}
	return nil
}

// spare passes over a table that cannot be written to: this process knows all the same.
func (t *Table) spare(err error) error {
	if database.Unwritable(err) {
		return nil
	}
	return err
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
	if t.db == nil {
		return nil
	}
	err := t.db.Close()
	t.db, t.own, t.err = nil, nil, nil
	return err
}
