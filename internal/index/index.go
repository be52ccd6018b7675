// Package index tells what the manifests that are known hold, without decoding them: which of them have a path, with which content,
// and all of what each holds. A version of a file is kept once, with the ranges of manifests that have it, so that a thousand builds of
// which each changes one file in a hundred take ten times the room of one.
//
// All of it can be found out again from the manifests. Where it cannot be written to, or is damaged, they are decoded as they would be
// without it.
package index

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"hash/crc32"
	"maps"
	"math"
	"slices"
	"strings"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/volume"
)

var schema = database.Schema{Steps: []string{`
CREATE TABLE line (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, top INTEGER NOT NULL);
CREATE TABLE manifest (name BLOB PRIMARY KEY, line INTEGER NOT NULL, at INTEGER NOT NULL, files INTEGER NOT NULL, bytes INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE path (id INTEGER PRIMARY KEY, path TEXT NOT NULL UNIQUE, fold TEXT NOT NULL);
CREATE INDEX path_fold ON path (fold);
CREATE TABLE version (line INTEGER NOT NULL, path INTEGER NOT NULL, kind INTEGER NOT NULL, content BLOB NOT NULL, size INTEGER NOT NULL, way TEXT NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, sum INTEGER NOT NULL);
CREATE INDEX version_path ON version (path);
CREATE INDEX version_open ON version (line, last);
`}}

// Kinds of what lies at a path.
const (
	file = iota
	link
	emptyDir
)

// open stands for the end of a range that goes on with the newest manifest of its line.
const open = math.MaxInt64 - 1

// Index is asked by one command at a time. One that is nil knows nothing: manifests are decoded.
type Index struct{ kept *database.Kept }

// At returns the index that is kept in a file.
func At(file string) *Index { return &Index{database.Keep(file, schema)} }

// Close gives the file back.
func (x *Index) Close() error { return x.kept.Close() }

// Check looks through all of the file, and reports whether it had to be begun anew.
func (x *Index) Check(ctx context.Context) (replaced bool, err error) { return x.kept.Check(ctx) }

// Source is a manifest that is to be known.
type Source struct {
	Name digest.Digest // what it is known by; the same name has the same content
	Line string        // manifests of one line are alike, and come in the order in which they were made
	Read func() (*Listed, error)
}

// Listed is what a manifest holds, and how its distributor names the content of files: see View.Ways.
type Listed struct {
	*manifest.Manifest
	Ways map[string]string // by path; nil: by Morvant's own digests
}

// View is what some manifests hold.
type View struct {
	x       *Index
	sources []Source
	places  map[digest.Digest]place              // those in the index
	decoded map[digest.Digest]*manifest.Manifest // those that could not be put there
	Errs    map[digest.Digest]error              // those that could not be read
}

type place struct {
	line, at int64
}

