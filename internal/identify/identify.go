// Package identify finds out which known build a folder is, by the content of its
// files, since names and dates can be wrong.
package identify

import (
	"cmp"
	"context"
	"os"
	"slices"
	"time"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/progress"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// Part is a component of a known build.
type Part struct {
	Name     string
	Required bool // no build works without it
	Manifest *manifest.Manifest
}

// Known is a build that a folder may be. A snapshot has one part, without what is
// the player's own.
type Known struct {
	Build *state.Build
	Parts []Part
}

// Component is how much of a component a folder has.
type Component struct {
	Name  string
	Files int // of the component
	Same  int // of those, in the folder with the same content
	There bool
}

// Match is how a folder compares with a known build. Files and bytes count the
// components that are there.
type Match struct {
	Build      *state.Build
	Components []Component
	Files      int
	Same       int
	Bytes      int64
	SameBytes  int64
	Altered    []string // paths with other content
	Missing    []string
	Extra      int // files of the folder that are neither the build's nor the player's
}

// Exact reports whether every file of the components that are there is as built.
func (m *Match) Exact() bool { return m.Files > 0 && m.Same == m.Files }

// Share returns how much of the build the folder has, from 0 to 1: the mean of the
// shares of files and of bytes, so that neither one large archive nor many small
// files decide alone.
func (m *Match) Share() float64 {
	if m.Files == 0 {
		return 0
	}
	share := float64(m.Same) / float64(m.Files)
	if m.Bytes > 0 {
		share = (share + float64(m.SameBytes)/float64(m.Bytes)) / 2
	}
	return share
}

// Request says which folder to look at.
type Request struct {
	Dir   string
	Rules rules.Rules
	Known []Known
	Cache *scan.Cache
	Meter progress.Meter
	Now   func() time.Time
}

// Folder compares a folder that is no lane with every known build. It reads only files that
// could be those of a build, by path and size.
func Folder(ctx context.Context, r Request) (*Answer, error) {
	root, err := os.OpenRoot(r.Dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	tree, err := scan.Walk(ctx, root, r.Rules)
	if err != nil {
		return nil, err
	}
	if err := r.Cache.Recall(ctx, r.Dir, tree); err != nil {
		return nil, err
	}
	err = tree.Read(ctx, root, scan.Request{Sink: scan.Hash(), Task: "Reading", Meter: r.Meter, Now: r.Now, Skip: Impossible(r.Known, r.Rules.Fold)})
	if rememberErr := r.Cache.Remember(context.WithoutCancel(ctx), r.Dir, tree); err == nil {
		err = rememberErr
	}
	if err != nil {
		return nil, err
	}
	return Tree(tree, r.Rules, r.Known), nil
}

// Impossible returns what reports whether a file can be none of any known build, by path and size.
func Impossible(known []Known, fold func(string) string) func(*scan.Entry) bool {
	type pair struct {
		path string
		size int64
	}
	possible := make(map[pair]bool)
	for _, k := range known {
		for _, p := range k.Parts {
			for _, f := range p.Manifest.Files {
				possible[pair{fold(f.Path), f.Size}] = true
			}
		}
	}
	return func(e *scan.Entry) bool { return !possible[pair{fold(e.Path), e.Stamp.Size}] }
}

// Answer is what a folder turns out to be.
type Answer struct {
	Matches []*Match // the best first
	// Origins tell of files that are not as in the best match which other builds have them so.
	Origins []Origin
	Unread  int // builds that could not be compared: their distributor has not told their files yet
}

// Origin is a build that files of a folder are as in.
type Origin struct {
	Build *state.Build
	Files []string // paths, sorted
}

// Tree compares a folder that has been read with every known build. Files that have not been read
// count as like no build.
func Tree(tree *scan.Tree, r rules.Rules, known []Known) *Answer {
	match, fold := r.Matcher(), r.Fold
	have := make(map[string]digest.Digest)
	own := 0
	for i := range tree.Entries {
		e := &tree.Entries[i]
		switch {
		case e.Kind != scan.File:
		case e.Known:
			have[fold(e.Path)] = e.Digest
		default:
			have[fold(e.Path)] = digest.Digest{} // like no build
		}
		if e.Kind == scan.File && match.Kept(e.Path) {
			own++
		}
	}
	a := &Answer{Matches: rank(have, own, known, fold)}
	if len(a.Matches) > 0 {
		a.Origins = origins(have, a.Matches[0].Build, known, fold)
	}
	return a
}

// origins explains the files that are not as in one build by others: first the build that has the
// most of them so, then the one that has the most of the rest. Of two that have as many, the one
// that ranks before the other in known counts.
func origins(have map[string]digest.Digest, but *state.Build, known []Known, fold func(string) string) []Origin {
	asThere := make(map[string]bool)
	for _, k := range known {
		if k.Build == but {
			for _, f := range k.files() {
				asThere[fold(f.Path)] = have[fold(f.Path)] == f.Digest
			}
		}
	}
	left := make(map[string]bool) // still to be explained
	for p, d := range have {
		if !d.IsZero() && !asThere[p] {
			left[p] = true
		}
	}
	var list []Origin
	for len(left) > 0 {
		var best Origin
		for _, k := range known {
			if k.Build == but {
				continue
			}
			var files []string
			for _, f := range k.files() {
				if p := fold(f.Path); left[p] && have[p] == f.Digest {
					files = append(files, f.Path)
				}
			}
			if len(files) > len(best.Files) {
				best = Origin{k.Build, files}
			}
		}
		if best.Build == nil {
			break
		}
		slices.Sort(best.Files)
		for _, p := range best.Files {
			delete(left, fold(p))
		}
		list = append(list, best)
	}
	return list
}

// files lists the files of all components.
func (k Known) files() []manifest.File {
	var list []manifest.File
	for _, p := range k.Parts {
		list = append(list, p.Manifest.Files...)
	}
	return list
}

// rank compares what a folder holds with each build. own is how many of its files
// are the player's.
func rank(have map[string]digest.Digest, own int, known []Known, fold func(string) string) []*Match {
	var list []*Match
	for _, k := range known {
		m := compare(have, k, fold)
		if m.Files > 0 {
			m.Extra = max(0, len(have)-own-m.Same-len(m.Altered))
			list = append(list, m)
		}
	}
	slices.SortStableFunc(list, func(a, b *Match) int {
		return cmp.Or(cmp.Compare(b.Share(), a.Share()), cmp.Compare(b.Same, a.Same))
	})
	return list
}

func compare(have map[string]digest.Digest, k Known, fold func(string) string) *Match {
	m := &Match{Build: k.Build}
	for _, p := range k.Parts {
		c := Component{Name: p.Name, Files: len(p.Manifest.Files)}
		var altered, missing []string
		var bytes int64
		for _, f := range p.Manifest.Files {
			switch d, there := have[fold(f.Path)]; {
			case there && d == f.Digest:
				c.Same++
				bytes += f.Size
			case there:
				altered = append(altered, f.Path)
			default:
				missing = append(missing, f.Path)
			}
		}
		c.There = c.Files > 0 && (p.Required || 2*(c.Same+len(altered)) >= c.Files)
		m.Components = append(m.Components, c)
		if !c.There {
			continue
		}
		m.Files += c.Files
		m.Same += c.Same
		m.Bytes += p.Manifest.Bytes()
		m.SameBytes += bytes
		m.Altered = append(m.Altered, altered...)
		m.Missing = append(m.Missing, missing...)
	}
	return m
}
