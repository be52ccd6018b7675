package block

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"morvant/internal/edit"
	"morvant/internal/volume"
)

// partSuffix is the end of files that old versions have left when they were killed.
const partSuffix = ".morvant-part"

// replace puts new content in the place of a file at once, with its mode.
func replace(path string, content []byte) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if path, err = filepath.EvalSymlinks(path); err != nil {
		return err
	}
	return volume.Replace(path, content, info.Mode().Perm())
}

// sweep removes what runs that were cut off have left beside a file.
func sweep(path string) {
	_ = os.Remove(path + partSuffix)
	if path, err := filepath.EvalSymlinks(path); err == nil {
		volume.Sweep(path)
	}
}

// find reads the launcher's file and finds the rule's values in it.
func (h *Hold) find() (*edit.Document, *edit.Values, error) {
	d, err := edit.Read(h.Path)
	if err != nil {
		return nil, nil, err
	}
	v, err := d.Find(h.Rule.Find, h.Rule.matches())
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", h.Path, err)
	}
	return d, v, nil
}

func (h *Hold) prepareSetting(at Place) error {
	h.Path = at.resolve(h.Rule.File)
	_, v, err := h.find()
	if err != nil {
		return err
	}
	h.Values = v.Texts
	return nil
}

func (h *Hold) wanted() []string { return slices.Repeat([]string{h.Rule.Set}, len(h.Values)) }

func (h *Hold) setSetting() error { return h.put(h.wanted()) }

// put sets the values, if they are not that already.
func (h *Hold) put(values []string) error {
	d, v, err := h.find()
	if err != nil || slices.Equal(v.Texts, values) {
		sweep(h.Path)
		return err
	}
	return replace(h.Path, d.With(v, values))
}

func (h *Hold) current() ([]string, error) {
	_, v, err := h.find()
	if err != nil {
		return nil, err
	}
	return v.Texts, nil
}

func (h *Hold) checkSetting() string {
	now, err := h.current()
	switch {
	case volume.Absent(err):
		return h.Path + " is gone"
	case err != nil:
		return err.Error()
	case !slices.Equal(now, h.wanted()):
		return fmt.Sprintf("%s says %q again, not %q", h.Path, now[0], h.Rule.Set)
	}
	return ""
}

func (h *Hold) liftSetting(force bool) error {
	now, err := h.current()
	switch {
	case volume.Absent(err):
		return nil // nothing is left to be put back
	case err != nil:
		return err
	case slices.Equal(now, h.Values):
		return h.put(h.Values) // nothing but what a killed run has left
	case !slices.Equal(now, h.wanted()) && !force:
		return fmt.Errorf("%s says %q: %w", h.Path, now[0], ErrTouched)
	}
	return h.put(h.Values)
}
