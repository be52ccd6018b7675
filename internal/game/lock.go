package game

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"morvant/internal/progress"
	"morvant/internal/volume"
)

// Lock is held while a game is worked on.
type Lock struct {
	f   *flock.Flock
	who string // the line that tells others of the holder
}

// Lock takes the game's lock, waiting up to patience for another process to let
// go of it. who describes the holder to others.
//
// A home that cannot be written to can be looked at without a lock.
func (h *Home) Lock(ctx context.Context, name, who string, patience time.Duration) (*Lock, error) {
	err := os.MkdirAll(filepath.Join(h.dir, "locks"), 0o755)
	if volume.ReadOnly(err) || volume.Full(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	f, err := volume.NewLock(lockFile(h, name))
	if err != nil {
		return nil, err
	}
	waiting, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	ok, err := f.TryLock()
	if !ok && err == nil && patience > 0 {
		ok, err = f.TryLockContext(waiting, 50*time.Millisecond)
	}
	if !ok {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if volume.ReadOnly(err) || volume.Full(err) {
			return nil, nil
		}
		if err != nil && !errors.Is(err, context.DeadlineExceeded) {
			return nil, err
		}
		text, _ := HolderOf(h, name)
		return nil, fmt.Errorf("%w: %s", ErrBusy, text)
	}
	l := &Lock{f, fmt.Sprintf("%s (process %d, since %s)", who, os.Getpid(), time.Now().Format("15:04"))}
	l.tell("")
	return l, nil
}

func lockFile(h *Home, name string) string { return filepath.Join(h.dir, "locks", name) }

// tell tells others who holds the lock, and how far it is: for messages only, the lock itself does not depend on it.
func (l *Lock) tell(how string) {
	_ = os.WriteFile(l.f.Path()+".holder", []byte(l.who+"\n"+how+"\n"), 0o644)
}

// HolderOf says who holds the lock of a game, and how far that is; pid is 0 where it is not told.
func HolderOf(h *Home, name string) (text string, pid int) {
	b, _ := volume.ReadFile(lockFile(h, name)+".holder", volume.Small)
	who, how, _ := strings.Cut(strings.TrimSpace(string(b)), "\n")
	if _, at, found := strings.Cut(who, "(process "); found {
		_, _ = fmt.Sscanf(at, "%d", &pid) // else it stays 0
	}
	if how != "" {
		who += ", " + how
	}
	return who, pid
}

// Unlock gives the lock back.
func (l *Lock) Unlock() error {
	if l == nil {
		return nil
	}
	return l.f.Close()
}

// Meter returns a meter that tells others how far the work is, too.
func (l *Lock) Meter(m progress.Meter) progress.Meter {
	if l == nil {
		return m
	}
	return &telling{Meter: m, lock: l}
}

// telling passes on what it is told, and once in a while tells others.
type telling struct {
	progress.Meter
	lock *Lock

	mu          sync.Mutex
	task        string
	total, done int64
	told        time.Time
}

// often is how often others are told.
const often = 500 * time.Millisecond

func (t *telling) Begin(task string, total int64) {
	t.mu.Lock()
	t.task, t.total, t.done = task, total, 0
	t.mu.Unlock()
	t.Meter.Begin(task, total)
}

func (t *telling) Advance(bytes int64, file string) {
	t.mu.Lock()
	t.done += bytes
	if now := time.Now(); now.Sub(t.told) >= often {
		t.told = now
		how := fmt.Sprintf("%s: %d MB", t.task, t.done>>20)
		if t.total > 0 {
			how = fmt.Sprintf("%s: %d %% of %d MB", t.task, min(100, t.done*100/t.total), t.total>>20)
		}
		t.lock.tell(how)
	}
	t.mu.Unlock()
	t.Meter.Advance(bytes, file)
}
