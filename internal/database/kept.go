package database

import (
	"context"
	"database/sql"
	"errors"
	"sync"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"morvant/internal/problem"
)

// Kept is a database of what can be found out again, so that nothing depends on it. Whatever says that it is damaged, or
// was written by a newer version (opening, asking, reading rows, writing, closing), it is replaced by an empty one; where
// it cannot be written to, or not even that helps, it remembers nothing. It is opened when it is first needed. Several
// goroutines may use it at once.
type Kept struct {
	file   string
	schema Schema

	mu       sync.Mutex
	db       *sql.DB
	replaced bool
}

// Keep returns the database in a file. Nothing is opened yet.
func Keep(file string, schema Schema) *Kept { return &Kept{file: file, schema: schema} }

// Do does something with the database; where that shows that it is damaged, once more with an empty one. do must begin
// anew each time. An error is about something else than the database, or says that ctx has ended.
func (k *Kept) Do(ctx context.Context, do func(*sql.DB) error) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	err := k.try(ctx, do)
	if lost(err) && ctx.Err() == nil {
		if err = k.replace(); err == nil {
			err = k.try(ctx, do)
		}
	}
	if ctx.Err() == nil && (lost(err) || Unwritable(err) || unwritable(err)) {
		return nil
	}
	return err
}

func (k *Kept) try(ctx context.Context, do func(*sql.DB) error) error {
	if k.db == nil {
		db, err := Open(ctx, k.file, k.schema)
		if err != nil {
			return err
		}
		db.SetMaxOpenConns(1)
		// What a power cut takes is found out again.
		if _, err := db.ExecContext(ctx, "PRAGMA synchronous = NORMAL"); err != nil {
			return errors.Join(err, db.Close())
		}
		k.db = db
	}
	return do(k.db)
}

func (k *Kept) replace() error {
	k.replaced = true
	if k.db != nil {
		_ = k.db.Close() // nothing of it is needed
		k.db = nil
	}
	return Remove(k.file)
}

// lost reports whether an error of a database says that what it holds cannot be relied on.
func lost(err error) bool {
	if Damaged(err) || errors.Is(err, problem.ErrNewer) {
		return true
	}
	var e *sqlite.Error
	return errors.As(err, &e) && (e.Code()&0xff == sqlite3.SQLITE_IOERR || e.Code()&0xff == sqlite3.SQLITE_ERROR) && !Unwritable(err)
}

// Check looks through all of the database, and reports whether it had to be replaced, now or before in this run.
func (k *Kept) Check(ctx context.Context) (replaced bool, err error) {
	err = k.Do(ctx, func(db *sql.DB) error { return Check(ctx, db) })
	return k.replaced, err
}

// Close gives the file back. One that does not close as it should is not relied on any more.
func (k *Kept) Close() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.db == nil {
		return nil
	}
	err := k.db.Close()
	k.db = nil
	if lost(err) {
		return k.replace()
	}
	return err
}
