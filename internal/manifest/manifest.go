package manifest

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"morvant/internal/digest"
	"morvant/internal/volume"
)

// Format is the format name and version in every encoded manifest.
const Format = "morvant-manifest/1"

// Limits on what is accepted. They bound the memory a hostile manifest can ask for.
const (
	MaxEntries = 4 << 20 // files, links and empty folders together
	MaxSize    = 1 << 50 // bytes in one file
	MaxEncoded = 1 << 30 // bytes in one encoded manifest
)

// The limits that are asked; tests lower them.
var maxEntries, maxEncoded = MaxEntries, MaxEncoded

// Errors that callers test for.
var (
	ErrFormat = errors.New("not a manifest")
	ErrPath   = errors.New("path not allowed")
)

// File is one regular file.
type File struct {
	Path   string // relative, separated by slashes
	Size   int64  // bytes
	Digest digest.Digest
}

// Link is a symbolic link. It is a leaf: nothing is listed below it.
type Link struct {
	Path   string
	Target string // as stored in the link; stays inside the folder
}

// Manifest lists what a folder holds, each list sorted by the bytes of its paths.
type Manifest struct {
	Files     []File
	Links     []Link
	EmptyDirs []string
}

// Clone returns a copy that can be changed on its own.
func (m *Manifest) Clone() *Manifest {
	return &Manifest{Files: slices.Clone(m.Files), Links: slices.Clone(m.Links), EmptyDirs: slices.Clone(m.EmptyDirs)}
}

// Bytes returns the total size of the files.
func (m *Manifest) Bytes() int64 {
	var n int64
	for _, f := range m.Files {
		n += f.Size
	}
	return n
}

// Digest returns the digest of the encoded manifest: the identity of what it lists.
func (m *Manifest) Digest() digest.Digest { return digest.Of(m.Encode()) }

// File returns the file at p, if there is one.
func (m *Manifest) File(p string) (File, bool) {
	i, ok := slices.BinarySearchFunc(m.Files, p, func(f File, p string) int { return strings.Compare(f.Path, p) })
	if !ok {
		return File{}, false
	}
	return m.Files[i], true
}

// Sort puts every list in order. Encode expects sorted lists.
func (m *Manifest) Sort() {
	slices.SortFunc(m.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(m.Links, func(a, b Link) int { return strings.Compare(a.Path, b.Path) })
	slices.Sort(m.EmptyDirs)
}

// Validate checks everything that Decode promises: order, paths, sizes, links
// and that no path is both a file and a folder.
func (m *Manifest) Validate() error {
	if n := len(m.Files) + len(m.Links) + len(m.EmptyDirs); n > maxEntries {
		return fmt.Errorf("%w: %d entries, at most %d are allowed", ErrFormat, n, maxEntries)
	}
	if !sorted(m.Files, func(f File) string { return f.Path }) ||
		!sorted(m.Links, func(l Link) string { return l.Path }) ||
		!sorted(m.EmptyDirs, func(s string) string { return s }) {
		return fmt.Errorf("%w: paths are not in order or appear twice", ErrFormat)
	}
	for _, f := range m.Files {
		if err := CheckPath(f.Path); err != nil {
			return err
		}
		if f.Size < 0 || f.Size > MaxSize {
			return fmt.Errorf("%w: size %d of \"%s\"", ErrFormat, f.Size, f.Path)
		}
	}
	for _, l := range m.Links {
		if err := CheckPath(l.Path); err != nil {
			return err
		}
		if err := CheckTarget(l.Path, l.Target); err != nil {
			return err
		}
	}
	for _, d := range m.EmptyDirs {
		if err := CheckPath(d); err != nil {
			return err
		}
	}
	return m.checkLeaves()
}

// checkLeaves makes sure that no entry lies at or below another one. All
// entries are leaves, so in an order where a folder comes directly before what
// it holds, a conflict is always between neighbours.
func (m *Manifest) checkLeaves() error {
	all := make([]string, 0, len(m.Files)+len(m.Links)+len(m.EmptyDirs))
	for _, f := range m.Files {
		all = append(all, f.Path)
	}
	for _, l := range m.Links {
		all = append(all, l.Path)
	}
	all = append(all, m.EmptyDirs...)
	slices.SortFunc(all, comparePaths)
	for i := 1; i < len(all); i++ {
		a, b := all[i-1], all[i]
		if a == b {
			return fmt.Errorf("%w: \"%s\" is listed twice", ErrPath, a)
		}
		if strings.HasPrefix(b, a) && b[len(a)] == '/' {
			return fmt.Errorf("%w: \"%s\" is both a file and a folder", ErrPath, a)
		}
	}
	return nil
}

// comparePaths orders paths by bytes, with the separator before every other byte.
func comparePaths(a, b string) int {
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			switch {
			case a[i] == '/':
				return -1
			case b[i] == '/':
				return 1
			}
			return cmp.Compare(a[i], b[i])
		}
	}
	return cmp.Compare(len(a), len(b))
}

