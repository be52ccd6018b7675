package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

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
	for _, name := range files {
		if err := ss.salvage(ctx, name); err != nil {
			_ = ss.Close() // the first error says enough
			return fmt.Errorf("an unfinished pack %s: %w", filepath.Base(name), err)
		}
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

func (ss *Session) salvage(ctx context.Context, name string) error {
	f, err := volume.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if info.Size() < pack.Frame {
		return nil // killed before the first record
	}
	entries, err := pack.Recover(f, info.Size())
	if err != nil {
		return err
	}
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		stored, err := pack.ReadStored(f, e, nil)
		if err != nil || e.Kind != pack.Chunk {
			continue
		}
		if _, err := ss.store.coder.Decode(e, stored, nil); err != nil {
			continue // not written to its end
		}
		if ok, err := ss.store.hasRecord(ctx, e.Digest); ok || err != nil {
			if err != nil {
				return err
			}
			continue
		}
		if err := ss.PutChunk(e, stored); err != nil {
			return err
		}
	}
	return nil
}
