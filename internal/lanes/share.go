package lanes

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/oplog"
	"morvant/internal/process"
	"morvant/internal/saves"
	"morvant/internal/state"
	"morvant/internal/volume"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// ErrShare is returned for a folder that cannot be shared between lanes.
var ErrShare = errors.New("this folder cannot be shared")

// Share moves a folder of the lane to one place and puts a link in its stead, here and
// in the other lanes named.
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
	for _, o := range others {
		linked = append(linked, o.Name)
	}
	err = closeAll(others)
	for _, o := range append([]*lane.Lane{l}, others...) {
		if err == nil {
			err = volume.CanLink(o.Dir, l.Dir)
		}
	}
	if err == nil {
		err = volume.MkdirAll(filepath.Dir(to), 0o755)
	}
	if err != nil {
		return nil, err
	}
	same, err := volume.SameDisk(l.Dir, filepath.Dir(to))
	if err != nil {
		return nil, err
	}
	s := &sharing{Path: path, Target: to, From: filepath.Join(l.Dir, filepath.FromSlash(path)), Copy: !same, Lanes: linked}
	return append([]string{l.Name}, linked...), s.operation(l, false).Run(ctx, l.Home.State)
}

// sharing is how a folder is moved to one place for several lanes.
type sharing struct {
	Path   string   `json:"path"` // in the lane
	Target string   `json:"target"`
	From   string   `json:"from"`             // the same, in full
	Copy   bool     `json:"copy,omitempty"`   // it goes to another disk
	Copied bool     `json:"copied,omitempty"` // it is there whole
	Aside  string   `json:"aside,omitempty"`  // what was copied goes there at once, and is removed last; older notes: none
	Lanes  []string `json:"lanes,omitempty"`  // others that are to have the link
}

// operation is the sharing of a folder, which is there to stay once the folder has left its place. begun says that an earlier run
// has begun it.
func (s *sharing) operation(l *lane.Lane, begun bool) *oplog.Operation {
	op := &oplog.Operation{Game: l.Game.Name, Lane: l.Name, Kind: state.BegunShare, Body: s, What: "The sharing of " + s.Path + " of " + l.Title()}
	op.Steps = []oplog.Step{{
		Do: func(ctx context.Context) error {
			if !s.Copy || s.Copied || begun {
				return nil
			}
			if err := copyFolder(ctx, l, s.From, s.Target); err != nil {
				return err
			}
			s.Copied, s.Aside = true, s.From+partSuffix
			return op.Note(ctx, l.Home.State)
		},
		Back: func(ctx context.Context) error {
			if _, err := os.Stat(s.Target); err != nil {
				return errors.Join(ignoreMissing(err), dropShare(ctx, l, s.Path))
			}
			if err := backup.Archive(l).Recover(ctx, []saves.Place{{Path: s.Target}}); err != nil {
				return err
			}
			return errors.Join(removeCopied(ctx, l, s.Target, s.From), dropShare(ctx, l, s.Path))
		},
	}, {
		Do: func(ctx context.Context) error { return s.replace(ctx, l) },
		Back: func(context.Context) error { // better the folder in its place than a lane without it
			if _, err := os.Lstat(s.From); !volume.Absent(err) {
				return err
			}
			return process.Rename(cmp.Or(s.Aside, s.Target), s.From)
		},
		Done: func(context.Context) (bool, error) {
			is, err := isFolder(s.From)
			return !is && (s.Copied || volume.IsLink(s.From)) || s.Copied && s.Aside == "", err
		},
	}, {
		Do: func(ctx context.Context) error { return s.linkOthers(ctx, l) },
	}, {
		Do: func(ctx context.Context) error {
			if !s.Copied {
				return nil
			}
			return removeCopied(ctx, l, s.aside(), s.Target)
		},
	}}
	return op
}

func (s *sharing) aside() string { return cmp.Or(s.Aside, s.From+partSuffix) }

// replace puts the link in the folder's place.
func (s *sharing) replace(ctx context.Context, l *lane.Lane) error {
	is, err := isFolder(s.From)
	switch {
	case err != nil:
		return err
	case is:
		to := s.aside()
		if !s.Copied {
			to = s.Target
			if err := ignoreMissing(os.Remove(to)); err != nil {
				return err
			}
		}
		if err = process.Rename(s.From, to); err == nil {
			err = syncFolders(filepath.Dir(s.From), filepath.Dir(to))
		}
	}
	if err == nil {
		err = oplog.Point(ctx)
	}
	if err != nil {
		return err
	}
	return link(ctx, l, s.Path, s.Target)
}

