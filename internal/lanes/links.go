package lanes

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"

	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/userpath"
	"morvant/internal/volume"
)

// ownLinks lists the links that the player has put into a folder and that lead out of it.
func ownLinks(ctx context.Context, dir string) (map[string]string, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	t, err := scan.Survey(ctx, root, rules.Rules{})
	if err != nil {
		return nil, err
	}
	t.AdmitLinks(nil)
	return plan.FromTree(t).Links(), nil
}

// LinksNotIn lists the links out of a lane's folder in whose place another lane has nothing.
func LinksNotIn(ctx context.Context, l, o *lane.Lane) ([]string, error) {
	own, err := ownLinks(ctx, l.Dir)
	if err != nil {
		return nil, err
	}
	var list []string
	for _, p := range slices.Sorted(maps.Keys(own)) {
		if _, err := o.Root.Lstat(p); errors.Is(err, fs.ErrNotExist) {
			list = append(list, p)
		}
	}
	return list, nil
}

// leadsTo returns the folder outside of dir to which a link in it leads; empty if it does not.
func leadsTo(dir, path string) string {
	at := filepath.Join(dir, filepath.FromSlash(path))
	if !volume.IsLink(at) {
		return ""
	}
	to, err := filepath.EvalSymlinks(at)
	if err != nil {
		return ""
	}
	if info, err := os.Stat(to); err != nil || !info.IsDir() || userpath.Holds(dir, to) {
		return ""
	}
	return to
}

// TakeLink makes a link that the player has put into a lane a folder that it shares, if it is one.
func TakeLink(ctx context.Context, l *lane.Lane, path string) (bool, error) {
	if manifest.CheckPath(path) != nil || Shared(ctx, l, path) {
		return false, nil
	}
	to := leadsTo(l.Dir, path)
	if to == "" {
		return false, nil
	}
	if g, o, err := l.Home.Holding(ctx, to); err != nil {
		return false, err
	} else if g != nil {
		return false, fmt.Errorf("%s: %w: it leads into lane %s of %s", path, ErrShare, o.Name, g.Name)
	}
	return true, addShare(ctx, l, state.Share{Path: path, Target: to})
}

// ShareAs links a lane to the folders that another lane shares, and makes the links that the player has put
// there, but for those of which it has something in the place. missed says which could not be made, and why.
func ShareAs(ctx context.Context, l *lane.Lane, like string) (linked, missed []string, err error) {
	is, err := l.Home.Lane(ctx, l.Game.Name, like)
	if err != nil {
		return nil, nil, err
	}
	dir := l.Game.Folder(is)
	own, err := ownLinks(ctx, dir)
	if err != nil {
		return nil, nil, err
	}
	shares := slices.Clone(is.Shares)
	for _, p := range slices.Sorted(maps.Keys(own)) {
		if slices.ContainsFunc(is.Shares, func(s state.Share) bool { return s.Path == p }) {
			continue
		}
		if to := leadsTo(dir, p); to != "" {
			shares = append(shares, state.Share{Path: p, Target: to})
			continue
		}
		if _, err := l.Root.Lstat(p); err == nil {
			continue
		}
		err := l.Root.MkdirAll(path.Dir(p), 0o755)
		if err == nil {
			err = volume.SymlinkIn(l.Root, targetFrom(dir, l.Dir, p, own[p]), p)
		}
		if err != nil {
			missed = append(missed, fmt.Sprintf("%s (to %s): %v", p, own[p], err))
			continue
		}
		linked = append(linked, p)
	}
	for _, s := range shares {
		if _, err := l.Root.Lstat(s.Path); err == nil {
			continue
		}
		err := volume.CanLink(l.Dir, l.Dir)
		if err == nil {
			err = link(ctx, l, s.Path, s.Target)
		}
		if err != nil {
			missed = append(missed, fmt.Sprintf("%s (to %s): %v", s.Path, s.Target, err))
			continue
		}
		linked = append(linked, s.Path)
	}
	return linked, missed, nil
}

// targetFrom returns how a link at p in one folder is written in another, to lead to the same place.
func targetFrom(from, to, p, target string) string {
	if filepath.IsAbs(target) {
		return target
	}
	at := func(dir string) string {
		return filepath.Join(dir, filepath.FromSlash(path.Dir(p)), filepath.FromSlash(target))
	}
	if at(from) == at(to) {
		return target
	}
	return at(from)
}
