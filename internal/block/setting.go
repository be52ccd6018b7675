package block

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"

	"morvant/internal/edit"
)

// partSuffix is the end of a file that is about to take the place of the settings.
// The name is always the same, so that a killed run leaves nothing behind that the
// next one does not clear away.
const partSuffix = ".morvant-part"

// replace puts new content in the place of a file at once, with its mode.
func replace(path string, content []byte) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	part, mode := path+partSuffix, info.Mode().Perm()
	f, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err == nil {
		err = os.Rename(part, path)
	}
	if err != nil {
		os.Remove(part)
	}
	return err
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
		_ = os.Remove(h.Path + partSuffix) // of a run that was cut off
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
	case errors.Is(err, fs.ErrNotExist):
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
	case errors.Is(err, fs.ErrNotExist):
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
