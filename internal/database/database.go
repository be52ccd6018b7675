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
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"morvant/internal/problem"
	"morvant/internal/volume"
)

// Errors that callers test for.
var (
	ErrDamaged = errors.New("the database is damaged")
)

// Schema is what a database must hold. Steps[i] brings version i to i+1.
type Schema struct {
	Steps []string
}

// ErrNotWritten is returned where a database can be looked at and not written to.
var ErrNotWritten = errors.New("it can be read and not written to now")

// Open opens or creates the database at path and brings its schema up to date.
// A database of a later version than schema knows is refused with problem.ErrNewer. One whose
// disk is full or cannot be written to is opened for looking: then every statement that
// changes something fails with what Unwritable recognises.
//
// On a network file system neither locks nor shared memory are relied on: the caller
// must see to it that only one process has it open.
func Open(ctx context.Context, path string, schema Schema) (*sql.DB, error) {
	err := os.MkdirAll(filepath.Dir(path), 0o755)
	if err == nil {
		var db *sql.DB
		if db, err = openFor(ctx, path, schema); err == nil {
			return db, nil
		}
	}
	if !unwritable(err) {
		return nil, err
	}
	db, viewErr := openView(ctx, path, schema)
	if viewErr != nil {
		return nil, errors.Join(err, viewErr)
	}
	return db, nil
}

// openFor opens a database for reading and writing.
func openFor(ctx context.Context, path string, schema Schema) (*sql.DB, error) {
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

// openView opens what a database holds without touching it: in place if nothing is
// left in its log, else a copy in the folder for temporary files.
func openView(ctx context.Context, path string, schema Schema) (*sql.DB, error) {
	name := "file:" + (&url.URL{Path: slashed(path)}).EscapedPath() + "?mode=ro&immutable=1"
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if log, err := os.Stat(path + "-wal"); err == nil && log.Size() > 0 || info.Size() == 0 {
		dir, err := os.MkdirTemp("", "morvant-view-*")
		if err != nil {
			return nil, err
		}
		defer os.RemoveAll(dir) // open files stay readable; elsewhere the system clears it away
		copied := filepath.Join(dir, "view.db")
		for _, suffix := range []string{"", "-wal"} {
			if err := copyFile(path+suffix, copied+suffix); err != nil && !errors.Is(err, os.ErrNotExist) {
				return nil, err
			}
		}
		db, err := openFor(ctx, copied, schema)
		if err != nil {
			return nil, err
		}
		db.SetMaxOpenConns(1) // the file may be gone for a second one
		_, err = db.ExecContext(ctx, "PRAGMA query_only = ON")
		return db, err
	}
	db, err := sql.Open("sqlite", name)
	if err != nil {
		return nil, err
	}
	version, err := userVersion(ctx, db)
	switch {
	case err != nil:
	case version > len(schema.Steps):
		err = fmt.Errorf("version %d: %w", version, problem.ErrNewer)
	case version < len(schema.Steps):
		err = fmt.Errorf("it was written by an older Morvant: %w", ErrNotWritten)
	}
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("open %s: %w", path, explain(err))
	}
	return db, nil
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// modeOf returns how a database is kept, by where it is. On a network file system there is
// no memory to share between processes: there is one process, whose connections share
// what they have read and do not wait for each other's reading.
func modeOf(path string) (pragmas []string, shared bool) {
	if volume.Network(filepath.Dir(path)) != "" {
		return []string{"journal_mode(TRUNCATE)", "locking_mode(EXCLUSIVE)", "read_uncommitted(ON)"}, true
	}
	return []string{"journal_mode(WAL)"}, false
}

// unwritable reports whether err says that the place of a database cannot be written to.
func unwritable(err error) bool {
	return Unwritable(err) || volume.ReadOnly(err) || volume.Full(err) || errors.Is(err, os.ErrPermission)
}

// Unwritable reports whether err comes from a database that can only be looked at, for
// want of space or rights.
func Unwritable(err error) bool {
	if errors.Is(err, ErrNotWritten) {
		return true
	}
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return false
	}
	switch e.Code() & 0xff {
	case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_FULL:
		return true
	}
	switch e.Code() {
	case sqlite3.SQLITE_IOERR_SHMSIZE, sqlite3.SQLITE_IOERR_SHMOPEN, sqlite3.SQLITE_IOERR_SHMMAP, sqlite3.SQLITE_IOERR_WRITE, sqlite3.SQLITE_IOERR_TRUNCATE:
		return true
	}
	return false
}

// Check returns ErrDamaged unless the structure of a database is whole.
func Check(ctx context.Context, db *sql.DB) error {
	var said string
	if err := db.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&said); err != nil {
		return explain(err)
	}
	if said != "ok" {
		return fmt.Errorf("%w (%s)", ErrDamaged, strings.TrimSpace(said))
	}
	return nil
}

// Copy writes what a database holds now into a new file, whole and without a log.
func Copy(ctx context.Context, db *sql.DB, to string) error {
	_, err := db.ExecContext(ctx, "VACUUM INTO ?", to)
	return err
}

// OpenDamaged opens a database for saving what can be read of it; nothing is written.
func OpenDamaged(path string) (*sql.DB, error) {
	return sql.Open("sqlite", "file:"+(&url.URL{Path: slashed(path)}).EscapedPath()+"?mode=ro&immutable=1")
}

// patience is how long another process is waited for.
const patience = 30 * time.Second

func busy(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && e.Code()&0xff == sqlite3.SQLITE_BUSY
}

func dsn(path string) string {
	query := url.Values{}
	mode, shared := modeOf(path)
	if shared {
		query.Set("cache", "shared")
	}
	for _, pragma := range append([]string{"busy_timeout(30000)", "synchronous(FULL)", "foreign_keys(ON)", "cache_size(-8192)"}, mode...) {
		query.Add("_pragma", pragma)
	}
	query.Set("_txlock", "immediate")
	return (&url.URL{Scheme: "file", Path: slashed(path), RawQuery: query.Encode()}).String()
}

func slashed(path string) string {
	path = filepath.ToSlash(path)
	if !strings.HasPrefix(path, "/") {
		path = "/" + path // C:/...
	}
	return path
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
		return fmt.Errorf("version %d: %w", version, problem.ErrNewer)
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
