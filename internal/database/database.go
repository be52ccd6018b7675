// Package database opens Morvant's SQLite files: write-ahead log, full sync,
// and waiting instead of failing when another process is writing. It knows
// schema versions and tells a damaged file from a newer one; what is in the
// tables is the business of the packages that own them.
package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Errors that callers test for.
var (
	ErrVersion = errors.New("written by a newer Morvant")
	ErrDamaged = errors.New("the database is damaged")
)

// Schema is what a database must hold. Steps[i] brings version i to i+1.
type Schema struct {
	Steps []string
}

// Open opens or creates the database at path and brings its schema up to date.
// A database of a later version than schema knows is refused with ErrVersion.
func Open(ctx context.Context, path string, schema Schema) (*sql.DB, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", dsn(path))
	if err != nil {
		return nil, err
	}
	err = migrate(ctx, db, schema)
	// Turning the log on does not wait for others on every system.
	for until := time.Now().Add(patience); busy(err) && time.Now().Before(until) && ctx.Err() == nil; {
		time.Sleep(20 * time.Millisecond)
		err = migrate(ctx, db, schema)
	}
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("open %s: %w", path, explain(err))
	}
	return db, nil
}

// patience is how long another process is waited for.
const patience = 30 * time.Second

func busy(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && e.Code()&0xff == sqlite3.SQLITE_BUSY
}

func dsn(path string) string {
	query := url.Values{}
	for _, pragma := range []string{"busy_timeout(30000)", "journal_mode(WAL)", "synchronous(FULL)", "foreign_keys(ON)", "cache_size(-8192)"} {
		query.Add("_pragma", pragma)
	}
	query.Set("_txlock", "immediate")
	path = filepath.ToSlash(path)
	if !strings.HasPrefix(path, "/") {
		path = "/" + path // C:/...
	}
	return (&url.URL{Scheme: "file", Path: path, RawQuery: query.Encode()}).String()
}

func migrate(ctx context.Context, db *sql.DB, schema Schema) error {
	version, err := userVersion(ctx, db)
	if err != nil {
		return err
	}
	if version == len(schema.Steps) {
		return nil
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	// Another process may have been faster.
	if version, err = userVersion(ctx, tx); err != nil {
		return err
	}
	if version > len(schema.Steps) {
		return fmt.Errorf("version %d: %w", version, ErrVersion)
	}
	for _, step := range schema.Steps[version:] {
		if _, err := tx.ExecContext(ctx, step); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, fmt.Sprintf("PRAGMA user_version = %d", len(schema.Steps))); err != nil {
		return err
	}
	return tx.Commit()
}

type queryer interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

func userVersion(ctx context.Context, q queryer) (version int, err error) {
	err = q.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version)
	return version, err
}

// Damaged reports whether err comes from a database file that cannot be read.
func Damaged(err error) bool {
	if errors.Is(err, ErrDamaged) {
		return true
	}
	var e *sqlite.Error
	return errors.As(err, &e) && (e.Code()&0xff == sqlite3.SQLITE_CORRUPT || e.Code()&0xff == sqlite3.SQLITE_NOTADB)
}

// Full reports whether err says that the disk holding the database is full.
func Full(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && e.Code()&0xff == sqlite3.SQLITE_FULL
}

func explain(err error) error {
	if Damaged(err) {
		return fmt.Errorf("%w (%v)", ErrDamaged, err)
	}
	return err
}

// Remove deletes the database at path with the files SQLite keeps beside it.
// No process may have it open.
func Remove(path string) error {
	for _, suffix := range []string{"", "-wal", "-shm"} {
		if err := os.Remove(path + suffix); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}
