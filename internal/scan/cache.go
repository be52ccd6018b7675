package scan

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"morvant/internal/database"
	"morvant/internal/digest"
)

var cacheSchema = database.Schema{Steps: []string{`
CREATE TABLE dir (root TEXT, dir TEXT, files BLOB NOT NULL, PRIMARY KEY (root, dir)) WITHOUT ROWID;
`, `
CREATE TABLE other (root TEXT PRIMARY KEY, names BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE restless (root TEXT PRIMARY KEY, files BLOB NOT NULL) WITHOUT ROWID;
`}}

// tables are those that remember something of a folder, by its root.
var tables = []string{"dir", "other", "restless"}

// Cache remembers what was read of which files. Losing it costs time only, so
// one that is damaged or of another version is replaced.
type Cache struct {
	kept *database.Kept
	// recalled is what the rows of a root said when they were last read or
	// written, so that Remember need not read them again.
	recalled map[string]map[string][]byte
	// lost is what was remembered of a root and was not there when it was last recalled.
	lost map[string]map[string]cached
	// moved counts the files that were remembered of a root and were gone or touched, but for large ones.
	moved    map[string]int
	restless map[string]map[string]restless // what was found of a root in this run
}

// OpenCache returns the cache at file.
func OpenCache(file string) *Cache {
	return &Cache{
		kept: database.Keep(file, cacheSchema), recalled: make(map[string]map[string][]byte), lost: make(map[string]map[string]cached),
		moved: make(map[string]int), restless: make(map[string]map[string]restless),
	}
}

// exec changes what is remembered.
func (c *Cache) exec(ctx context.Context, statement string, args ...any) error {
	return c.kept.Do(ctx, func(db *sql.DB) error {
		_, err := db.ExecContext(ctx, statement, args...)
		return err
	})
}

// one reads the only row of a root; nil if there is none.
func (c *Cache) one(ctx context.Context, query, root string) (blob []byte, err error) {
	err = c.kept.Do(ctx, func(db *sql.DB) error {
		err := db.QueryRowContext(ctx, query, root).Scan(&blob)
		if errors.Is(err, sql.ErrNoRows) {
			blob, err = nil, nil
		}
		return err
	})
	return blob, err
}

// Check looks through all of the cache, and reports whether it was damaged and had to be begun anew.
func (c *Cache) Check(ctx context.Context) (replaced bool, err error) { return c.kept.Check(ctx) }

// Close closes the cache.
func (c *Cache) Close() error { return c.kept.Close() }

// cached is what is remembered of one file, in this order and size on disk:
// the length of the name (2 bytes) and the name, then
//
//	size, mtime, ctime, device, file id, time of the look (8 each), digest (32)
type cached struct {
	stamp  Stamp
	looked time.Time
	digest digest.Digest
}

const cachedSize = 6*8 + digest.Size

// Recall fills in the digests of files that have not been touched since they
// were last read. What it cannot trust it leaves unknown. root names the folder.
func (c *Cache) Recall(ctx context.Context, root string, t *Tree) error {
	rows, err := c.rows(ctx, root)
	if err != nil {
		return err
	}
	c.recalled[root] = rows
	remembered := make(map[string]cached, len(t.Entries))
	for dir, row := range rows {
		decodeDir(dir, row, remembered)
	}
	moved := 0
	for i := range t.Entries {
		e := &t.Entries[i]
		was, ok := remembered[e.Path]
		if ok && was.stamp != e.Stamp && e.Stamp.Size < RestlessFrom {
			moved++
		}
		delete(remembered, e.Path)
		if ok && e.Kind == File && was.stamp == e.Stamp && !was.stamp.Racy(was.looked) {
			e.Digest, e.Looked, e.Known = was.digest, was.looked, true
		}
	}
	c.lost[root], c.moved[root] = remembered, moved+len(remembered)
	return nil
}

// Lost is a file that was there at an earlier look.
type Lost struct {
	Path    string
	Bytes   int64
	Touched time.Time // when it was last changed
}

// Lost lists the files that were remembered when the folder's tree was last recalled and that are
// not in it, unless their content is there under another name.
func (c *Cache) Lost(root string, t *Tree) []Lost {
	if len(c.lost[root]) == 0 {
		return nil
	}
	there := make(map[digest.Digest]bool)
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Known {
			there[e.Digest] = true
		}
	}
	var lost []Lost
	for p, was := range c.lost[root] {
		if !there[was.digest] {
			lost = append(lost, Lost{p, was.stamp.Size, time.Unix(0, max(was.stamp.CTime, was.stamp.MTime))})
		}
	}
	return lost
}

// Files returns the sizes of the files that are remembered of a folder, by path.
func (c *Cache) Files(ctx context.Context, root string) (map[string]int64, error) {
	rows, err := c.rows(ctx, root)
	if err != nil {
		return nil, err
	}
	files := make(map[string]int64)
	for dir, row := range rows {
		remembered := make(map[string]cached)
		decodeDir(dir, row, remembered)
		for p, f := range remembered {
			files[p] = f.stamp.Size
		}
	}
	return files, nil
}

