package index

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/volume"
)

// atOnce is how many manifests are written in one transaction.
const atOnce = 100

// add puts manifests into the index.
func (v *View) add(ctx context.Context, db *sql.DB, list []Source) error {
	for some := range slices.Chunk(list, atOnce) {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		w := &writer{ctx: ctx, tx: tx, paths: make(map[string]int64)}
		added, err := w.add(v, some)
		if err == nil {
			err = tx.Commit()
		}
		if err != nil {
			return errors.Join(err, tx.Rollback())
		}
		for name, p := range added {
			v.places[name] = p
		}
	}
	return nil
}

// version is a row of what lies at a path.
type version struct {
	kind    int
	content string // a digest's bytes, or what a link leads to
	size    int64
	way     string
}

// sum tells a row that is as it was written.
func (v version) sum(path, first int64) int64 {
	b := fmt.Appendf(nil, "%d %d %d %d %s %s", path, first, v.kind, v.size, v.way, v.content)
	return int64(crc32.ChecksumIEEE(b))
}

// writer writes manifests, and keeps what the last of the line holds.
type writer struct {
	ctx   context.Context
	tx    *sql.Tx
	line  string
	id    int64
	top   int64 // the number of the last manifest of the line; 0: there is none
	has   map[int64]held
	paths map[string]int64
}

type held struct {
	version
	row int64
}

func (w *writer) add(v *View, list []Source) (map[digest.Digest]place, error) {
	there, err := placesIn(w.ctx, w.tx, list) // another process may have been faster
	if err != nil {
		return nil, err
	}
	for _, s := range list {
		if _, has := there[s.Name]; has {
			continue
		}
		is, err := s.Read()
		if err != nil {
			v.Errs[s.Name] = err
			continue
		}
		if err := w.begin(s.Line); err != nil {
			return nil, err
		}
		if err := w.put(is); err != nil {
			return nil, err
		}
		if _, err := w.tx.ExecContext(w.ctx, `INSERT INTO manifest (name, line, at, files, bytes) VALUES (?, ?, ?, ?, ?)`, s.Name[:], w.id, w.top, len(is.Files), is.Bytes()); err != nil {
			return nil, err
		}
		there[s.Name] = place{w.id, w.top}
	}
	return there, w.end()
}

func placesIn(ctx context.Context, tx *sql.Tx, list []Source) (map[digest.Digest]place, error) {
	there := make(map[digest.Digest]place)
	for _, s := range list {
		var p place
		err := tx.QueryRowContext(ctx, `SELECT line, at FROM manifest WHERE name = ?`, s.Name[:]).Scan(&p.line, &p.at)
		if err == nil {
			there[s.Name] = p
		} else if !errors.Is(err, sql.ErrNoRows) {
			return nil, err
		}
	}
	return there, nil
}

// begin goes on with a line.
func (w *writer) begin(line string) error {
	if w.has != nil && w.line == line {
		return nil
	}
	if err := w.end(); err != nil {
		return err
	}
	if _, err := w.tx.ExecContext(w.ctx, `INSERT OR IGNORE INTO line (name, top) VALUES (?, 0)`, line); err != nil {
		return err
	}
	if err := w.tx.QueryRowContext(w.ctx, `SELECT id, top FROM line WHERE name = ?`, line).Scan(&w.id, &w.top); err != nil {
		return err
	}
	rows, err := w.tx.QueryContext(w.ctx, `SELECT rowid, path, kind, content, size, way FROM version WHERE line = ? AND last = ?`, w.id, int64(open))
	if err != nil {
		return err
	}
	defer rows.Close()
	w.line, w.has = line, make(map[int64]held)
	for rows.Next() {
		var h held
		var path int64
		if err := rows.Scan(&h.row, &path, &h.kind, &h.content, &h.size, &h.way); err != nil {
			return err
		}
		w.has[path] = h
	}
	return rows.Err()
}

func (w *writer) end() error {
	if w.has == nil {
		return nil
	}
	_, err := w.tx.ExecContext(w.ctx, `UPDATE line SET top = ? WHERE id = ?`, w.top, w.id)
	w.has = nil
	return err
}

// put writes the next manifest of the line: what ends with the one before, and what begins.
func (w *writer) put(is *Listed) error {
	now := make(map[int64]version, len(is.Files))
	add := func(path string, v version) error {
		id, err := w.path(path)
		now[id] = v
		return err
	}
	var err error
	for _, f := range is.Files {
		err = cmp.Or(err, add(f.Path, version{file, string(f.Digest[:]), f.Size, is.Ways[f.Path]}))
	}
	for _, l := range is.Links {
		err = cmp.Or(err, add(l.Path, version{kind: link, content: l.Target}))
	}
	for _, d := range is.EmptyDirs {
		err = cmp.Or(err, add(d, version{kind: emptyDir}))
	}
	if err != nil {
		return err
	}
	for path, was := range w.has {
		if now[path] == was.version {
			if _, still := now[path]; still {
				continue
			}
		}
		if _, err := w.tx.ExecContext(w.ctx, `UPDATE version SET last = ? WHERE rowid = ?`, w.top, was.row); err != nil {
			return err
		}
		delete(w.has, path)
	}
	w.top++
	for path, v := range now {
		if _, still := w.has[path]; still {
			continue
		}
		r, err := w.tx.ExecContext(w.ctx, `INSERT INTO version (line, path, kind, content, size, way, first, last, sum) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			w.id, path, v.kind, []byte(v.content), v.size, v.way, w.top, int64(open), v.sum(path, w.top))
		if err != nil {
			return err
		}
		row, err := r.LastInsertId()
		if err != nil {
			return err
		}
		w.has[path] = held{v, row}
	}
	return nil
}

// path returns the number of a path.
func (w *writer) path(path string) (id int64, err error) {
	if id, known := w.paths[path]; known {
		return id, nil
	}
	err = w.tx.QueryRowContext(w.ctx, `SELECT id FROM path WHERE path = ?`, path).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		var r sql.Result
		if r, err = w.tx.ExecContext(w.ctx, `INSERT INTO path (path, fold) VALUES (?, ?)`, path, volume.Fold(path)); err == nil {
			id, err = r.LastInsertId()
		}
	}
	w.paths[path] = id
	return id, err
}
