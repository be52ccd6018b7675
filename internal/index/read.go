package index

import (
	"context"
	"database/sql"
	"fmt"
	"slices"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/volume"
)

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
