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
	"strings"

	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/process"
	"morvant/internal/rules"
	"morvant/internal/saves"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/userpath"
	"morvant/internal/volume"
)

// ErrShare is returned for a folder that cannot be shared between lanes.
var ErrShare = errors.New("this folder cannot be shared")

// Share moves a folder of the lane to one place and puts a link in its stead, here and
// in the other lanes named. Killed at any point, the next Open of the lane puts the
// link there.
func Share(ctx context.Context, l *lane.Lane, path, to string, lanes []string) (linked []string, err error) {
	if to, err = filepath.Abs(to); err != nil {
		return nil, err
	}
	if err := canBeShared(ctx, l, path, to); err != nil {
		return nil, err
	}
	others, err := openFor(ctx, l, path, lanes)
	if err != nil {
		return nil, err
	}
	defer func() {
		for _, o := range others {
			err = errors.Join(err, o.Close())
		}
	}()
	for _, o := range append([]*lane.Lane{l}, others...) {
		if err := volume.CanLink(o.Dir, l.Dir); err != nil {
			return nil, err
		}
	}
	from := filepath.Join(l.Dir, filepath.FromSlash(path))
	if err := addShare(ctx, l, state.Share{Path: path, Target: to, From: from}); err != nil {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx)
	if err := moveFolder(ctx, l, from, to, func() error {
		return addShare(ctx, l, state.Share{Path: path, Target: to, From: from, Copied: true})
	}); err != nil {
		return nil, errors.Join(err, RecoverShares(ctx, l))
	}
	for _, o := range append([]*lane.Lane{l}, others...) {
		err := link(ctx, o, path, to)
		if err != nil && o == l {
			// Better the folder in its place than a lane without it.
			return nil, errors.Join(err, moveFolder(ctx, l, to, from, nil), dropShare(ctx, l, path))
		}
		if err != nil {
			return linked, err
		}
		linked = append(linked, o.Name)
	}
	return linked, nil
}

// Join links further lanes to a folder that the lane shares already. to, if given, is where the
// folder is.
func Join(ctx context.Context, l *lane.Lane, path, to string, lanes []string) (linked []string, err error) {
	s, err := shared(ctx, l, path)
	if err != nil {
		return nil, err
	}
	if to != "" {
		if to, err = filepath.Abs(to); err != nil {
			return nil, err
		}
		if filepath.Clean(s.Target) != to {
			return nil, fmt.Errorf("%s: %w: it is shared already, in %s", path, ErrShare, s.Target)
		}
	}
	others, err := openFor(ctx, l, path, lanes)
	if err != nil {
		return nil, err
	}
	for _, o := range others {
		if err == nil {
			err = volume.CanLink(o.Dir, l.Dir)
		}
		if err == nil {
			err = link(ctx, o, path, s.Target)
		}
		if err == nil {
			linked = append(linked, o.Name)
		}
	}
	for _, o := range others {
		err = errors.Join(err, o.Close())
	}
	return linked, err
}

// Shared reports whether the lane shares the folder already.
func Shared(ctx context.Context, l *lane.Lane, path string) bool {
	_, err := shared(ctx, l, path)
	return err == nil
}

func shared(ctx context.Context, l *lane.Lane, path string) (state.Share, error) {
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return state.Share{}, err
	}
	i := slices.IndexFunc(is.Shares, func(s state.Share) bool { return s.Path == path && s.From == "" })
	if i < 0 || !volume.IsLink(filepath.Join(l.Dir, filepath.FromSlash(path))) {
		return state.Share{}, fmt.Errorf("%s: %w: it is not shared", path, ErrShare)
	}
	return is.Shares[i], nil
}

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
	shares := slices.DeleteFunc(slices.Clone(is.Shares), func(s state.Share) bool { return s.From != "" })
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

// canBeShared checks that a folder is one, and the player's.
func canBeShared(ctx context.Context, l *lane.Lane, path, to string) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%s: %w: %s", path, ErrShare, fmt.Sprintf(format, args...))
	}
	if err := manifest.CheckPath(path); err != nil {
		return fmt.Errorf("%w: %w", ErrShare, err)
	}
	info, err := l.Root.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return bad("it is not there")
	case err != nil:
		return err
	case !info.IsDir():
		return bad("it is not a folder, or already shared")
	}
	if err := l.MayChange(); err != nil {
		return err
	}
	if list, err := os.ReadDir(to); err == nil && len(list) > 0 {
		return bad("%s is there and not empty", to)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	lanes, err := l.Home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return err
	}
	for _, o := range lanes {
		if rel, err := filepath.Rel(l.Game.Folder(o), to); err == nil && filepath.IsLocal(rel) {
			return bad("%s lies in lane %s", to, o.Name)
		}
	}
	_, held, err := compose.Pinned(ctx, l)
	if err != nil {
		return err
	}
	for _, e := range held.Owned() {
		if strings.HasPrefix(e.Path, path+"/") && !l.Game.Rules().Matcher().Kept(e.Path) {
			return bad("it holds files of the build, such as %s", e.Path)
		}
	}
	return nil
}

