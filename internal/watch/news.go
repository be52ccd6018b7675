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
	"morvant/internal/rules"
	"morvant/internal/userpath"
)

// news tells that something has changed in a lane, or in a folder of the files that block
// rules are about.
type news struct {
	// come gets nil for changes, several of which may count once, and an error where
	// some were lost. It is nil where the system does not tell of any.
	come <-chan error
	// beside tells of changes beside the lane, and of files in it that nobody misses or that are
	// the player's: they do not say that somebody is changing it.
	beside  <-chan struct{}
	watcher *fsnotify.Watcher
	tree    *tree
}

// newsOf watches every folder of the lane in dir, and those that are named beside it. limit is told
// if that is not possible.
func newsOf(g *game.Game, dir string, limit func(why string), also ...string) *news {
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		limit(limitAdvice(err))
		return &news{}
	}
	t, err := watchTree(watcher, dir)
	errs := []error{err}
	if g.Live != "" && g.Live != dir { // a link, which may come to lead to another lane
		errs = append(errs, watcher.Add(filepath.Dir(g.Live)))
	}
	whole := make(map[string]bool) // folders of which everything is news
	for _, p := range also {
		if !userpath.Within(p, dir) {
			errs = append(errs, addFolders(watcher, p))
			whole[p] = true
		}
	}
	home, _ := os.UserHomeDir()
	at := block.Site{Dir: dir, Home: home}
	for _, r := range g.Block {
		if p := at.Watched(r); p != "" {
			errs = append(errs, watcher.Add(filepath.Dir(p)))
			whole[filepath.Dir(p)] = true
		}
	}
	if err := errors.Join(errs...); err != nil {
		limit(limitAdvice(err))
	}
	come, beside := make(chan error, 1), make(chan struct{}, 1)
	go (&passing{watcher, t, dir, g.Live, whole, g.Rules().Matcher(), come, beside}).run()
	return &news{come, beside, watcher, t}
}

// tree tells of changes anywhere below a folder, where the system can; nil: the watcher does.
type tree struct {
	changed chan string // full paths
	lost    chan error
	stop    func()
}

func (t *tree) channels() (<-chan string, <-chan error) {
	if t == nil {
		return nil, nil
	}
	return t.changed, t.lost
}

// passing passes on what a watcher tells.
type passing struct {
	watcher *fsnotify.Watcher
	tree    *tree
	dir     string
	live    string          // the live folder, which may be a link to dir
	whole   map[string]bool // folders of which everything is news
	match   *rules.Matcher
	come    chan<- error
	beside  chan<- struct{}
}

// run goes on until the watcher is closed, and closes come then.
func (p *passing) run() {
	defer close(p.come)
	changed, treeLost := p.tree.channels()
	for {
		var err error
		name := ""
		select {
		case e, open := <-p.watcher.Events:
			if !open {
				return
			}
			name = e.Name
			if info, statErr := os.Lstat(name); e.Has(fsnotify.Create) && statErr == nil && info.IsDir() && name != p.dir && !p.aside(name) {
				err = addFolders(p.watcher, name)
			}
		case name = <-changed:
		case err = <-treeLost:
		case lost, open := <-p.watcher.Errors:
			if !open {
				return
			}
			err = lost
		}
		if err == nil && (own(p.dir, name) || p.aside(name)) {
			continue
		}
		if err == nil && p.isBeside(name) {
			select {
			case p.beside <- struct{}{}:
			default: // one is waiting to be taken already
			}
			continue
		}
		select {
		case p.come <- err:
		default:
		}
	}
}

// aside reports whether a path only happens to lie beside the lane's folder, in one that is watched
// for its sake.
func (p *passing) aside(path string) bool {
	around := filepath.Dir(path)
	return !p.whole[around] && path != p.dir && path != p.live && (around == filepath.Dir(p.dir) || around == filepath.Dir(p.live))
}

func (p *passing) isBeside(path string) bool {
	if path == p.live {
		return false
	}
	rel, err := filepath.Rel(p.dir, path)
	if err != nil || !filepath.IsLocal(rel) {
		return true
	}
	rel = filepath.ToSlash(rel)
	return p.match.Scratch(rel) || p.match.Kept(rel)
}

func (n *news) close() {
	if n.watcher != nil {
		n.watcher.Close()
	}
	if n.tree != nil {
		n.tree.stop()
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
	text := fmt.Sprintf("not every folder can be watched (%v); Morvant looks at the folder now and then instead", err)
	if strings.Contains(err.Error(), "no space left") || strings.Contains(err.Error(), "too many") {
		text += ". An administrator can raise the limit: sysctl fs.inotify.max_user_watches=524288"
	}
	return text
}
