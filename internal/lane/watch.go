package lane

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"morvant/internal/block"
	"morvant/internal/game"
	"morvant/internal/manifest"
)

// Event is what a watch has seen, once it has become quiet again.
type Event struct {
	Time   time.Time
	Status *Status
	// Before is how the lane stood at the last event; nil at the first.
	Before *Status
}

// Watch says how a lane is watched.
type Watch struct {
	Quiet time.Duration // how long nothing must happen until it is looked at
	Every time.Duration // a look in any case, for what no event tells
	Once  bool          // look once, and return
	// See is told of each change of how the lane stands, and of the first look. It
	// runs while the lane is open, and says whether it has changed it.
	See func(ctx context.Context, l *Lane, e Event) (changed bool, err error)
	// Limit is told if the system cannot watch everything, and what helps.
	Limit func(problem string)
}

// Run watches until ctx is done. The game's lock is held only while it looks.
func (w *Watch) Run(ctx context.Context, home *game.Home, name string, o Options) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	is, err := home.Lane(ctx, name, o.Lane)
	if err != nil {
		return err
	}
	dir := g.Folder(is)
	var watcher *fsnotify.Watcher
	if !w.Once {
		if watcher, err = fsnotify.NewWatcher(); err != nil {
			w.Limit(limitAdvice(err))
			watcher = nil
		} else {
			defer watcher.Close()
			w.follow(watcher, g, dir)
		}
	}
	// Looked at once it is watched, so that nothing is missed in between.
	before, err := w.look(ctx, home, name, o, nil)
	if err != nil || w.Once {
		return err
	}
	quiet := time.NewTimer(w.Every)
	defer quiet.Stop()
	for {
		var events <-chan fsnotify.Event
		var failures <-chan error
		if watcher != nil {
			events, failures = watcher.Events, watcher.Errors
		}
		select {
		case <-ctx.Done():
			return nil
		case e := <-events:
			if own(dir, e.Name) {
				continue
			}
			if e.Has(fsnotify.Create) {
				if info, err := os.Lstat(e.Name); err == nil && info.IsDir() {
					w.addFolders(watcher, e.Name)
				}
			}
			quiet.Reset(w.Quiet)
		case err := <-failures:
			w.Limit(limitAdvice(err)) // some events were lost: look
			quiet.Reset(w.Quiet)
		case <-quiet.C:
			now, err := w.look(ctx, home, name, o, before)
			switch {
			case ctx.Err() != nil:
				return nil
			case errors.Is(err, game.ErrBusy):
				// Another command is at work; its changes are looked at later.
			case err != nil:
				return err
			default:
				before = now
			}
			quiet.Reset(w.Every)
		}
	}
}

// look opens the lane, and tells See if it stands otherwise than before.
func (w *Watch) look(ctx context.Context, home *game.Home, name string, o Options, before *Status) (*Status, error) {
	l, err := Open(ctx, home, name, o)
	if err != nil {
		return nil, err
	}
	s, err := l.Status(ctx)
	if err == nil && (before == nil || sketch(before) != sketch(s)) {
		var mended bool
		mended, err = w.See(ctx, l, Event{Time: o.Now(), Status: s, Before: before})
		if err == nil && mended {
			// What was mended is no news; what has changed meanwhile is.
			if now, statusErr := l.Status(ctx); statusErr == nil && !now.Trouble() {
				s = now
			}
		}
	}
	return s, errors.Join(err, l.Close())
}

// Trouble reports whether the lane has drifted or its block is broken.
func (s *Status) Trouble() bool {
	return s.Drift != nil && s.Drift.Any() || slices.ContainsFunc(s.Block, func(b block.State) bool { return !b.Holds })
}

// sketch sums up how a lane stands, to be compared.
func sketch(s *Status) string {
	text := fmt.Sprintf("%v %d %d", s.Pin, s.Files, s.Bytes)
	if d := s.Drift; d != nil {
		text += fmt.Sprintf(" %v %v %v %v", d.Altered, d.Missing, d.Extra, d.Unread)
	}
	for _, b := range s.Block {
		text += fmt.Sprintf(" %v %s", b.Holds, b.Broke)
	}
	return text
}

// own reports whether a path is Morvant's own business.
func own(live, path string) bool {
	rel, err := filepath.Rel(live, path)
	return err == nil && (rel == manifest.PrivateDir || strings.HasPrefix(rel, manifest.PrivateDir+string(filepath.Separator)))
}

// follow watches every folder of the lane, and those of the files that block rules
// are about.
func (w *Watch) follow(watcher *fsnotify.Watcher, g *game.Game, dir string) {
	w.addFolders(watcher, dir)
	home, _ := os.UserHomeDir()
	at := block.Place{Dir: dir, Home: home}
	for _, r := range g.Block {
		if p := at.Watched(r); p != "" {
			if err := watcher.Add(filepath.Dir(p)); err != nil {
				w.Limit(limitAdvice(err))
			}
		}
	}
}

func (w *Watch) addFolders(watcher *fsnotify.Watcher, top string) {
	err := filepath.WalkDir(top, func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil // gone meanwhile
		}
		if d.Name() == manifest.PrivateDir {
			return filepath.SkipDir
		}
		return watcher.Add(p)
	})
	if err != nil {
		w.Limit(limitAdvice(err))
	}
}

// limitAdvice explains what keeps the system from telling of changes.
func limitAdvice(err error) string {
	text := fmt.Sprintf("not every folder can be watched (%v); the folder is looked at now and then instead", err)
	if strings.Contains(err.Error(), "no space left") || strings.Contains(err.Error(), "too many") {
		text += ". An administrator can raise the limit: sysctl fs.inotify.max_user_watches=524288"
	}
	return text
}
