// Package index tells what the manifests that are known hold, without decoding them: which of them have a path, with which content,
// and all of what each holds. A version of a file is kept once, with the ranges of manifests that have it, so that a thousand builds of
// which each changes one file in a hundred take ten times the room of one.
//
// All of it can be found out again from the manifests. Where it cannot be written to, or is damaged, they are decoded as they would be
// without it.
package index

import (
	"context"
	"database/sql"
	"math"
	"slices"
	"strings"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/manifest"
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