// openFor opens the other lanes that are to have the link; none of them may have
// something of its own there.
func openFor(ctx context.Context, l *lane.Lane, path string, names []string) ([]*lane.Lane, error) {
	var list []*lane.Lane
	for _, name := range names {
		if name == l.Name {
			continue
		}
		o, err := change.Beside(ctx, l, name)
		if err == nil {
			list = append(list, o)
			if _, statErr := o.Root.Lstat(path); statErr == nil {
				err = fmt.Errorf("lane %s has a %s of its own: %w", name, path, lane.ErrInTheWay)
			}
		}
		if err != nil {
			for _, o := range list {
				o.Close()
			}
			return nil, err
		}
	}
	return list, nil
}

// link puts a link in the place of a folder, and notes it.
func link(ctx context.Context, l *lane.Lane, path, to string) error {
	if err := l.Root.MkdirAll(filepath.Dir(filepath.FromSlash(path)), 0o755); err != nil {
		return err
	}
	if _, err := l.Root.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		if err := volume.Link(to, filepath.Join(l.Dir, filepath.FromSlash(path))); err != nil {
			return err
		}
	}
	return addShare(ctx, l, state.Share{Path: path, Target: to})
}

// addShare notes a shared folder of the lane.
func addShare(ctx context.Context, l *lane.Lane, s state.Share) error {
	return changeShares(ctx, l, func(list []state.Share) []state.Share {
		return append(slices.DeleteFunc(list, func(o state.Share) bool { return o.Path == s.Path }), s)
	})
}

func dropShare(ctx context.Context, l *lane.Lane, path string) error {
	return changeShares(ctx, l, func(list []state.Share) []state.Share {
		return slices.DeleteFunc(list, func(o state.Share) bool { return o.Path == path })
	})
}

func changeShares(ctx context.Context, l *lane.Lane, change func([]state.Share) []state.Share) error {
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	is.Shares = change(is.Shares)
	return l.Home.SetLane(ctx, l.Game.Name, l.Name, is.LaneState)
}

// RecoverShares ends what an earlier run has left between moving a folder and linking
// to it, or between taking a link away and bringing the folder back.
func RecoverShares(ctx context.Context, l *lane.Lane) error {
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	for _, s := range is.Shares {
		if s.From == "" {
			continue
		}
		if _, err := l.Root.Lstat(s.Path); err == nil && !volume.IsLink(filepath.Join(l.Dir, filepath.FromSlash(s.Path))) {
			if moved, err := endMove(ctx, l, s); err != nil {
				return err
			} else if !moved {
				// The folder stays, with everything that is in it.
				if err := dropShare(ctx, l, s.Path); err != nil {
					return err
				}
				continue
			}
		}
		_ = os.RemoveAll(s.From + partSuffix) // a copy that was not whole
		if err := link(ctx, l, s.Path, s.Target); err != nil {
			return err
		}
	}
	return nil
}

// endMove ends the moving of a folder to another disk: once it is there whole, what is
// left of it here goes; else what has come there goes. On one disk there is nothing to do.
func endMove(ctx context.Context, l *lane.Lane, s state.Share) (moved bool, err error) {
	if _, err := os.Stat(s.Target); err != nil {
		return false, ignoreMissing(err)
	}
	if err := backup.Archive(l).Recover(ctx, []saves.Place{{Path: s.Target}}); err != nil {
		return false, err
	}
	gone, stays := s.Target, s.From
	if s.Copied {
		gone, stays = stays, gone
	}
	root, err := os.OpenRoot(stays)
	if err != nil {
		return false, err
	}
	t, err := scan.Walk(ctx, root, rules.Rules{})
	if err = errors.Join(err, root.Close()); err != nil {
		return false, err
	}
	left, err := removeKnown(ctx, gone, plan.FromTree(t), rules.Rules{}.Matcher())
	return s.Copied && left == 0, err
}

// partSuffix is added to the name of a folder while a copy of it is made beside it.
const partSuffix = ".morvant-part"

