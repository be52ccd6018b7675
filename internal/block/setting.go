package block

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"morvant/internal/edit"
	"morvant/internal/userpath"
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
func (h *Applied) find() (*edit.Document, *edit.Values, error) {
	d, err := edit.Read(h.Path)
	if err != nil {
		return nil, nil, err
	}
	v, err := d.Find(context.Background(), h.Rule.Find, h.Rule.matches())
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", h.Path, err)
	}
	return d, v, nil
}

func (h *Applied) prepareSetting(at Site) error {
	if unset := userpath.Unset(h.Rule.File, at.Home); len(unset) > 0 {
		return fmt.Errorf("%w: %q names %s, which is not set on this computer", ErrRule, h.Rule.File, unset[0])
	}
	h.Path = at.resolve(h.Rule.File)
	_, v, err := h.find()
	if err != nil {
		return err
	}
	h.Values, h.Raw = v.Texts, v.Raw
	return nil
}

func (h *Applied) wanted() []string { return slices.Repeat([]string{h.Rule.Set}, len(h.Values)) }

func (h *Applied) setSetting() error {
	d, v, err := h.find()
	if err != nil || slices.Equal(v.Texts, h.wanted()) {
		sweep(h.Path)
		return err
	}
	return replace(h.Path, d.With(v, h.wanted()))
}

// restore puts back the bytes that were found, if they are not there already.
func (h *Applied) restore() error {
	d, v, err := h.find()
	if err != nil {
		return err
	}
	raw := h.Raw
	if raw == nil { // noted by an old version
		raw = d.Encode(h.Values)
	}
	if slices.EqualFunc(v.Raw, raw, bytes.Equal) {
		sweep(h.Path) // nothing but what a killed run has left
		return nil
	}
	return replace(h.Path, d.WithRaw(v, raw))
}

func (h *Applied) current() ([]string, error) {
	_, v, err := h.find()
	if err != nil {
		return nil, err
	}
	return v.Texts, nil
}

func (h *Applied) checkSetting() string {
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

func (h *Applied) liftSetting(force bool) error {
	now, err := h.current()
	switch {
	case volume.Absent(err):
		return nil // nothing is left to be put back
	case err != nil:
		return err
	case slices.Equal(now, h.Values):
		return h.restore()
	case !slices.Equal(now, h.wanted()) && !force:
		return fmt.Errorf("%s says %q: %w", h.Path, now[0], ErrTouched)
	}
	return h.restore()
}
