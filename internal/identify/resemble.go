package identify

import (
	"path"
	"slices"
	"strings"

	"morvant/internal/manifest"
	"morvant/internal/volume"
)

// Paths lists the paths of all files of builds, as the system usually compares them.
func Paths(known []Known) map[string]bool {
	paths := make(map[string]bool)
	for _, k := range known {
		for _, f := range k.files() {
			paths[volume.UsualFold(f.Path)] = true
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
func Resembles(m *manifest.Manifest, known map[string]bool) (folder string, like bool) {
	share := func(within string) float64 {
		in, same := 0, 0
		for _, f := range m.Files {
			p, ok := f.Path, true
			if within != "" {
				p, ok = strings.CutPrefix(p, within+"/")
			}
			if ok {
				in++
				if known[volume.UsualFold(p)] {
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
