package block

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"morvant/internal/volume"
)

// writable are the permission bits that read-only takes away.
const writable = 0o222

func (h *Applied) prepareReadOnly(at Site) error {
	root, err := os.OpenRoot(at.Dir)
	if err != nil {
		return err
	}
	defer root.Close()
	h.Modes = make(map[string]Mode, len(at.Files))
	for _, p := range at.Files {
		info, err := root.Lstat(filepath.FromSlash(p))
		if volume.Absent(err) {
			continue
		}
		if err != nil {
			return err
		}
		if !info.Mode().IsRegular() || info.Mode().Perm()&writable == 0 {
			continue
		}
		names, err := volume.Names(root, filepath.FromSlash(p))
		if err != nil {
			return err
		}
		if names > 1 {
			h.Linked++
			continue
		}
		h.Modes[p] = Mode{Perm: info.Mode().Perm()}
	}
	return nil
}

// linked reports whether a file has other names, which may lie anywhere: they would become
// unwritable with it.
func linked(root *os.Root, p string) bool {
	names, err := volume.Names(root, p)
	return err != nil || names > 1
}

// each calls f for every file that was found writable and is still there, in the order
// of their names. One that fails does not keep it from the others.
func (h *Applied) each(at Site, f func(root *os.Root, path string, now, found os.FileMode) error) error {
	root, err := os.OpenRoot(at.Dir)
	if err != nil {
		return err
	}
	defer root.Close()
	var failed []error
	for _, p := range slices.Sorted(maps.Keys(h.Modes)) {
		name := filepath.FromSlash(p)
		info, err := root.Lstat(name)
		if volume.Absent(err) || err == nil && !info.Mode().IsRegular() {
			continue
		}
		if err == nil {
			err = f(root, name, info.Mode().Perm(), h.Modes[p].Perm)
		}
		if err != nil {
			failed = append(failed, err)
		}
	}
	if n := len(failed); n > few {
		failed = append(failed[:few], fmt.Errorf("and %d files more", n-few))
	}
	return errors.Join(failed...)
}

// few is how many files that could not be changed are named.
const few = 3

// elsewhere names files that may be ones that were made read-only and have another name now: they are read-only, and as many or
// fewer than what is not in its place any more.
func (h *Applied) elsewhere(at Site) []string {
	gone := make(map[os.FileMode]int)
	for p, found := range h.Modes {
		if _, err := os.Lstat(filepath.Join(at.Dir, filepath.FromSlash(p))); volume.Absent(err) {
			gone[found.Perm&^writable]++
		}
	}
	if len(gone) == 0 {
		return nil
	}
	var list []string
	_ = filepath.WalkDir(at.Dir, func(full string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return nil
		}
		rel, err := filepath.Rel(at.Dir, full)
		info, infoErr := d.Info()
		if _, noted := h.Modes[filepath.ToSlash(rel)]; err == nil && infoErr == nil && !noted && gone[info.Mode().Perm()] > 0 {
			list = append(list, filepath.ToSlash(rel))
		}
		return nil
	})
	return list
}

func (h *Applied) setReadOnly(at Site) error {
	return h.each(at, func(root *os.Root, p string, now, found os.FileMode) error {
		if linked(root, p) {
			return nil // put there since by somebody else; Check does not count on it
		}
		if now&writable != 0 {
			if err := volume.Chmod(root, p, now&^writable); err != nil {
				return err
			}
		}
		if h.Rule.Immutable {
			return setImmutable(root, p, true)
		}
		return nil
	})
}

// Loosen lets go of immutable files, which not even Morvant could replace. Set makes
// them immutable again.
func (h *Applied) Loosen(at Site) error {
	return h.each(at, func(root *os.Root, p string, _, _ os.FileMode) error { return setImmutable(root, p, false) })
}

func (h *Applied) checkReadOnly(at Site) string {
	n := 0
	first := ""
	err := h.each(at, func(root *os.Root, p string, now, _ os.FileMode) error {
		if now&writable != 0 && !linked(root, p) {
			if n++; first == "" || p < first {
				first = p
			}
		}
		return nil
	})
	switch {
	case err != nil:
		return err.Error()
	case n == 1:
		return first + " is writable again"
	case n > 1:
		return fmt.Sprintf("%d files is writable again, %s among them", n, first)
	}
	return ""
}

func (h *Applied) liftReadOnly(at Site) error {
	h.renamed = h.elsewhere(at)
	return h.each(at, func(root *os.Root, p string, now, found os.FileMode) error {
		if h.Rule.Immutable {
			if err := setImmutable(root, p, false); err != nil {
				return err
			}
		}
		// Only what Set has made is undone; another mode is somebody else's.
		if now != found&^writable {
			return nil
		}
		return volume.Chmod(root, p, found)
	})
}
