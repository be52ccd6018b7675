package lanes

import (
	"context"
	"errors"
	"fmt"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/manifest"
	"morvant/internal/oplog"
	"morvant/internal/plan"
	"morvant/internal/process"
	"morvant/internal/rules"
	"morvant/internal/saves"
	"morvant/internal/scan"
	"morvant/internal/volume"
	"os"
	"path/filepath"
	"strings"
)

// removeKnown deletes a folder with those of its files that are as the state says, or
// scratch. It returns how many are not; these stay.
func removeKnown(ctx context.Context, dir string, known plan.State, match *rules.Matcher) (left int, err error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return 0, ignoreMissing(err)
	}
	t, err := scan.Walk(ctx, root, rules.Rules{})
	if err != nil {
		return 0, errors.Join(err, root.Close())
	}
	t.AdmitLinks(nil)
	left = len(t.Odd)
	for i := len(t.Entries) - 1; i >= 0; i-- { // what is in a folder comes before it
		e := &t.Entries[i]
		n, ok := known.Get(e.Path)
		switch {
		case e.Kind == scan.Dir:
			_ = root.Remove(e.Path) // one that holds something stays
			continue
		case match.Scratch(e.Path):
		case e.Kind == scan.File && ok && n.Kind == plan.File && n.Size == e.Stamp.Size && n.MTime == plan.Moment(e.Stamp.MTime):
		case e.Kind == scan.Link && ok && n.Kind == plan.Link && n.Target == e.Target:
		default:
			left++
			continue
		}
		err := oplog.Point(ctx)
		if err == nil {
			err = ignoreMissing(volume.RemoveIn(root, e.Path))
		}
		if err != nil {
			return left, errors.Join(err, root.Close())
		}
	}
	if left > 0 {
		return left, root.Close()
	}
	if err := errors.Join(root.RemoveAll(manifest.PrivateDir), root.Close()); err != nil {
		return left, err
	}
	game.SweepProbes(dir)
	if err := os.Remove(dir); err != nil && !volume.Absent(err) {
		list, readErr := os.ReadDir(dir)
		if readErr != nil || len(list) == 0 {
			return left, err
		}
		left = len(list) // something has come in the meantime, and stays
	}
	return left, nil
}

func ignoreMissing(err error) error {
	if volume.Absent(err) {
		return nil
	}
	return err
}

// partSuffix is added to the name of a folder while a copy of it is made beside it.
const partSuffix = ".morvant-part"

// isFolder reports whether there is a folder at a path, which is no link.
func isFolder(at string) (bool, error) {
	if volume.IsLink(at) {
		return false, nil
	}
	info, err := os.Lstat(at)
	if err != nil {
		return false, ignoreMissing(err)
	}
	return info.IsDir(), nil
}

// removeCopied removes a folder of which there is a copy. What is not as the copy is, for it has been changed since, is kept beside it.
func removeCopied(ctx context.Context, l *lane.Lane, dir, copied string) error {
	known, err := stateOf(ctx, copied)
	if err != nil {
		return err
	}
	left, err := removeKnown(ctx, dir, known, rules.Rules{}.Matcher())
	if err != nil || left == 0 {
		return err
	}
	aside := beside(strings.TrimSuffix(dir, partSuffix), "changed")
	l.Tell("%d files in %s were changed while it was copied to %s; they are in %s.", left, strings.TrimSuffix(dir, partSuffix), copied, aside)
	return process.Rename(dir, aside)
}

// beside returns a name beside a folder's that is not in use.
func beside(dir, what string) string {
	for n := 1; ; n++ {
		if at := fmt.Sprintf("%s [%s %d]", dir, what, n); volume.Absent(lstat(at)) {
			return at
		}
	}
}

func lstat(at string) error {
	_, err := os.Lstat(at)
	return err
}

// copyFolder copies a folder by way of the store, checked and synced. A folder that holds what cannot be recorded is refused.
func copyFolder(ctx context.Context, l *lane.Lane, from, to string) error {
	k := backup.Archive(l)
	b, err := k.Record(ctx, []saves.Place{{Path: from}})
	if err != nil {
		return err
	}
	if len(b.LeftOut) > 0 {
		return fmt.Errorf("%s: %w: %s, which cannot be copied", from, ErrShare, b.LeftOut[0])
	}
	if err := volume.CheckFree(filepath.Dir(to), b.Bytes); err != nil {
		return err
	}
	b.Parts[0].Place = saves.Place{Path: to}
	back, err := k.Propose(ctx, b)
	if err != nil {
		return err
	}
	return k.Carry(ctx, back)
}
