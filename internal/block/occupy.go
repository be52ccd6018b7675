package block

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/process"
	"morvant/internal/volume"
)

// held is what the file at an occupied path says.
const held = "Morvant blocks this path so that no update can be put here. Remove the block with: morvant unblock\n"

func (h *Applied) prepareOccupy(at Site) error {
	if err := at.check(h.Rule.Path); err != nil {
		return err
	}
	h.Path = at.resolve(h.Rule.Path)
	if p := at.holdsBuild(h.Path); p != "" {
		return fmt.Errorf("%w: \"%s\" holds files of the game itself, such as %s", ErrRule, h.Rule.Path, p)
	}
	if h.ours() { // of a home that is lost, or was put back: what stood there before is beside it
		h.found()
		return nil
	}
	for dir := filepath.Dir(h.Path); filepath.Dir(dir) != dir; dir = filepath.Dir(dir) {
		if _, err := os.Lstat(dir); !volume.Absent(err) {
			break
		}
		h.Made = slices.Insert(h.Made, 0, dir)
	}
	h.Beside = h.alike()
	switch _, err := os.Lstat(h.Path); {
	case volume.Absent(err):
		return nil
	case err != nil:
		return err
	}
	var err error
	h.Aside, err = h.freeAside()
	return err
}

// found looks for what an earlier block has set aside: the first is what stood there, the others have come since.
func (h *Applied) found() {
	for n := 1; ; n++ {
		aside := fmt.Sprintf("%s%s%d", h.Path, setAside, n)
		if _, err := os.Lstat(aside); err != nil {
			return
		}
		if h.Aside == "" {
			h.Aside = aside
		} else {
			h.Later = append(h.Later, aside)
		}
	}
}

// Standing returns the file with which a block holds a path, as a note of that block would have it; nil: there is none.
func Standing(path string) *Applied {
	h := &Applied{Rule: Rule{Kind: Occupy, Path: path}, Path: path}
	if !h.ours() {
		return nil
	}
	h.found()
	return h
}

// freeAside is where what is at the path can be put: beside it, under a name that nobody has.
func (h *Applied) freeAside() (string, error) {
	for n := 1; ; n++ {
		aside := fmt.Sprintf("%s%s%d", h.Path, setAside, n)
		if slices.Contains(h.Later, aside) {
			continue
		}
		if _, err := os.Lstat(aside); volume.Absent(err) {
			return aside, nil
		} else if err != nil {
			return "", err
		}
	}
}

const setAside = ".set-aside-"

// alike lists the folders beside the path whose names begin like its own, or its own like theirs:
// a launcher that cannot make its staging folder may make another one.
func (h *Applied) alike() []string {
	entries, err := os.ReadDir(filepath.Dir(h.Path))
	if err != nil {
		return nil
	}
	own := strings.ToLower(filepath.Base(h.Path))
	var list []string
	for _, e := range entries {
		name := strings.ToLower(e.Name())
		if e.IsDir() && name != own && (strings.HasPrefix(name, own) || strings.HasPrefix(own, name)) && !strings.Contains(name, setAside) {
			list = append(list, e.Name())
		}
	}
	return list
}

// ours reports whether the file that holds the path is there.
func (h *Applied) ours() bool {
	info, err := os.Lstat(h.Path)
	if err != nil || !info.Mode().IsRegular() || info.Size() != int64(len(held)) {
		return false
	}
	b, err := volume.ReadFile(h.Path, int64(len(held)))
	return err == nil && string(b) == held
}

func (h *Applied) setOccupy() error {
	if h.ours() {
		return nil
	}
	if err := h.clear(); err != nil {
		return err
	}
	if err := volume.MkdirAll(filepath.Dir(h.Path), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(h.Path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o444)
	if err != nil {
		return err
	}
	_, err = f.WriteString(held)
	return errors.Join(err, f.Sync(), f.Close(), volume.Own(h.Path, filepath.Dir(h.Path)))
}

// clear puts aside what is at the path: what was found there, and what has come there since.
func (h *Applied) clear() error {
	if _, err := os.Lstat(h.Path); err != nil {
		if volume.Absent(err) {
			return nil
		}
		return err
	}
	to := h.Aside
	if _, err := os.Lstat(to); to == "" || err == nil {
		// Somebody has made it anew. An empty folder is nothing to keep.
		if os.Remove(h.Path) == nil {
			return nil
		}
		var err error
		if to, err = h.freeAside(); err != nil {
			return err
		}
		h.Later = append(h.Later, to)
	}
	if err := process.Rename(h.Path, to); err != nil && !volume.Absent(err) {
		return err
	}
	return nil
}

func (h *Applied) checkOccupy() (broke, prepared string) {
	if h.ours() {
		for _, name := range h.alike() {
			if !slices.Contains(h.Beside, name) {
				prepared = filepath.Join(filepath.Dir(h.Path), name)
				return fmt.Sprintf("an updater is preparing an update in %s, beside the blocked path", prepared), prepared
			}
		}
		return "", ""
	}
	switch _, err := os.Lstat(h.Path); {
	case volume.Absent(err):
		return "the file at " + h.Path + " is gone", ""
	case err != nil:
		return err.Error(), ""
	}
	return "something else is at " + h.Path + " now", ""
}

func (h *Applied) liftOccupy(force bool) error {
	if h.ours() {
		if err := os.Chmod(h.Path, 0o644); err != nil { // Windows removes no read-only files
			return err
		}
		if err := process.Patiently(h.Path, func() error { return os.Remove(h.Path) }); err != nil {
			return err
		}
	} else if info, err := os.Lstat(h.Path); err == nil {
		if h.Aside != "" && info.IsDir() {
			_ = os.Remove(h.Path) // an empty folder is nothing to keep
		}
		if _, err := os.Lstat(h.Path); err == nil && h.Aside != "" && !force {
			return fmt.Errorf("something else is at %s, and %s was there before: %w", h.Path, h.Aside, ErrTouched)
		}
	}
	// What was found goes back; if nothing was, what came last.
	var asides []string
	if h.Aside != "" {
		asides = append(asides, h.Aside)
	}
	later := slices.Clone(h.Later)
	slices.Reverse(later)
	for _, aside := range append(asides, later...) {
		if _, err := os.Lstat(h.Path); err == nil {
			break // what is there now stays, and what was there before stays beside it
		}
		if err := process.Rename(aside, h.Path); err != nil && !volume.Absent(err) {
			return err
		}
	}
	for _, dir := range slices.Backward(h.Made) {
		_ = os.Remove(dir) // unless something is in it
	}
	return nil
}

// Left says what stays behind of a rule that has been taken off: beside a path that was held.
func (h *Applied) Left() []string {
	if n := len(h.renamed); n > 0 {
		return []string{fmt.Sprintf("read-only, and perhaps files that the block made so under another name: %s", strings.Join(h.renamed[:min(few, n)], ", "))}
	}
	var list []string
	for _, aside := range append([]string{h.Aside}, h.Later...) {
		if _, err := os.Lstat(aside); aside != "" && err == nil {
			list = append(list, fmt.Sprintf("%s stays where it is: something else is now at %s, where it came from", aside, h.Path))
		}
	}
	return list
}
