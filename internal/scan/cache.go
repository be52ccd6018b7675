package scan

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"path"
	"time"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/problem"
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
	db   *sql.DB
	file string
	// recalled is what the rows of a root said when they were last read or
	// written, so that Remember need not read them again.
	recalled map[string]map[string][]byte
	// lost is what was remembered of a root and was not there when it was last recalled.
	lost map[string]map[string]cached
	// moved counts the files that were remembered of a root and were gone or touched, but for large ones.
	moved    map[string]int
	restless map[string]map[string]restless // what was found of a root in this run
}

// OpenCache opens or creates the cache at file.
func OpenCache(ctx context.Context, file string) (*Cache, error) {
	db, err := database.Open(ctx, file, cacheSchema)
	if errors.Is(err, problem.ErrNewer) || database.Damaged(err) {
		if err := database.Remove(file); err != nil {
			return nil, err
		}
		db, err = database.Open(ctx, file, cacheSchema)
	}
	if err != nil {
		return nil, err
	}
	return &Cache{
		db: db, file: file, recalled: make(map[string]map[string][]byte), lost: make(map[string]map[string]cached),
		moved: make(map[string]int), restless: make(map[string]map[string]restless),
	}, nil
}

// heal replaces a cache that has turned out to be damaged by an empty one, and passes
// over one that cannot be written to: it costs time only.
func (c *Cache) heal(ctx context.Context, err error) error {
	if database.Unwritable(err) {
		return nil
	}
	if !database.Damaged(err) {
		return err
	}
	c.recalled = make(map[string]map[string][]byte)
	if err := c.db.Close(); err != nil {
		return err
	}
	if err := database.Remove(c.file); err != nil {
		return err
	}
	c.db, err = database.Open(ctx, c.file, cacheSchema)
	return err
}

// Close closes the cache.
func (c *Cache) Close() error { return c.db.Close() }

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
		return c.heal(ctx, err)
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

// Lost lists the files that were remembered when the folder's tree was last recalled and that are
// not in it, unless their content is there under another name.
func (c *Cache) Lost(root string, t *Tree) []manifest.File {
	if len(c.lost[root]) == 0 {
		return nil
	}
	there := make(map[digest.Digest]bool)
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Known {
			there[e.Digest] = true
		}
	}
	var lost []manifest.File
	for p, was := range c.lost[root] {
		if !there[was.digest] {
			lost = append(lost, manifest.File{Path: p, Size: was.stamp.Size, Digest: was.digest})
		}
	}
	return lost
}

// Files returns the sizes of the files that are remembered of a folder, by path.
func (c *Cache) Files(ctx context.Context, root string) (map[string]int64, error) {
	rows, err := c.rows(ctx, root)
	if err != nil {
		return nil, c.heal(ctx, err)
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
		if _, err := c.db.ExecContext(ctx, `DELETE FROM `+table+` WHERE root = ?1 OR substr(?1, -1) = '/' AND substr(root, 1, length(?1)) = ?1`, root); err != nil {
			return c.heal(ctx, err)
		}
	}
	return nil
}

// Rename remembers under another name of the folder what was remembered of it.
func (c *Cache) Rename(ctx context.Context, from, to string) error {
	delete(c.recalled, from)
	delete(c.restless, from)
	for _, table := range tables {
		if _, err := c.db.ExecContext(ctx, `UPDATE OR REPLACE `+table+` SET root = ? WHERE root = ?`, to, from); err != nil {
			return c.heal(ctx, err)
		}
	}
	return nil
}

// Remember saves what is known of the tree; folders that say what they said
// before are not written again.
func (c *Cache) Remember(ctx context.Context, root string, t *Tree) error {
	return c.heal(ctx, c.remember(ctx, root, t))
}

func (c *Cache) remember(ctx context.Context, root string, t *Tree) error {
	dirs := make(map[string][]byte)
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == File && e.Known {
			dir := path.Dir(e.Path)
			dirs[dir] = appendCached(dirs[dir], path.Base(e.Path), cached{e.Stamp, e.Looked, e.Digest})
		}
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
	tx, err := c.db.BeginTx(ctx, nil)
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
	c.recalled[root] = dirs
	return tx.Commit()
}

// rows returns the row of each folder below root.
func (c *Cache) rows(ctx context.Context, root string) (map[string][]byte, error) {
	rows, err := c.db.QueryContext(ctx, `SELECT dir, files FROM dir WHERE root = ?`, root)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	m := make(map[string][]byte)
	for rows.Next() {
		var dir string
		var blob []byte
		if err := rows.Scan(&dir, &blob); err != nil {
			return nil, err
		}
		m[dir] = blob
	}
	return m, rows.Err()
}

func appendCached(b []byte, name string, c cached) []byte {
	b = binary.LittleEndian.AppendUint16(b, uint16(len(name)))
	b = append(b, name...)
	for _, n := range []uint64{uint64(c.stamp.Size), uint64(c.stamp.MTime), uint64(c.stamp.CTime), c.stamp.Dev, c.stamp.Ino, uint64(c.looked.UnixNano())} {
		b = binary.LittleEndian.AppendUint64(b, n)
	}
	return append(b, c.digest[:]...)
}

// decodeDir adds what a row says to m. A row cut short says nothing further.
func decodeDir(dir string, b []byte, m map[string]cached) {
	for len(b) >= 2 {
		n := int(binary.LittleEndian.Uint16(b))
		if len(b) < 2+n+cachedSize {
			return
		}
		name := string(b[2 : 2+n])
		b = b[2+n:]
		var f [6]uint64
		for i := range f {
			f[i] = binary.LittleEndian.Uint64(b[8*i:])
		}
		m[path.Join(dir, name)] = cached{
			stamp:  Stamp{Size: int64(f[0]), MTime: int64(f[1]), CTime: int64(f[2]), Dev: f[3], Ino: f[4]},
			looked: time.Unix(0, int64(f[5])),
			digest: digest.Digest(b[48 : 48+digest.Size]),
		}
		b = b[cachedSize:]
	}
}
