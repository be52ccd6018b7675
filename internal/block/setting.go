package block

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"morvant/internal/digest"
	"morvant/internal/edit"
	"morvant/internal/keyed"
	"morvant/internal/userpath"
	"morvant/internal/volume"
)

// partSuffix is the end of files that old versions have left when they were killed.
const partSuffix = ".morvant-part"

// replace puts new content in the place of a file at once, with its mode and owner. A file with
// other names elsewhere is written where it is, so that they go on meaning the same.
func replace(path string, content []byte) error {
	path, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if dir, err := os.OpenRoot(filepath.Dir(path)); err == nil {
		several := linked(dir, filepath.Base(path))
		if dir.Close(); several {
			return volume.Overwrite(path, content)
		}
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

// spot is where the values of a rule stand in a file, and how others are written there.
type spot struct {
	doc    *edit.Document
	values *edit.Values // as they are written there
	texts  []string     // what they say
	keyed  *keyed.Value // of a rule by key; nil: the key is missing, or the rule is by pattern
}

// find finds the rule's values in a launcher's file. A key may be missing.
func (r Rule) find(d *edit.Document) (*spot, error) {
	if r.Key == "" {
		v, err := d.Find(context.Background(), r.Find, r.matches())
		if err != nil {
			return nil, err
		}
		return &spot{d, v, v.Texts, nil}, nil
	}
	path, err := keyed.ParsePath(r.Key)
	if err != nil {
		return nil, err
	}
	v, err := keyed.Find(keyed.Format(r.Format), d.Text, path)
	if errors.Is(err, keyed.ErrMissing) {
		return &spot{doc: d}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", edit.ErrMatches, err)
	}
	return &spot{d, d.At(v.Start, v.End), []string{v.Text}, v}, nil
}

func (s *spot) missing() bool { return s.values == nil }

// wanted is what the values are to say.
func (r Rule) wanted(s *spot) []string { return slices.Repeat([]string{r.Set}, max(1, len(s.texts))) }

func (r Rule) holds(s *spot) bool { return !s.missing() && slices.Equal(s.texts, r.wanted(s)) }

// set returns the file with the values as the rule wants them, and what has been added with a key
// that was missing.
func (r Rule) set(s *spot) (content []byte, added string, err error) {
	switch {
	case s.missing():
		path, err := keyed.ParsePath(r.Key)
		if err != nil {
			return nil, "", err
		}
		e, err := keyed.Add(keyed.Format(r.Format), s.doc.Text, path, r.Set)
		if err != nil {
			return nil, "", err
		}
		return s.doc.With(s.doc.At(e.Start, e.End), []string{e.Text}), e.Text, nil
	case s.keyed != nil:
		e, err := s.keyed.To(r.Set)
		if err != nil {
			return nil, "", err
		}
		return s.doc.With(s.values, []string{e.Text}), "", nil
	}
	return s.doc.With(s.values, r.wanted(s)), "", nil
}

// back returns the file with the values as they were found.
func (h *Applied) back(s *spot) []byte {
	if h.Missing && s.keyed != nil {
		e := s.keyed.Out(s.doc.Text, h.Added)
		return s.doc.With(s.doc.At(e.Start, e.End), []string{""})
	}
	raw := h.Raw
	if raw == nil { // noted by an old version
		raw = s.doc.Encode(h.Values)
	}
	return s.doc.WithRaw(s.values, raw)
}

// ErrNotBack is returned for a value that could not be taken back exactly: it is not written.
var ErrNotBack = errors.New("after the change the file could not be read as intended, or could not be restored exactly; nothing was changed")

// tried tries, on copies, whether what has been written is read again as the rule means it, and
// whether it could be taken back to the byte.
func (r Rule) tried(s *spot, content []byte, added string) error {
	copied := edit.Parse(content)
	now, err := r.find(copied)
	if err != nil || !r.holds(now) {
		return errors.Join(ErrNotBack, err)
	}
	undo := &Applied{Rule: r, Missing: s.missing(), Added: added}
	if !s.missing() {
		undo.Values, undo.Raw = s.texts, s.values.Raw
	}
	if !bytes.Equal(undo.back(now), s.doc.Bytes()) {
		return ErrNotBack
	}
	return nil
}

func (h *Applied) spot() (*spot, error) {
	d, err := edit.Read(h.Path)
	if err != nil {
		return nil, err
	}
	s, err := h.Rule.find(d)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", h.Path, err)
	}
	return s, nil
}

func (h *Applied) prepareSetting(at Site) error {
	if unset := userpath.Unset(h.Rule.File, at.Home); len(unset) > 0 {
		return fmt.Errorf("%w: \"%s\" names %s, which is not set on this computer", ErrRule, h.Rule.File, unset[0])
	}
	h.Path = at.resolve(h.Rule.File)
	s, err := h.spot()
	if err != nil {
		return err
	}
	if !h.Rule.holds(s) {
		content, added, err := h.Rule.set(s)
		if err == nil {
			err = h.Rule.tried(s, content, added)
		}
		if err != nil {
			return fmt.Errorf("%w: %s: %w", ErrRule, h.Path, err)
		}
		h.Added = added
	}
	if h.Missing = s.missing(); !h.Missing {
		h.Values, h.Raw = s.texts, s.values.Raw
	}
	if info, err := os.Stat(h.Path); err == nil {
		h.Found = &Found{digest.Of(s.doc.Bytes()), info.ModTime().UnixNano()}
	}
	return nil
}

func (h *Applied) setSetting() error {
	s, err := h.spot()
	if err != nil || h.Rule.holds(s) {
		sweep(h.Path)
		return err
	}
	content, added, err := h.Rule.set(s)
	if err == nil {
		err = h.Rule.tried(s, content, added)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", h.Path, err)
	}
	if added != "" && h.Missing {
		h.Added = added
	}
	return replace(h.Path, content)
}

// restore puts back the bytes that were found, if they are not there already, and the file's time
// if it is then as it was found.
func (h *Applied) restore(s *spot) error {
	content := h.back(s)
	sweep(h.Path) // what a killed run has left
	if !bytes.Equal(content, s.doc.Bytes()) {
		if err := replace(h.Path, content); err != nil {
			return err
		}
	}
	if f := h.Found; f != nil && f.Digest == digest.Of(content) {
		when := time.Unix(0, f.MTime)
		return os.Chtimes(h.Path, when, when)
	}
	return nil
}

func (h *Applied) checkSetting() string {
	s, err := h.spot()
	switch {
	case volume.Absent(err):
		return h.Path + " is gone"
	case err != nil:
		return err.Error()
	case s.missing():
		return fmt.Sprintf("%s no longer has %s", h.Path, h.Rule.Key)
	case !h.Rule.holds(s):
		return fmt.Sprintf("%s says \"%s\" again, not \"%s\"", h.Path, s.texts[0], h.Rule.Set)
	}
	return ""
}

func (h *Applied) liftSetting(force bool) error {
	s, err := h.spot()
	switch {
	case volume.Absent(err):
		return nil // nothing is left to be put back
	case err != nil:
		return err
	case s.missing():
		return nil // the launcher has dropped it
	case !h.Missing && slices.Equal(s.texts, h.Values), h.Rule.holds(s), force:
		return h.restore(s)
	}
	return fmt.Errorf("%s says \"%s\": %w", h.Path, s.texts[0], ErrTouched)
}

// FoundAsWanted reports whether what a rule about a setting found is what it wants.
func (h *Applied) FoundAsWanted() bool {
	return !h.Missing && slices.Equal(h.Values, slices.Repeat([]string{h.Rule.Set}, len(h.Values)))
}