func (s *sharing) linkOthers(ctx context.Context, l *lane.Lane) error {
	others, err := openFor(ctx, l, "", s.Lanes)
	for _, o := range others {
		if err == nil {
			err = link(ctx, o, s.Path, s.Target)
		}
	}
	return errors.Join(err, closeAll(others))
}

func closeAll(list []*lane.Lane) error {
	var errs []error
	for _, o := range list {
		errs = append(errs, o.Close())
	}
	return errors.Join(errs...)
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
	return linked, errors.Join(err, closeAll(others))
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
	i := slices.IndexFunc(is.Shares, func(s state.Share) bool { return s.Path == path })
	if i < 0 || !volume.IsLink(filepath.Join(l.Dir, filepath.FromSlash(path))) {
		return state.Share{}, fmt.Errorf("%s: %w: it is not shared", path, ErrShare)
	}
	return is.Shares[i], nil
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
// something of its own there, unless path is empty.
func openFor(ctx context.Context, l *lane.Lane, path string, names []string) ([]*lane.Lane, error) {
	var list []*lane.Lane
	for _, name := range names {
		if name == l.Name {
			continue
		}
		o, err := change.Beside(ctx, l, name)
		if err == nil {
			list = append(list, o)
			if _, statErr := o.Root.Lstat(path); path != "" && statErr == nil {
				err = fmt.Errorf("lane %s has a %s of its own: %w", name, path, lane.ErrInTheWay)
			}
		}
		if err != nil {
			return nil, errors.Join(err, closeAll(list))
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
	same, err := volume.SameDisk(target, filepath.Dir(at))
	if err != nil {
		return err
	}
	u := &unsharing{Path: path, Target: target, Copy: users > 1 || !same, Last: users <= 1}
	return u.operation(l, false).Run(ctx, l.Home.State)
}

// unsharing is how a folder comes back in the place of a link.
type unsharing struct {
	Path   string `json:"path"`
	Target string `json:"target"`
	Copy   bool   `json:"copy"` // it is copied there
	Last   bool   `json:"last"` // no other lane links to it: it goes from its place
}

// operation is the coming back of a folder, which is there once the link is gone. begun says that an earlier run has begun it.
func (u *unsharing) operation(l *lane.Lane, begun bool) *oplog.Operation {
	at := filepath.Join(l.Dir, filepath.FromSlash(u.Path))
	part := at + partSuffix
	unlink := func() error {
		if !volume.IsLink(at) {
			return nil
		}
		return process.Patiently(at, func() error { return os.Remove(at) })
	}
	return &oplog.Operation{
		Game: l.Game.Name, Lane: l.Name, Kind: state.BegunUnshare, Body: u, What: "Bringing " + u.Path + " back into " + l.Title(),
		Steps: []oplog.Step{{
			Do: func(ctx context.Context) error {
				if !u.Copy || begun {
					return nil
				}
				if err := os.RemoveAll(part); err != nil {
					return err
				}
				return copyFolder(ctx, l, u.Target, part)
			},
			Back: func(context.Context) error { return os.RemoveAll(part) },
		}, {
			Do: func(ctx context.Context) error {
				if there, err := isFolder(at); there || err != nil {
					return err
				}
				if err := unlink(); err != nil {
					return err
				}
				if err := oplog.Point(ctx); err != nil {
					return err
				}
				from := u.Target
				if u.Copy {
					from = part
				}
				if err := process.Rename(from, at); err != nil {
					return err
				}
				return syncFolders(filepath.Dir(from), filepath.Dir(at))
			},
			Back: func(context.Context) error { // better the link than a lane without the folder
				if _, err := os.Lstat(at); volume.Absent(err) {
					return volume.Link(u.Target, at)
				}
				return nil
			},
			Done: func(context.Context) (bool, error) { return isFolder(at) },
		}, {
			Do: func(ctx context.Context) error {
				if u.Copy && u.Last {
					if err := removeCopied(ctx, l, u.Target, at); err != nil {
						return err
					}
				}
				return dropShare(ctx, l, u.Path)
			},
		}},
	}
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
