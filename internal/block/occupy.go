package block

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"morvant/internal/process"
	"morvant/internal/volume"
)

// held is what the file at an occupied path says.
const held = "Morvant keeps this path so that updates cannot be put here. Take it away with: morvant unblock\n"

func (h *Applied) prepareOccupy(at Site) error {
	if err := at.check(h.Rule.Path); err != nil {
		return err
	}
	h.Path = at.resolve(h.Rule.Path)
	if h.ours() {
		return fmt.Errorf("%s is held already, by an earlier block: %w", h.Path, ErrTouched)
	}
	switch _, err := os.Lstat(h.Path); {
	case volume.Absent(err):
		return nil
	case err != nil:
		return err
	}
	// What is there goes beside, under a name that nobody else has.
	for n := 1; ; n++ {
		h.Aside = fmt.Sprintf("%s.set-aside-%d", h.Path, n)
		if _, err := os.Lstat(h.Aside); volume.Absent(err) {
			return nil
		} else if err != nil {
			return err
		}
	}
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
	if h.Aside != "" {
		if _, err := os.Lstat(h.Aside); volume.Absent(err) {
			if err := process.Rename(h.Path, h.Aside); err != nil && !volume.Absent(err) {
				return err
			}
		}
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

func (h *Applied) checkOccupy() string {
	if h.ours() {
		return ""
	}
	switch _, err := os.Lstat(h.Path); {
	case volume.Absent(err):
		return "the file at " + h.Path + " is gone"
	case err != nil:
		return err.Error()
	}
	return "something else is at " + h.Path + " now"
}

func (h *Applied) liftOccupy(force bool) error {
	if h.ours() {
		if err := os.Chmod(h.Path, 0o644); err != nil { // Windows removes no read-only files
			return err
		}
		if err := process.Patiently(h.Path, func() error { return os.Remove(h.Path) }); err != nil {
			return err
		}
	} else if _, err := os.Lstat(h.Path); err == nil {
		if h.Aside != "" && !force {
			return fmt.Errorf("something else is at %s, and %s was there before: %w", h.Path, h.Aside, ErrTouched)
		}
		return nil // what is there now stays, and what was there before stays beside it
	}
	if h.Aside == "" {
		return nil
	}
	if err := process.Rename(h.Aside, h.Path); err != nil && !volume.Absent(err) {
		return err
	}
	return nil
}