func sorted[T any](list []T, path func(T) string) bool {
	for i := 1; i < len(list); i++ {
		if path(list[i-1]) >= path(list[i]) {
			return false
		}
	}
	return true
}

// CaseConflict returns two paths that a folder which ignores letter case cannot
// hold both, files or folders on the way to them.
func (m *Manifest) CaseConflict() (a, b string, found bool) {
	seen := make(map[string]string)
	check := func(path string) bool {
		for end := 0; end < len(path); {
			next := strings.IndexByte(path[end:], '/')
			if next < 0 {
				end = len(path)
			} else {
				end += next
			}
			part := path[:end]
			folded := volume.Fold(part)
			if other, ok := seen[folded]; ok && other != part {
				a, b, found = other, part, true
				return true
			}
			seen[folded] = part
			end++
		}
		return false
	}
	for _, f := range m.Files {
		if check(f.Path) {
			return
		}
	}
	for _, l := range m.Links {
		if check(l.Path) {
			return
		}
	}
	for _, d := range m.EmptyDirs {
		if check(d) {
			return
		}
	}
	return
}

// Merge returns the manifest of everything that the others list. It fails where
// they are in each other's way.
func Merge(list ...*Manifest) (*Manifest, error) {
	out := &Manifest{}
	for _, m := range list {
		out.Files = append(out.Files, m.Files...)
		out.Links = append(out.Links, m.Links...)
		out.EmptyDirs = append(out.EmptyDirs, m.EmptyDirs...)
	}
	// A folder that is empty in one component may be filled by another.
	filled := make(map[string]bool)
	for _, f := range out.Files {
		addParents(filled, f.Path)
	}
	for _, l := range out.Links {
		addParents(filled, l.Path)
	}
	for _, d := range out.EmptyDirs {
		addParents(filled, d)
	}
	slices.Sort(out.EmptyDirs)
	out.EmptyDirs = slices.DeleteFunc(slices.Compact(out.EmptyDirs), func(d string) bool { return filled[d] })
	out.Sort()
	return out, out.Validate()
}

// Shared returns a path that two manifests of a list give, or that one gives and another needs as a folder, and which
// two; found is false where they can be merged.
func Shared(list ...*Manifest) (at string, a, b int, found bool) {
	owner := make(map[string]int)
	each := func(visit func(i int, p string)) {
		for i, m := range list {
			for _, f := range m.Files {
				visit(i, f.Path)
			}
			for _, l := range m.Links {
				visit(i, l.Path)
			}
		}
	}
	clash := func(i int, p string) {
		if o, ok := owner[p]; ok && o != i && !found {
			at, a, b, found = p, min(i, o), max(i, o), true
		}
	}
	each(func(i int, p string) {
		clash(i, p)
		owner[p] = i
	})
	for i, m := range list {
		dirs := make(map[string]bool)
		for _, f := range m.Files {
			addParents(dirs, f.Path)
		}
		for _, l := range m.Links {
			addParents(dirs, l.Path)
		}
		for _, d := range m.EmptyDirs {
			dirs[d] = true
			addParents(dirs, d)
		}
		for _, d := range slices.Sorted(maps.Keys(dirs)) {
			clash(i, d)
		}
	}
	return at, a, b, found
}

// addParents adds the folders above p to dirs.
func addParents(dirs map[string]bool, p string) {
	for d := path.Dir(p); d != "." && !dirs[d]; d = path.Dir(d) {
		dirs[d] = true
	}
}

// Without returns the manifest less the entries at paths that drop names.
func (m *Manifest) Without(drop func(path string) bool) *Manifest {
	out := &Manifest{}
	for _, f := range m.Files {
		if !drop(f.Path) {
			out.Files = append(out.Files, f)
		}
	}
	for _, l := range m.Links {
		if !drop(l.Path) {
			out.Links = append(out.Links, l)
		}
	}
	for _, d := range m.EmptyDirs {
		if !drop(d) {
			out.EmptyDirs = append(out.EmptyDirs, d)
		}
	}
	return out
}

// Yields returns the manifest without what another has something else for: at the same path, above or below it.
func (m *Manifest) Yields(other *Manifest) *Manifest {
	taken, above := make(map[string]bool), make(map[string]bool)
	note := func(p string) {
		taken[p] = true
		addParents(above, p)
	}
	for _, f := range other.Files {
		note(f.Path)
	}
	for _, l := range other.Links {
		note(l.Path)
	}
	for _, d := range other.EmptyDirs {
		note(d)
	}
	return m.Without(func(p string) bool {
		for at := p; at != "."; at = path.Dir(at) {
			if taken[at] {
				return true
			}
		}
		return above[p]
	})
}
