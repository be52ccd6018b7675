package apply

import (
	"crypto/rand"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"morvant/internal/plan"
	"morvant/internal/reflink"
	"morvant/internal/scan"
	"morvant/internal/volume"
)

// attributes sets times and modes where only those change, of files that moved, and of
// folders, whose times change with every name in them. New files have theirs already.
func (c *change) attributes() error {
	for _, kind := range []plan.Kind{plan.File, plan.Dir} {
		if kind == plan.Dir { // no name changes in any of them from here on
			if err := c.lock(); err != nil {
				return err
			}
		}
		for i := range c.journal.Steps {
			s := &c.journal.Steps[i]
			if s.After == nil || s.After.Kind != kind || kind == plan.File && s.Places() && s.From == "" {
				continue
			}
			if err := c.set(s.Path, *s.After); err != nil {
				return err
			}
		}
	}
	return nil
}

// set sets times and modes. Where that is not permitted they stay as they are, which is
// reported: the content is what counts.
func (c *change) set(p string, n plan.Node) error {
	err := setAttributes(c.root, p, n)
	var space *volume.SpaceError
	switch {
	case errors.As(err, &space) || volume.Full(err):
		c.report.Shared = append(c.report.Shared, p)
		return nil
	case errors.Is(err, fs.ErrPermission):
		c.report.unset(p, err)
		return nil
	}
	return err
}

// setAttributes brings the mode and time of a file to what a node knows of them, as far
// as they are not that already. A file that has other names, maybe outside of the folder,
// becomes a copy of its own first: they are not the change's to touch.
func setAttributes(root *os.Root, p string, n plan.Node) error {
	info, err := volume.LstatIn(root, p)
	if err != nil {
		return err
	}
	newMode := n.Mode != 0 && info.Mode().Perm() != n.Mode.Perm()
	newTime := n.MTime != 0 && !info.ModTime().Equal(n.Time())
	if !newMode && !newTime {
		return nil
	}
	if names, err := volume.Names(root, p); err != nil {
		return err
	} else if names > 1 {
		return separate(root, p, info, n)
	}
	if newMode {
		if err := volume.Chmod(root, p, n.Mode.Perm()); err != nil {
			return err
		}
	}
	if !newTime {
		return nil
	}
	return volume.Chtimes(root, p, n.Time())
}

// separate puts a copy in the place of a file, with its owner and with the mode and time that
// a node knows, else its own; the file itself is left with its other names.
func separate(root *os.Root, p string, info fs.FileInfo, n plan.Node) error {
	if err := volume.CheckFree(root.Name(), info.Size()+spare); err != nil {
		return err
	}
	mode, when := info.Mode().Perm(), info.ModTime()
	if n.Mode != 0 {
		mode = n.Mode.Perm()
	}
	if n.MTime != 0 {
		when = n.Time()
	}
	part := path.Join(changeDir, "own-"+rand.Text()[:8])
	err := duplicate(root, p, part)
	full := func(p string) string { return filepath.Join(root.Name(), filepath.FromSlash(p)) }
	for _, step := range []func() error{
		func() error { return volume.OwnIn(root, part, p) },
		func() error { return volume.KeepFlags(full(p), full(part)) },
		func() error { return volume.Chmod(root, part, mode) },
		func() error { return volume.Chtimes(root, part, when) },
		func() error { return replaceQuietly(root, part, p) },
	} {
		if err == nil {
			err = step()
		}
	}
	if err != nil {
		_ = root.Remove(part) // what stays goes with the change
	}
	return err
}

// duplicate writes the content of a file to another name, sharing it where that is possible.
func duplicate(root *os.Root, p, part string) error {
	from, err := scan.OpenFile(root, p)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := reflink.File(root, part, from)
	if errors.Is(err, reflink.ErrUnsupported) {
		if to, err = root.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600); err == nil {
			_, err = io.Copy(to, from)
		}
	}
	if to == nil {
		return err
	}
	if err == nil {
		err = to.Sync()
	}
	return errors.Join(err, to.Close())
}

// replaceQuietly puts a file in the place of another, and gives the folder its time back.
func replaceQuietly(root *os.Root, part, p string) error {
	dir, err := root.Stat(path.Dir(p))
	if err != nil {
		return err
	}
	if err := volume.RenameIn(root, part, p); err != nil {
		return err
	}
	if err := volume.Chtimes(root, path.Dir(p), dir.ModTime()); !errors.Is(err, fs.ErrPermission) {
		return err
	}
	return nil
}
