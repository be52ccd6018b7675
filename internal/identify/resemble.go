package identify

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"morvant/internal/manifest"
)

// Paths lists the paths of all files of builds, as fold makes them.
func Paths(known []Known, fold func(string) string) map[string]bool {
	paths := make(map[string]bool)
	for _, k := range known {
		for _, f := range k.files() {
			paths[fold(f.Path)] = true
		}
	}
	return paths
}

const (
	// unlike is up to which share of its files a tree may have places in known builds and still
	// resemble none.
	unlike = 0.1
	// alike is from which share on a folder of it resembles them.
	alike = 0.3
	// deepest is how many folders deep one is looked for.
	deepest = 4
)

// Resembles tells whether a tree resembles known builds, by the paths of its files. If not, folder
// is the one of its folders that does; empty if there is none.
func Resembles(m *manifest.Manifest, known map[string]bool, fold func(string) string) (folder string, like bool) {
	share := func(within string) float64 {
		in, same := 0, 0
		for _, f := range m.Files {
			p, ok := f.Path, true
			if within != "" {
				p, ok = strings.CutPrefix(p, within+"/")
			}
			if ok {
				in++
				if known[fold(p)] {
					same++
				}
			}
		}
		return float64(same) / float64(max(in, 1))
	}
	if share("") > unlike {
		return "", true
	}
	best := alike
	for _, dir := range folders(m) {
		if s := share(dir); s > best {
			folder, best = dir, s
		}
	}
	return folder, false
}

// folders lists the folders that are not too deep, the outer first.
func folders(m *manifest.Manifest) []string {
	seen := make(map[string]bool)
	var list []string
	for _, f := range m.Files {
		for dir := path.Dir(f.Path); dir != "."; dir = path.Dir(dir) {
			if !seen[dir] && strings.Count(dir, "/") < deepest {
				seen[dir] = true
				list = append(list, dir)
			}
		}
	}
	slices.Sort(list)
	return list[:min(len(list), mostFolders)]
}

// mostFolders bounds how many folders are looked at.
const mostFolders = 1000

// large is how much of a build's bytes a file must have to count as one of its largest.
const large = 0.05

// Doubt is what is odd about a tree that is to be a build of a game.
type Doubt struct {
	Unlike bool     // it resembles no known build
	Lacks  []string // the largest files of the build that it is most like, which it does not have
	Of     string   // that build's label
}

// None reports whether nothing is odd.
func (d Doubt) None() bool { return !d.Unlike && len(d.Lacks) == 0 }

// Doubts says what is odd about a tree; nothing where no build is known.
func Doubts(m *manifest.Manifest, known []Known, paths map[string]bool, fold func(string) string) Doubt {
	if len(paths) == 0 {
		return Doubt{}
	}
	if _, like := Resembles(m, paths, fold); !like {
		return Doubt{Unlike: true}
	}
	have := make(map[string]bool)
	for _, f := range m.Files {
		have[fold(f.Path)] = true
	}
	var nearest *Known
	best := 0.0
	for i, k := range known {
		n, same := 0, 0
		for _, f := range k.files() {
			n++
			if have[fold(f.Path)] {
				same++
			}
		}
		if share := float64(same) / float64(max(n, 1)); share > best {
			best, nearest = share, &known[i]
		}
	}
	if nearest == nil {
		return Doubt{}
	}
	var total int64
	files := nearest.files()
	for _, f := range files {
		total += f.Size
	}
	slices.SortFunc(files, func(a, b manifest.File) int { return cmp.Compare(b.Size, a.Size) })
	d := Doubt{Of: nearest.Build.Label}
	for _, f := range files {
		if float64(f.Size) < large*float64(total) {
			break
		}
		if !have[fold(f.Path)] {
			d.Lacks = append(d.Lacks, f.Path)
		}
	}
	return d
}
