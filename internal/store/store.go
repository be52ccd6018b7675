// Package store holds Morvant's content store: every chunk once, whatever it came from.
//
// A store is a folder with packs (see package pack) and an index, an SQLite
// file that says where each chunk is and which chunks make up each file. The
// packs alone are enough: the index can be rebuilt from them.
//
// What is put in appears in the index only after its pack is on disk, synced and
// named, and a file's layout only after all of its chunks. So whatever the index
// names can be read back, and what a crash leaves behind is at worst a pack that nothing refers to.
//
// Any number of processes may read and add at the same time; each holds a
// shared lock. Trim and the repairing half of Check need the store to themselves.
package store

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/memo"
	"morvant/internal/pack"
	"morvant/internal/problem"
	"morvant/internal/volume"
)

// Errors that callers test for.
var (
	ErrMissing   = errors.New("not in the store")
	ErrIndexLost = errors.New("the store's index is lost or damaged")
	ErrBusy      = problem.New("another Morvant is using the store", problem.TryAgain)
)

const (
	packsDir   = "packs"
	indexFile  = "index.db"
	lockFile   = "lock"
	packSuffix = ".pack"
	openPrefix = "open-"
	// packSize is where a pack is closed and the next begun, in bytes.
	packSize = 64 << 20
)

// Store is an open store.
type Store struct {
	*index
	dir   string
	lock  *flock.Flock
	coder *pack.Coder
	files *packFiles
	// sessions is how many sessions are open.
	sessions atomic.Int32
	// Rebuilt says that the index had been lost or damaged, and was made anew from the packs.
	Rebuilt bool
	behind  bool // there are packs that the index lacks
	// Memo is for what was decoded from content.
	Memo memo.Memo
}

// patience is how long Open waits for somebody who needs the store alone.
const patience = 5 * time.Second

// Open opens the store in dir, creating it if there is none. It returns ErrBusy
// if somebody else needs the store alone for longer than a few seconds.
func Open(ctx context.Context, dir string) (*Store, error) {
	if err := os.MkdirAll(filepath.Join(dir, packsDir), 0o755); err != nil && !isDir(filepath.Join(dir, packsDir)) {
		return nil, err
	}
	lock, err := volume.NewLock(filepath.Join(dir, lockFile))
	if err != nil {
		return nil, err
	}
	waiting, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if _, err := lock.TryRLockContext(waiting, 50*time.Millisecond); err != nil {
		if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
			err = ErrBusy
		}
		if !volume.ReadOnly(err) && !volume.Full(err) { // there it can be looked at
			return nil, err
		}
	}
	s, err := open(ctx, dir, lock)
	if lost := errors.Is(err, ErrIndexLost); lost || err == nil && s.behind {
		// Rebuilding it, and taking in packs that it lacks, takes the store alone.
		if unlockErr := lock.Unlock(); unlockErr != nil {
			return nil, errors.Join(err, unlockErr)
		}
		alone, _ := lock.TryLock()
		switch {
		case alone && lost:
			if s, err = rebuild(ctx, dir, lock); err == nil {
				s.Rebuilt = true
			}
		case alone:
			err = s.takeInPacks(ctx)
		}
		if err == nil {
			_, err = lock.TryRLockContext(waiting, 50*time.Millisecond) // others may come in again
		}
	}
	if err != nil {
		lock.Close()
		return nil, err
	}
	return s, nil
}

// OpenAlone opens the store for a caller that needs it to itself. It returns
// ErrBusy while others use it. An index that is lost or damaged is put aside and rebuilt from the packs; rebuilt tells.
func OpenAlone(ctx context.Context, dir string) (s *Store, rebuilt bool, err error) {
	if err := os.MkdirAll(filepath.Join(dir, packsDir), 0o755); err != nil {
		return nil, false, err
	}
	lock, err := volume.NewLock(filepath.Join(dir, lockFile))
	if err != nil {
		return nil, false, err
	}
	switch ok, err := lock.TryLock(); {
	case err != nil:
		return nil, false, fmt.Errorf("lock the store: %w", err)
	case !ok:
		return nil, false, ErrBusy
	}
	s, err = open(ctx, dir, lock)
	if err == nil {
		if err = s.audit(ctx); err != nil {
			err = errors.Join(err, s.closeFiles())
		}
	}
	if errors.Is(err, ErrIndexLost) {
		rebuilt = true
		s, err = rebuild(ctx, dir, lock)
	}
	if err != nil {
		lock.Close()
		return nil, false, err
	}
	s.Rebuilt = rebuilt
	return s, rebuilt, nil
}