// Of returns a view of manifests, and reads those that the index does not have.
func (x *Index) Of(ctx context.Context, sources []Source) (*View, error) {
	v := &View{x: x, sources: sources, Errs: make(map[digest.Digest]error), decoded: make(map[digest.Digest]*manifest.Manifest)}
	if len(sources) == 0 {
		return v, nil
	}
	if x != nil { // whatever is wrong with the index, the manifests tell the same
		_ = x.kept.Do(ctx, func(db *sql.DB) (err error) {
			// Another process that writes, or has been stopped while it did, is not waited for.
			if _, err := db.ExecContext(ctx, "PRAGMA busy_timeout = 500"); err != nil {
				return err
			}
			if v.places, err = places(ctx, db); err != nil {
				return err
			}
			return v.add(ctx, db, v.lacking(sources))
		})
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	v.decode(v.lacking(sources)) // the index cannot be written to
	// Nothing is told of others.
	asked := make(map[digest.Digest]bool, len(sources))
	for _, s := range sources {
		asked[s.Name] = true
	}
	for name := range v.places {
		if !asked[name] {
			delete(v.places, name)
		}
	}
	return v, nil
}

// decode reads manifests that the index cannot tell of.
func (v *View) decode(list []Source) {
	for _, s := range list {
		if is, err := s.Read(); err != nil {
			v.Errs[s.Name] = err
		} else {
			v.decoded[s.Name] = is.Manifest
		}
	}
}

// lacking lists the sources of which nothing is known, each once, those of a line in their order.
func (v *View) lacking(sources []Source) []Source {
	var list []Source
	seen := make(map[digest.Digest]bool)
	for _, s := range sources {
		_, has := v.places[s.Name]
		if !has && v.Errs[s.Name] == nil && !seen[s.Name] {
			seen[s.Name] = true
			list = append(list, s)
		}
	}
	slices.SortStableFunc(list, func(a, b Source) int { return strings.Compare(a.Line, b.Line) })
	return list
}

func places(ctx context.Context, db *sql.DB) (map[digest.Digest]place, error) {
	rows, err := db.QueryContext(ctx, `SELECT name, line, at FROM manifest`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := make(map[digest.Digest]place)
	for rows.Next() {
		var name []byte
		var p place
		if err := rows.Scan(&name, &p.line, &p.at); err != nil {
			return nil, err
		}
		if d, err := digest.FromBytes(name); err == nil {
			all[d] = p
		}
	}
	return all, rows.Err()
}

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

// All returns the manifests of the view, by name. They are to be read only.
func (v *View) All(ctx context.Context) (map[digest.Digest]*manifest.Manifest, error) {
	return v.manifests(ctx, nil)
}

// On returns what the manifests of the view hold at some paths, however these are spelled; each has an entry.
func (v *View) On(ctx context.Context, paths []string) (map[digest.Digest]*manifest.Manifest, error) {
	folds := make(map[string]bool, len(paths))
	for _, p := range paths {
		folds[volume.Fold(p)] = true
	}
	return v.manifests(ctx, folds)
}

// Paths lists the paths of all files that the manifests of the view have, as fold makes them.
func (v *View) Paths(ctx context.Context, fold func(string) string) (map[string]bool, error) {
	paths := make(map[string]bool)
	asked := v.asked()
	err := v.each(ctx, func() { clear(paths) }, func(r *row) {
		if len(asked.of(r)) > 0 {
			paths[fold(r.path)] = true
		}
	}, func(_ digest.Digest, f manifest.File) { paths[fold(f.Path)] = true })
	return paths, err
}

// look visits the versions at paths (nil: at all) that the index has, and reports whether these are all of the view. begin is called
// before, perhaps once more.
func (v *View) look(ctx context.Context, folds map[string]bool, begin func(), visit func(*row)) (whole bool) {
	if len(v.places) == 0 {
		return true
	}
	_ = v.x.kept.Do(ctx, func(db *sql.DB) error { // else the manifests tell
		whole = false
		begin()
		if now, err := places(ctx, db); err != nil || !v.among(now) {
			return err
		}
		err := v.rows(ctx, db, folds, visit)
		whole = err == nil
		return err
	})
	return whole
}

// each visits the files of the view: versions in the index, and those of manifests that it does not have. Where it fails, all are
// visited by their manifests, after begin.
func (v *View) each(ctx context.Context, begin func(), visit func(*row), other func(digest.Digest, manifest.File)) error {
	whole := v.look(ctx, nil, begin, func(r *row) {
		if r.kind == file {
			visit(r)
		}
	})
	decoded := v.decoded
	if !whole {
		begin()
		var err error
		if decoded, err = v.All(ctx); err != nil {
			return err
		}
	}
	for name, m := range decoded {
		for _, f := range m.Files {
			other(name, f)
		}
	}
	return ctx.Err()
}

// few is up to how many manifests are looked up one by one.
const few = 8

// most is about how many paths are asked for one by one: many of them cost more than looking through all.
const most = 500

// manifests returns what the manifests of the view hold at paths; nil: at all.
func (v *View) manifests(ctx context.Context, folds map[string]bool) (map[digest.Digest]*manifest.Manifest, error) {
	found := make(map[digest.Digest]*manifest.Manifest, len(v.places)+len(v.decoded))
	lines := make(map[int64][]*manifest.Manifest) // by number
	whole := v.look(ctx, folds, func() {
		clear(found)
		clear(lines)
		for name, p := range v.places {
			found[name] = &manifest.Manifest{}
			if n := int(p.at) + 1; len(lines[p.line]) < n {
				lines[p.line] = slices.Grow(lines[p.line], n-len(lines[p.line]))[:n]
			}
			lines[p.line][p.at] = found[name]
		}
	}, func(r *row) { r.spread(lines[r.line]) })
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	for _, m := range found {
		m.Sort()
	}
	if !whole { // it was damaged, or another process has begun it anew
		clear(found)
		v.places = nil
		v.decode(slices.DeleteFunc(slices.Clone(v.sources), func(s Source) bool { return v.decoded[s.Name] != nil || v.Errs[s.Name] != nil }))
	}
	for name, m := range v.decoded {
		if found[name] = m; folds != nil {
			found[name] = m.Without(func(p string) bool { return !folds[volume.Fold(p)] })
		}
	}
	return found, nil
}

// among reports whether what the view saw is there still.
func (v *View) among(now map[digest.Digest]place) bool {
	for name, p := range v.places {
		if now[name] != p {
			return false
		}
	}
	return true
}

// row is a version with where it is.
type row struct {
	version
	line, first, last, at, sum int64
	path                       string
}

// digest returns the content of a file.
func (r *row) digest() (d digest.Digest) {
	copy(d[:], r.content)
	return d
}

// spread gives a version to the manifests that have it.
func (r *row) spread(of []*manifest.Manifest) {
	d := r.digest()
	for n := r.first; n <= min(r.last, int64(len(of))-1); n++ {
		m := of[n]
		switch {
		case m == nil: // nobody asked for it
		case r.kind == file:
			m.Files = append(m.Files, manifest.File{Path: r.path, Size: r.size, Digest: d})
		case r.kind == link:
			m.Links = append(m.Links, manifest.Link{Path: r.path, Target: r.content})
		default:
			m.EmptyDirs = append(m.EmptyDirs, r.path)
		}
	}
}

// rows visits the versions at paths; nil: at all.
func (v *View) rows(ctx context.Context, db *sql.DB, folds map[string]bool, visit func(*row)) error {
	const ask = `SELECT v.line, p.id, p.path, v.kind, v.content, v.size, v.way, v.first, v.last, v.sum FROM version v JOIN path p ON p.id = v.path`
	scan := func(visit func(*row), where string, args ...any) error {
		rows, err := db.QueryContext(ctx, ask+where, args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			r := &row{}
			if err := rows.Scan(&r.line, &r.at, &r.path, &r.kind, &r.content, &r.size, &r.way, &r.first, &r.last, &r.sum); err != nil {
				return err
			}
			if r.version.sum(r.at, r.first) != r.sum || r.kind == file && len(r.content) != len(digest.Digest{}) {
				return fmt.Errorf("%w: a row of %s", database.ErrDamaged, r.path)
			}
			if folds == nil || folds[volume.Fold(r.path)] {
				visit(r)
			}
		}
		return rows.Err()
	}
	if len(v.places) <= few && folds == nil {
		for _, p := range v.places {
			only := func(r *row) { r.first, r.last = p.at, p.at; visit(r) }
			if err := scan(only, ` WHERE v.line = ? AND v.last >= ? AND v.first <= ?`, p.line, p.at, p.at); err != nil {
				return err
			}
		}
		return nil
	}
	if folds == nil || len(folds) > most {
		return scan(visit, "")
	}
	for fold := range folds {
		if err := scan(visit, ` WHERE p.fold = ?`, fold); err != nil {
			return err
		}
	}
	return nil
}

// asked are the manifests of a view by where they are, and their numbers in order, by line.
type asked struct {
	names   map[place]digest.Digest
	numbers map[int64][]int64
}

func (v *View) asked() *asked {
	a := &asked{make(map[place]digest.Digest, len(v.places)), make(map[int64][]int64)}
	for name, p := range v.places {
		a.names[p] = name
		a.numbers[p.line] = append(a.numbers[p.line], p.at)
	}
	for _, list := range a.numbers {
		slices.Sort(list)
	}
	return a
}

// of lists the numbers of those that have a version.
func (a *asked) of(r *row) []int64 {
	list := a.numbers[r.line]
	from, to := a.span(r)
	return list[from:to]
}

// span tells from which to before which of the numbers of its line a version is had.
func (a *asked) span(r *row) (from, to int) {
	list := a.numbers[r.line]
	from, _ = slices.BinarySearch(list, r.first)
	to, _ = slices.BinarySearch(list, r.last+1)
	return from, max(from, to)
}

// Way is how distributors name content that some manifests of the view have.
type Way struct {
	Content digest.Digest
	Size    int64
	Way     string
	Path    string // one where it lies,
	In      digest.Digest
}

// Ways lists, each once, the contents that distributors name in a way of their own; whole says that these are all of the view.
func (v *View) Ways(ctx context.Context) (list []Way, whole bool, err error) {
	if len(v.decoded) > 0 {
		return nil, false, nil
	}
	a := v.asked()
	seen := make(map[string]bool)
	whole = v.look(ctx, nil, func() { list = nil; clear(seen) }, func(r *row) {
		if at := a.of(r); r.way != "" && !seen[r.content] && len(at) > 0 {
			seen[r.content] = true
			list = append(list, Way{r.digest(), r.size, r.way, r.path, a.names[place{r.line, at[0]}]})
		}
	})
	return list, whole, ctx.Err()
}

// With lists the manifests of the view that have one of these contents, by name, and the first path where it lies.
func (v *View) With(ctx context.Context, contents map[digest.Digest]bool) (map[digest.Digest]string, error) {
	found := make(map[digest.Digest]string)
	note := func(name digest.Digest, path string) {
		if was, has := found[name]; !has || path < was {
			found[name] = path
		}
	}
	a := v.asked()
	err := v.each(ctx, func() { clear(found) }, func(r *row) {
		if contents[r.digest()] {
			for _, at := range a.of(r) {
				note(a.names[place{r.line, at}], r.path)
			}
		}
	}, func(name digest.Digest, f manifest.File) {
		if contents[f.Digest] {
			note(name, f.Path)
		}
	})
	return found, err
}

// Having lists manifests of the view that together have all of those contents that any of them has: those with the most first, as few
// as that leads to.
func (v *View) Having(ctx context.Context, contents map[digest.Digest]bool) ([]digest.Digest, error) {
	var names []digest.Digest
	if len(v.decoded) > 0 || len(contents) == 0 {
		return append(names, slices.Collect(maps.Keys(v.decoded))...), nil
	}
	a := v.asked()
	var rows []*row
	v.look(ctx, nil, func() { rows = nil }, func(r *row) { // without the index, what might have helped does not
		if r.kind == file && contents[r.digest()] {
			rows = append(rows, r)
		}
	})
	for ctx.Err() == nil {
		best, found := a.most(rows)
		if !found {
			return names, nil
		}
		names = append(names, a.names[best])
		has := make(map[string]bool)
		for _, r := range rows {
			if r.line == best.line && r.first <= best.at && best.at <= r.last {
				has[r.content] = true
			}
		}
		rows = slices.DeleteFunc(rows, func(r *row) bool { return has[r.content] })
	}
	return nil, ctx.Err()
}

// most returns the manifest that has the most of some versions.
func (a *asked) most(rows []*row) (best place, found bool) {
	most := 0
	for line, list := range a.numbers {
		steps := make([]int, len(list)+1) // how many begin less how many end at each number
		for _, r := range rows {
			if r.line == line {
				from, to := a.span(r)
				steps[from]++
				steps[to]--
			}
		}
		n := 0
		for i, at := range list {
			if n += steps[i]; n > most {
				best, most = place{line, at}, n
			}
		}
	}
	return best, most > 0
}
