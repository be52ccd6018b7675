package lane

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/manifest"
	"morvant/internal/rules"
)

// add lays what a pin brings beside its build over the build's files.
func (c *composed) add(pin game.Pin) error {
	if len(pin.Companions) == 0 {
		return nil
	}
	c.texts = make(map[digest.Digest][]byte)
	added := make(map[string]bool)
	m := &manifest.Manifest{}
	for _, k := range pin.Companions {
		text := []byte(k.Text)
		d := digest.Of(text)
		c.texts[d] = text
		added[k.Path] = true
		m.Files = append(m.Files, manifest.File{Path: k.Path, Size: int64(len(text)), Digest: d})
	}
	m.Sort()
	var err error
	if c.manifest, err = manifest.Merge(c.base.Without(func(p string) bool { return added[p] }), m); err != nil {
		return fmt.Errorf("what the pin adds to %s: %w", c.build.Label, err)
	}
	return nil
}

// keepTexts puts the content that a pin itself brings into the store.
func (l *Lane) keepTexts(ctx context.Context, c *composed) error {
	if c == nil || len(c.texts) == 0 {
		return nil
	}
	session := l.Store.Begin()
	var errs []error
	for _, text := range c.texts {
		_, _, err := session.Put(ctx, bytes.NewReader(text), nil)
		errs = append(errs, err)
	}
	return errors.Join(append(errs, session.Close())...)
}

// checkCompanions returns an error for a companion that could not be kept as the
// pin says.
func checkCompanions(list []game.Companion, match *rules.Matcher) error {
	for i, k := range list {
		if err := k.Check(); err != nil {
			return err
		}
		if match.Kept(k.Path) || match.Scratch(k.Path) {
			return fmt.Errorf("%w: %s is under a keep or scratch rule, where a pin changes nothing", game.ErrCompanion, k.Path)
		}
		if slices.ContainsFunc(list[:i], func(o game.Companion) bool { return o.Path == k.Path }) {
			return fmt.Errorf("%w: %s is named twice", game.ErrCompanion, k.Path)
		}
	}
	return nil
}

// OnlyCompanions reports whether nothing but companions is missing from the lane.
func (s *Status) OnlyCompanions() bool {
	d := s.Drift
	if d == nil || len(d.Missing) == 0 || len(d.Altered) > 0 || d.ExtraCounts && len(d.Extra) > 0 {
		return false
	}
	for _, e := range d.Missing {
		if !slices.ContainsFunc(s.Pin.Companions, func(k game.Companion) bool { return k.Path == e.Path }) {
			return false
		}
	}
	return true
}
