//go:build !windows

package watch

import (
	"errors"
	"path/filepath"

	"github.com/fsnotify/fsnotify"
)

// watchTree watches the folders of a lane one by one, and the folder around it, for another lane may
// take its place.
func watchTree(watcher *fsnotify.Watcher, dir string) (*tree, error) {
	return nil, errors.Join(watcher.Add(filepath.Dir(dir)), addFolders(watcher, dir))
}