// Rebuild makes the index anew from the packs, for a caller that has the store alone.
func (s *Store) Rebuild(ctx context.Context) (*Store, error) {
	if err := s.closeFiles(); err != nil {
		return nil, err
	}
	fresh, err := rebuild(ctx, s.dir, s.lock)
	if err != nil {
		return nil, errors.Join(err, s.lock.Close())
	}
	fresh.Rebuilt = true
	return fresh, nil
}

func isDir(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

func open(ctx context.Context, dir string, lock *flock.Flock) (*Store, error) {
	index := filepath.Join(dir, indexFile)
	names, err := packNames(dir)
	if err != nil {
		return nil, err
	}
	lost := fmt.Errorf("%s: %w", index, ErrIndexLost)
	if _, err := os.Stat(index); errors.Is(err, fs.ErrNotExist) && len(names) > 0 {
		return nil, lost
	}
	s, err := openIndex(ctx, dir, index, lock)
	if err != nil {
		return nil, err
	}
	packs, err := s.packs(ctx)
	if err == nil && len(packs) == 0 && len(names) > 0 {
		err = lost
	}
	if err != nil {
		return nil, errors.Join(err, s.closeFiles())
	}
	known := make(map[string]bool)
	for _, p := range packs {
		known[p.name] = true
	}
	s.behind = slices.ContainsFunc(names, func(name string) bool { return !known[name] })
	if slices.ContainsFunc(packs, func(p packRow) bool { return !slices.Contains(names, p.name) }) {
		return nil, errors.Join(lost, s.closeFiles()) // of another time, or the pack was deleted: what it says is there would not be put in again
	}
	return s, nil
}

func openIndex(ctx context.Context, dir, file string, lock *flock.Flock) (*Store, error) {
	db, err := database.Open(ctx, file, schema)
	if database.Damaged(err) {
		return nil, fmt.Errorf("%s: %w", file, ErrIndexLost)
	} else if err != nil {
		return nil, err
	}
	s := &Store{index: &index{db: db}, dir: dir, lock: lock, files: newPackFiles(filepath.Join(dir, packsDir))}
	s.find, err = db.PrepareContext(ctx, `SELECT p.name, r.offset, r.plain, r.stored, r.kind, r.coding FROM record r JOIN pack p ON p.id = r.pack WHERE r.digest = ?`)
	if err != nil {
		db.Close()
		return nil, indexError(err)
	}
	if s.coder, err = pack.NewCoder(pack.Fast); err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

// Close gives the store back. Sessions must be closed before: one that is not is an error,
// since what it has put may not be there.
func (s *Store) Close() error {
	var err error
	if n := s.sessions.Load(); n > 0 {
		err = fmt.Errorf("the store was closed while something was being put into it (%d sessions)", n)
	}
	return errors.Join(err, s.closeFiles(), s.lock.Close())
}

func (s *Store) closeFiles() error {
	s.coder.Close()
	return errors.Join(s.files.close(), s.db.Close())
}

// Dir returns the folder that holds the store.
func (s *Store) Dir() string { return s.dir }

func indexError(err error) error {
	if database.Damaged(err) {
		return fmt.Errorf("%w (%v)", ErrIndexLost, err)
	}
	return err
}

// packNames lists the closed packs of the store in dir, without suffix.
func packNames(dir string) ([]string, error) {
	list, err := os.ReadDir(filepath.Join(dir, packsDir))
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range list {
		name, ok := strings.CutSuffix(e.Name(), packSuffix)
		if _, err := hex.DecodeString(name); ok && err == nil && len(name) == 2*digest.Size {
			names = append(names, name)
		}
	}
	return names, nil
}

func (s *Store) packPath(name string) string {
	return filepath.Join(s.dir, packsDir, name+packSuffix)
}
