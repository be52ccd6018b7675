package apply

import (
	"errors"
	"io/fs"
	"path"
	"path/filepath"

	"morvant/internal/volume"
)

// lockedFolders finds the folders that a plan works in and that are read-only, though they are this user's.
func lockedFolders(job Job) map[string]fs.FileMode {
	locked := make(map[string]fs.FileMode)
	seen := make(map[string]bool)
	for i := range job.Plan.Steps {
		s := &job.Plan.Steps[i]
		dir := path.Dir(s.Path)
		if s.KeepsContent() || seen[dir] {
			continue
		}
		seen[dir] = true
		full := filepath.Join(job.Dir, filepath.FromSlash(dir))
		if info, err := job.Root.Lstat(dir); err == nil && info.IsDir() && !volume.Writable(full) && volume.Owned(full) {
			locked[dir] = info.Mode().Perm()
		}
	}
	return locked
}

// unlock makes the folders writable that the change works in.
func (c *change) unlock() error {
	for dir, mode := range c.journal.Locked {
		if err := c.root.Chmod(dir, mode|0o300); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// lock makes those of them read-only again that are still there. What the plan wants of a folder's mode is
// set after that.
func (c *change) lock() error {
	for dir, mode := range c.journal.Locked {
		if err := c.root.Chmod(dir, mode); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
