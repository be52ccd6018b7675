package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"morvant/internal/layout"
	"morvant/internal/pack"
	"morvant/internal/volume"
)

// Resume starts a session whose work survives being killed: every record is
// written at once, and what a killed session of the same owner has left is taken
// over. owner is a short name that only one process uses at a time.
func (s *Store) Resume(ctx context.Context, owner string) (*Session, error) {
	owner += "-"
	left, err := filepath.Glob(filepath.Join(s.dir, packsDir, openPrefix+owner+"*"))
	if err != nil {
		return nil, err
	}
	if len(left) > 0 {
		if err := s.salvage(ctx, left); err != nil {
			return nil, err
		}
	}
	ss := s.Begin()
	ss.owner = owner
	return ss, nil
}

// salvage takes the whole records of unfinished packs into the store.
func (s *Store) salvage(ctx context.Context, files []string) error {
	ss := s.Begin()
	var found []layout.Part
	for _, name := range files {
		list, err := ss.salvage(ctx, name)
		if err != nil {
			_ = ss.Close() // the first error says enough
			return fmt.Errorf("an unfinished pack %s: %w", filepath.Base(name), err)
		}
		found = append(found, list...)
	}
	if err := ss.salvageLayouts(ctx, found); err != nil {
		return errors.Join(err, ss.Close())
	}
	if err := ss.Close(); err != nil {
		return err
	}
	for _, name := range files {
		if err := os.Remove(name); err != nil {
			return err
		}
	}
	return nil
}

// salvageLayouts takes in the layouts of contents of which every chunk is here.
func (ss *Session) salvageLayouts(ctx context.Context, list []layout.Part) error {
	for _, l := range list {
		whole := l.Of == 1 // one of several parts is worth nothing without the others
		for _, p := range l.Pieces {
			ok, err := ss.store.hasRecord(ctx, p.Digest)
			if err != nil {
				return err
			}
			whole = whole && (ok || ss.isPending(p.Digest))
		}
		if whole {
			if err := ss.putLayout(ctx, l.File, l.Size, l.Pieces); err != nil {
				return err
			}
		}
	}
	return nil
}

// salvage takes in the chunks of an unfinished pack, and returns its layouts.
func (ss *Session) salvage(ctx context.Context, name string) (layouts []layout.Part, err error) {
	f, err := volume.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() < pack.Frame {
		return nil, nil // killed before the first record
	}
	entries, err := pack.Recover(f, info.Size())
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		stored, err := pack.ReadStored(f, e, nil)
		if err != nil {
			continue
		}
		plain, err := ss.store.coder.Decode(e, stored, nil)
		if err != nil {
			continue // not written to its end
		}
		if l, err := layout.Decode(plain); e.Kind == pack.Layout && err == nil {
			layouts = append(layouts, l)
		}
		if e.Kind != pack.Chunk {
			continue
		}
		if ok, err := ss.store.hasRecord(ctx, e.Digest); ok || err != nil {
			if err != nil {
				return nil, err
			}
			continue
		}
		if err := ss.PutChunk(e, stored); err != nil {
			return nil, err
		}
	}
	return layouts, nil
}
