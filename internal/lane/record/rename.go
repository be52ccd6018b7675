package record

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"morvant/internal/catalogue"
	"morvant/internal/game"
	"morvant/internal/problem"
	"morvant/internal/state"
	"morvant/internal/store"
)

// overlayNote begins the note of files of a folder that were recorded for an overlay.
const overlayNote = "files of "

// OverlayNote returns the note of files of a folder that are recorded for an overlay.
func OverlayNote(dir string) string { return overlayNote + dir }

// ForOverlay reports whether files were recorded for an overlay, and are nothing by themselves.
func ForOverlay(b *state.Build) bool { return b.Fragment && strings.HasPrefix(b.Note, overlayNote) }

// ErrNotYours is returned for a build that was not recorded here, and so is called as its feed calls it.
var ErrNotYours = problem.New("only what you have recorded can be renamed", "A feed names its builds itself; give the build a name of your own in a list")

// Rename gives a build that was recorded here another label.
func Rename(ctx context.Context, home *game.Home, b *state.Build, label string) error {
	if !b.RecordedHere() || b.Fragment && !b.IsMods() {
		return fmt.Errorf("%s: %w", b.Name(), ErrNotYours)
	}
	if err := catalogue.CheckLabel(label); err != nil {
		return err
	}
	recorded, err := home.Recorded(ctx, b.Game)
	if err != nil {
		return err
	}
	var records []*state.Build
	for _, r := range recorded {
		switch {
		case r.Same(b):
			records = append(records, r)
		case r.Label == label && r.RecordedHere():
			return fmt.Errorf("a snapshot labelled %s is %w", label, state.ErrExists)
		}
	}
	s, err := store.Open(ctx, home.StoreDir())
	if err != nil {
		return err
	}
	defer s.Close()
	for _, r := range records {
		renamed := *r
		renamed.Label = label
		note, err := renamed.EncodeRecord()
		if err != nil {
			return err
		}
		session := s.Begin()
		renamed.Record, err = session.PutNote(ctx, note)
		if err := errors.Join(err, session.Close()); err != nil {
			return err
		}
		if err := home.RenameBuild(context.WithoutCancel(ctx), r, &renamed); err != nil {
			return err
		}
	}
	return nil
}
