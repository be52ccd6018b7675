package manifest

import (
	"cmp"
	"slices"

	"morvant/internal/digest"
)

// Changed is a path that holds other content than before.
type Changed struct {
	Path     string
	Old, New File
}

// Moved is a file found under another path with the same content.
type Moved struct {
	From, To File
}

// LinkChange is a link that was added (Old empty), removed (New empty) or points elsewhere.
type LinkChange struct {
	Path, Old, New string
}

// Changes is what differs between two manifests. Each list has the biggest
// first, then by path.
type Changes struct {
	Changed   []Changed
	Added     []File
	Removed   []File
	Moved     []Moved
	Links     []LinkChange
	Same      int // files equal in both
	DirsAdded []string
	DirsGone  []string
}

// Empty reports whether the two manifests list the same.
func (c *Changes) Empty() bool {
	return len(c.Changed)+len(c.Added)+len(c.Removed)+len(c.Moved)+len(c.Links)+len(c.DirsAdded)+len(c.DirsGone) == 0
}

// BytesIn returns the bytes of all content that is new at its path: changed,
// added, but not moved.
func (c *Changes) BytesIn() int64 {
	var n int64
	for _, f := range c.Changed {
		n += f.New.Size
	}
	for _, f := range c.Added {
		n += f.Size
	}
	return n
}

// Compare lists what changes from a to b. A file that is gone from one path and
// present under another with the same content counts as moved; an empty file
// does not, since its content says nothing about where it came from.
func Compare(a, b *Manifest) *Changes {
	c := &Changes{}
	merge(a.Files, b.Files, func(f File) string { return f.Path }, func(old, new *File) {
		switch {
		case old == nil:
			c.Added = append(c.Added, *new)
		case new == nil:
			c.Removed = append(c.Removed, *old)
		case old.Digest != new.Digest || old.Size != new.Size:
			c.Changed = append(c.Changed, Changed{Path: old.Path, Old: *old, New: *new})
		default:
			c.Same++
		}
	})
	merge(a.Links, b.Links, func(l Link) string { return l.Path }, func(old, new *Link) {
		switch {
		case old == nil:
			c.Links = append(c.Links, LinkChange{Path: new.Path, New: new.Target})
		case new == nil:
			c.Links = append(c.Links, LinkChange{Path: old.Path, Old: old.Target})
		case old.Target != new.Target:
			c.Links = append(c.Links, LinkChange{Path: old.Path, Old: old.Target, New: new.Target})
		}
	})
	merge(a.EmptyDirs, b.EmptyDirs, func(s string) string { return s }, func(old, new *string) {
		switch {
		case old == nil:
			c.DirsAdded = append(c.DirsAdded, *new)
		case new == nil:
			c.DirsGone = append(c.DirsGone, *old)
		}
	})
	c.pairMoves()
	biggest := func(a, b File) int {
		return cmp.Or(cmp.Compare(b.Size, a.Size), cmp.Compare(a.Path, b.Path))
	}
	slices.SortFunc(c.Changed, func(a, b Changed) int {
		return cmp.Or(cmp.Compare(max(b.Old.Size, b.New.Size), max(a.Old.Size, a.New.Size)), cmp.Compare(a.Path, b.Path))
	})
	slices.SortFunc(c.Added, biggest)
	slices.SortFunc(c.Removed, biggest)
	slices.SortFunc(c.Moved, func(a, b Moved) int { return biggest(a.To, b.To) })
	return c
}

func (c *Changes) pairMoves() {
	if len(c.Added) == 0 || len(c.Removed) == 0 {
		return
	}
	gone := make(map[digest.Digest][]int)
	for i, f := range c.Removed {
		if f.Size > 0 {
			gone[f.Digest] = append(gone[f.Digest], i)
		}
	}
	taken := make(map[int]bool)
	added := c.Added[:0:0]
	for _, f := range c.Added {
		from := gone[f.Digest]
		if len(from) == 0 {
			added = append(added, f)
			continue
		}
		gone[f.Digest] = from[1:]
		taken[from[0]] = true
		c.Moved = append(c.Moved, Moved{From: c.Removed[from[0]], To: f})
	}
	removed := c.Removed[:0:0]
	for i, f := range c.Removed {
		if !taken[i] {
			removed = append(removed, f)
		}
	}
	c.Added, c.Removed = added, removed
}

// merge walks two sorted lists and calls visit for each path, with nil for the
// side that does not have it.
func merge[T any](a, b []T, path func(T) string, visit func(old, new *T)) {
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		switch {
		case j == len(b) || i < len(a) && path(a[i]) < path(b[j]):
			visit(&a[i], nil)
			i++
		case i == len(a) || path(b[j]) < path(a[i]):
			visit(nil, &b[j])
			j++
		default:
			visit(&a[i], &b[j])
			i++
			j++
		}
	}
}