// Unshare puts a folder back in the place of a link: the only lane that links to it
// gets it back, others get a copy.
func Unshare(ctx context.Context, l *lane.Lane, path string) error {
	if err := l.MayChange(); err != nil {
		return err
	}
	at := filepath.Join(l.Dir, filepath.FromSlash(path))
	if manifest.CheckPath(path) != nil || !volume.IsLink(at) {
		return fmt.Errorf("%s: %w: it is no link", path, ErrShare)
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(is.Shares, func(s state.Share) bool { return s.Path == path }) {
		return fmt.Errorf("%s: %w: this link was not made by sharing", path, ErrShare)
	}
	target, err := volume.LinkTarget(at)
	if err != nil {
		return err
	}
	if info, err := os.Stat(target); err != nil || !info.IsDir() {
		return fmt.Errorf("%s: %w: %s, which it links to, is no folder any more", path, ErrShare, target)
	}
	users, err := usersOf(ctx, l, target)
	if err != nil {
		return err
	}
	if err := addShare(ctx, l, state.Share{Path: path, Target: target, From: at}); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	if users > 1 {
		err = copyBack(ctx, l, target, at)
	} else if err = process.Patiently(at, func() error { return os.Remove(at) }); err == nil {
		err = moveFolder(ctx, l, target, at, nil)
	}
	if err != nil {
		return errors.Join(err, RecoverShares(ctx, l))
	}
	return dropShare(ctx, l, path)
}

// usersOf counts the lanes that link to a folder.
func usersOf(ctx context.Context, l *lane.Lane, target string) (int, error) {
	lanes, err := l.Home.Lanes(ctx, l.Game.Name)
	n := 0
	for _, o := range lanes {
		if slices.ContainsFunc(o.Shares, func(s state.Share) bool { return s.Target == target }) {
			n++
		}
	}
	return n, err
}

// moveFolder moves a folder to a place where there is nothing, or an empty folder. To
// another disk it is copied, by way of the store, and removed once it is there whole,
// which copied is told before.
func moveFolder(ctx context.Context, l *lane.Lane, from, to string, copied func() error) error {
	if err := volume.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	same, err := volume.SameDisk(from, filepath.Dir(to))
	if err != nil {
		return err
	}
	if same {
		if err := os.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := process.Rename(from, to); err != nil {
			return err
		}
		return syncFolders(filepath.Dir(from), filepath.Dir(to))
	}
	known, err := copyFolder(ctx, l, from, to)
	if err == nil && copied != nil {
		err = copied()
	}
	if err != nil {
		return err
	}
	left, err := removeKnown(ctx, from, known, rules.Rules{}.Matcher())
	if err == nil && left > 0 {
		err = fmt.Errorf("%d files in %s were changed while it was copied to %s; they stay", left, from, to)
	}
	return err
}

// copyBack copies a folder beside the link, and then puts it in the link's place.
func copyBack(ctx context.Context, l *lane.Lane, target, at string) error {
	part := at + partSuffix
	if err := os.RemoveAll(part); err != nil {
		return err
	}
	if _, err := copyFolder(ctx, l, target, part); err != nil {
		return errors.Join(err, os.RemoveAll(part))
	}
	if err := process.Patiently(at, func() error { return os.Remove(at) }); err != nil {
		return err
	}
	return process.Rename(part, at)
}

// copyFolder copies a folder by way of the store, checked and synced, and returns what
// it copied. A folder that holds what cannot be recorded is refused.
func copyFolder(ctx context.Context, l *lane.Lane, from, to string) (plan.State, error) {
	k := backup.Archive(l)
	b, err := k.Record(ctx, []saves.Place{{Path: from}})
	if err != nil {
		return nil, err
	}
	links, err := ownLinks(ctx, from)
	if err != nil {
		return nil, err
	}
	for p := range links {
		text := filepath.Join(from, filepath.FromSlash(p)) + " is "
		b.LeftOut = slices.DeleteFunc(b.LeftOut, func(o string) bool { return strings.HasPrefix(o, text) })
	}
	if len(b.LeftOut) > 0 {
		return nil, fmt.Errorf("%s: %w: %s, which cannot be copied", from, ErrShare, b.LeftOut[0])
	}
	if err := volume.CheckFree(filepath.Dir(to), b.Bytes); err != nil {
		return nil, err
	}
	copied, err := k.State(ctx, b.Parts[0])
	if err != nil {
		return nil, err
	}
	b.Parts[0].Place = saves.Place{Path: to}
	back, err := k.Propose(ctx, b)
	if err != nil {
		return nil, err
	}
	if err := k.Carry(ctx, back); err != nil {
		return nil, err
	}
	return copied.With(nodes(links)), makeLinks(to, links, copied)
}

func nodes(links map[string]string) map[string]plan.Node {
	list := map[string]plan.Node{}
	for p, target := range links {
		list[p] = plan.Node{Kind: plan.Link, Target: target}
	}
	return list
}

// makeLinks makes links in a folder, as they are written; the folders that they come into keep their times.
func makeLinks(dir string, links map[string]string, folders plan.State) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	for p, target := range links {
		err := root.MkdirAll(path.Dir(p), 0o755)
		if err == nil {
			err = volume.SymlinkIn(root, target, p)
		}
		if err != nil && !errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("%s: %w (%v)", p, ErrShare, err)
		}
		if n, is := folders.Get(path.Dir(p)); is && n.Kind == plan.Dir && n.MTime != 0 {
			if err := volume.Chtimes(root, path.Dir(p), n.Time()); err != nil {
				return err
			}
		}
	}
	return nil
}