// Forget forgets what is remembered of a folder, or of all whose names begin with a prefix that ends
// in a slash.
func (c *Cache) Forget(ctx context.Context, root string) error {
	delete(c.recalled, root)
	delete(c.restless, root)
	for _, table := range tables {
		if err := c.exec(ctx, `DELETE FROM `+table+` WHERE root = ?1 OR substr(?1, -1) = '/' AND substr(root, 1, length(?1)) = ?1`, root); err != nil {
			return err
		}
	}
	return nil
}

// Rename remembers under another name of the folder what was remembered of it.
func (c *Cache) Rename(ctx context.Context, from, to string) error {
	delete(c.recalled, from)
	delete(c.restless, from)
	for _, table := range tables {
		if err := c.exec(ctx, `UPDATE OR REPLACE `+table+` SET root = ? WHERE root = ?`, to, from); err != nil {
			return err
		}
	}
	return nil
}

// Remember saves what is known of the tree; folders that say what they said
// before are not written again.
func (c *Cache) Remember(ctx context.Context, root string, t *Tree) error {
	dirs := make(map[string][]byte)
	if len(t.late) > 0 {
		t.Entries = append(t.Entries, t.late...)
		t.late = nil
		slices.SortFunc(t.Entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	}
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == File && e.Known {
			dir := path.Dir(e.Path)
			dirs[dir] = appendCached(dirs[dir], path.Base(e.Path), cached{e.Stamp, e.Looked, e.Digest})
		}
	}
	for dir, blob := range dirs {
		dirs[dir] = sealed(blob)
	}
	old, known := c.recalled[root]
	if !known {
		var err error
		if old, err = c.rows(ctx, root); err != nil {
			return err
		}
	}
	var write, drop []string
	for dir, blob := range dirs {
		if !bytes.Equal(old[dir], blob) {
			write = append(write, dir)
		}
	}
	for dir := range old {
		if dirs[dir] == nil {
			drop = append(drop, dir)
		}
	}
	if len(write)+len(drop) == 0 {
		return nil
	}
	err := c.kept.Do(ctx, func(db *sql.DB) error {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		for _, dir := range write {
			if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO dir (root, dir, files) VALUES (?, ?, ?)`, root, dir, dirs[dir]); err != nil {
				return err
			}
		}
		for _, dir := range drop {
			if _, err := tx.ExecContext(ctx, `DELETE FROM dir WHERE root = ? AND dir = ?`, root, dir); err != nil {
				return err
			}
		}
		return tx.Commit()
	})
	if err == nil {
		c.recalled[root] = dirs
	}
	return err
}

// rows returns the row of each folder below root.
func (c *Cache) rows(ctx context.Context, root string) (map[string][]byte, error) {
	m := make(map[string][]byte)
	return m, c.kept.Do(ctx, func(db *sql.DB) error {
		clear(m)
		rows, err := db.QueryContext(ctx, `SELECT dir, files FROM dir WHERE root = ?`, root)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var dir string
			var blob []byte
			if err := rows.Scan(&dir, &blob); err != nil {
				return err
			}
			m[dir] = blob
		}
		return rows.Err()
	})
}

// sealSize is that of what stands behind the files of a row: the beginning of its digest. Rows of earlier versions have
// none.
const sealSize = 8

func sealed(b []byte) []byte {
	sum := digest.Of(b)
	return append(b, sum[:sealSize]...)
}

func appendCached(b []byte, name string, c cached) []byte {
	b = binary.LittleEndian.AppendUint16(b, uint16(len(name)))
	b = append(b, name...)
	for _, n := range []uint64{uint64(c.stamp.Size), uint64(c.stamp.MTime), uint64(c.stamp.CTime), c.stamp.Dev, c.stamp.Ino, uint64(c.looked.UnixNano())} {
		b = binary.LittleEndian.AppendUint64(b, n)
	}
	return append(b, c.digest[:]...)
}

// decodeDir adds what a row says to m. A row cut short says nothing further, and one that is not as it was written
// nothing at all.
func decodeDir(dir string, row []byte, m map[string]cached) {
	found := make(map[string]cached)
	b := row
	for len(b) >= 2 {
		n := int(binary.LittleEndian.Uint16(b))
		if len(b) < 2+n+cachedSize {
			break
		}
		name := string(b[2 : 2+n])
		b = b[2+n:]
		var f [6]uint64
		for i := range f {
			f[i] = binary.LittleEndian.Uint64(b[8*i:])
		}
		found[path.Join(dir, name)] = cached{
			stamp:  Stamp{Size: int64(f[0]), MTime: int64(f[1]), CTime: int64(f[2]), Dev: f[3], Ino: f[4]},
			looked: time.Unix(0, int64(f[5])),
			digest: digest.Digest(b[48 : 48+digest.Size]),
		}
		b = b[cachedSize:]
	}
	if len(b) > 0 && !bytes.Equal(sealed(bytes.Clone(row[:len(row)-len(b)])), row) {
		return
	}
	maps.Copy(m, found)
}
