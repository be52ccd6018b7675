package index

import (
	"context"
	"maps"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/manifest"
)

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

// span tells which of the numbers of its line have a version: those from one index of the list to before another.
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
