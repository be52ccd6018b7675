package watch

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/fsnotify/fsnotify"

	"morvant/internal/block"
	"morvant/internal/game"
	"morvant/internal/manifest"
)

// news tells that something has changed in a lane, or in a folder of the files that block
// rules are about.
type news struct {
	// come gets nil for changes, several of which may count once, and an error where
	// some were lost. It is nil where the system does not tell of any.
	come    <-chan error
	watcher *fsnotify.Watcher
}

// newsOf watches every folder of the lane in dir. limit is told if that is not possible.
func newsOf(g *game.Game, dir string, limit func(why string)) *news {
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		limit(limitAdvice(err))
		return &news{}
	}
	errs := []error{addFolders(watcher, dir)}
	home, _ := os.UserHomeDir()
	at := block.Site{Dir: dir, Home: home}
	for _, r := range g.Block {
		if p := at.Watched(r); p != "" {
			errs = append(errs, watcher.Add(filepath.Dir(p)))
		}
	}
	if err := errors.Join(errs...); err != nil {
		limit(limitAdvice(err))
	}
	come := make(chan error, 1)
	go pass(watcher, dir, come)
	return &news{come, watcher}
}

// pass passes on what the watcher tells until it is closed, and closes come then.
func pass(watcher *fsnotify.Watcher, dir string, come chan<- error) {
	defer close(come)
	for {
		var err error
		select {
		case e, open := <-watcher.Events:
			if !open {
				return
			}
			if own(dir, e.Name) {
				continue
			}
			if info, statErr := os.Lstat(e.Name); e.Has(fsnotify.Create) && statErr == nil && info.IsDir() {
				err = addFolders(watcher, e.Name)
			}
		case lost, open := <-watcher.Errors:
			if !open {
				return
			}
			err = lost
		}
		select {
		case come <- err:
		default: // one is waiting to be taken already
		}
	}
}

func (n *news) close() {
	if n.watcher != nil {
		n.watcher.Close()
	}
}

// own reports whether a path is Morvant's own business.
func own(live, path string) bool {
	rel, err := filepath.Rel(live, path)
	return err == nil && manifest.IsPrivate(filepath.ToSlash(rel))
}

// addFolders watches a folder and those in it, as far as they are still there.
func addFolders(watcher *fsnotify.Watcher, top string) error {
	return filepath.WalkDir(top, func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil
		}
		if d.Name() == manifest.PrivateDir {
			return filepath.SkipDir
		}
		if err := watcher.Add(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	})
}

// limitAdvice explains what keeps the system from telling of changes.
func limitAdvice(err error) string {
	text := fmt.Sprintf("not every folder can be watched (%v); the folder is looked at now and then instead", err)
	if strings.Contains(err.Error(), "no space left") || strings.Contains(err.Error(), "too many") {
		text += ". An administrator can raise the limit: sysctl fs.inotify.max_user_watches=524288"
	}
	return text
}
