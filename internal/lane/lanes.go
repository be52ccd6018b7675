package lane

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"

	"morvant/internal/apply"
	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/manifest"
	"morvant/internal/process"
	"morvant/internal/reflink"
	"morvant/internal/scan"
	"morvant/internal/volume"
)

// ErrFollowed is returned for a second lane that would take the launcher's updates.
var ErrFollowed = errors.New("another lane follows updates already, and only one may")

// NewLane says what lane to make.
type NewLane struct {
	Name   string
	Dir    string // where it is parked; empty: beside the live folder
	Linked bool   // it stays there, also when it is live
}

// folderFor returns the folder for a new lane, which is not there yet or empty.
func (l *Lane) folderFor(ctx context.Context, n NewLane) (string, error) {
	if err := game.CheckLaneName(n.Name); err != nil {
		return "", err
	}
	lanes, err := l.home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return "", err
	}
	if slices.ContainsFunc(lanes, func(o *game.Lane) bool { return o.Name == n.Name }) {
		return "", fmt.Errorf("a lane named %s is %w", n.Name, game.ErrExists)
	}
	dir := n.Dir
	if dir == "" {
		dir = game.ParkedName(l.Game.Live, n.Name)
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return "", err
	}
	return dir, nil
}

// Create makes a lane in a folder of its own, empty yet, and opens it. l may be any
// lane of the game.
func (l *Lane) Create(ctx context.Context, n NewLane) (*Lane, error) {
	dir, err := l.folderFor(ctx, n)
	if err != nil {
		return nil, err
	}
	if list, err := os.ReadDir(dir); err == nil && len(list) > 0 {
		return nil, fmt.Errorf("%s: %w", dir, ErrInTheWay)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	return l.admit(ctx, n, dir)
}

// Adopt makes a lane of a folder that is there already, and opens it.
func (l *Lane) Adopt(ctx context.Context, n NewLane) (*Lane, error) {
	dir, err := l.folderFor(ctx, n)
	if err != nil {
		return nil, err
	}
	if other := laneAt(dir); other != (identity{}) && other != (identity{l.Game.Name, n.Name}) {
		return nil, fmt.Errorf("%s is lane %s of %s, or was: %w (remove %s if it is not any more)",
			dir, other.lane, other.game, ErrInTheWay, filepath.Join(dir, markerFile))
	}
	return l.admit(ctx, n, dir)
}

func (l *Lane) admit(ctx context.Context, n NewLane, dir string) (*Lane, error) {
	dir, err := l.home.CheckFolder(ctx, l.Game.Name, n.Name, dir)
	if err != nil {
		return nil, err
	}
	if same, err := volume.SameDisk(dir, filepath.Dir(l.Game.Live)); err != nil {
		return nil, err
	} else if !same && !n.Linked {
		return nil, fmt.Errorf("%s: %w than the live folder, and so can only be linked to: --linked", dir, ErrOtherDisk)
	}
	if err := l.keepFollowing(ctx); err != nil {
		return nil, err
	}
	if err := l.home.SetLane(ctx, l.Game.Name, n.Name, game.LaneState{Place: dir, Linked: n.Linked}); err != nil {
		return nil, err
	}
	is, err := l.home.Lane(ctx, l.Game.Name, n.Name)
	if err != nil {
		return nil, err
	}
	o, err := l.beside(ctx, is)
	if err != nil {
		return nil, err
	}
	return o, o.mark(ctx, false)
}

// keepFollowing writes down that the only lane there is follows updates, before
// there is another.
func (l *Lane) keepFollowing(ctx context.Context) error {
	lanes, err := l.home.Lanes(ctx, l.Game.Name)
	if err != nil || len(lanes) > 1 {
		return err
	}
	return l.home.SetLane(ctx, l.Game.Name, lanes[0].Name, lanes[0].LaneState)
}

// Remove forgets the lane, which must not be the live one. Its files stay, unless
// delete says otherwise; then everything in it is recorded as a snapshot first,
// which is returned.
func (l *Lane) Remove(ctx context.Context, delete bool) (*game.Build, error) {
	if l.Live {
		return nil, fmt.Errorf("%s: %w", l.Name, ErrLive)
	}
	if err := l.mayChange(); err != nil {
		return nil, err
	}
	if err := l.Unblock(ctx, true); err != nil {
		return nil, err
	}
	var kept *game.Build
	if delete {
		label, err := l.FreeLabel(ctx, "lane-"+l.Name)
		if err != nil {
			return nil, err
		}
		s, err := l.Snapshot(ctx, label, "all of lane "+l.Name+", before it was removed")
		if err != nil {
			return nil, err
		}
		if len(s.Odd) > 0 {
			return s.Build, fmt.Errorf("%s is %s and cannot be recorded; take it away first, or keep the files", s.Odd[0].Path, s.Odd[0].What)
		}
		kept = s.Build
	}
	ctx = context.WithoutCancel(ctx)
	if err := l.home.ForgetLane(ctx, l.Game.Name, l.Name); err != nil {
		return kept, err
	}
	if !delete {
		return kept, l.root.RemoveAll(markerFile)
	}
	if err := l.root.Close(); err != nil {
		return kept, err
	}
	l.root = nil
	return kept, os.RemoveAll(l.Dir)
}

// Discard takes back a lane that has just been created, with its folder.
func (l *Lane) Discard(ctx context.Context) error {
	if err := l.home.ForgetLane(ctx, l.Game.Name, l.Name); err != nil {
		return err
	}
	err := l.root.Close()
	l.root = nil
	return errors.Join(err, os.RemoveAll(l.Dir))
}

// Rename gives the lane another name, and its folder where that is named for it.
func (l *Lane) Rename(ctx context.Context, name string) error {
	if err := l.home.RenameLane(ctx, l.Game.Name, l.Name, name); err != nil {
		return err
	}
	if err := l.cache.Rename(ctx, l.cacheKey(), game.CacheKey(l.Game.Name, name)); err != nil {
		return err
	}
	was := l.Name
	l.Name = name
	if err := l.mark(ctx, false); err != nil {
		return err
	}
	to := game.ParkedName(l.Game.Live, name)
	if l.Live || l.Dir != game.ParkedName(l.Game.Live, was) || laneAt(to) != (identity{}) {
		return nil
	}
	if err := l.root.Close(); err != nil {
		return err
	}
	l.root = nil
	if err := process.Rename(l.Dir, to); err != nil {
		return err
	}
	is, err := l.home.Lane(ctx, l.Game.Name, name)
	if err != nil {
		return err
	}
	is.Place = to
	return l.home.SetLane(ctx, l.Game.Name, name, is.LaneState)
}

// Beside opens another lane of the same game, which must be closed before l is.
func (l *Lane) Beside(ctx context.Context, name string) (*Lane, error) {
	is, err := l.home.Lane(ctx, l.Game.Name, name)
	if err != nil {
		return nil, err
	}
	if !is.Live {
		if err := l.findParked(ctx, is); err != nil {
			return nil, err
		}
	}
	return l.beside(ctx, is)
}

// Glimpse is how a lane stands, for a list.
type Glimpse struct {
	*game.Lane
	Dir    string
	Status *Status // nil if it could not be looked at
	Err    error   // why
	// Shared is how many bytes of its space on disk it shares with other files;
	// negative if the file system does not say.
	Shared int64
}

// Glimpses looks at every lane of the game.
func (l *Lane) Glimpses(ctx context.Context) ([]*Glimpse, error) {
	lanes, err := l.home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	var list []*Glimpse
	for _, is := range lanes {
		g := &Glimpse{Lane: is, Dir: l.Game.Folder(is), Shared: -1}
		list = append(list, g)
		o := l
		if is.Name != l.Name {
			if o, g.Err = l.Beside(ctx, is.Name); g.Err != nil {
				continue
			}
		}
		if g.Status, g.Err = o.Status(ctx); g.Err == nil {
			g.Shared, g.Err = o.sharedSpace(ctx)
		}
		if o != l {
			g.Err = errors.Join(g.Err, o.Close())
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	return list, nil
}

// sharedSpace adds up what the lane's larger files share with others; negative if
// the file system does not say.
func (l *Lane) sharedSpace(ctx context.Context) (int64, error) {
	t, err := l.walk(ctx)
	if err != nil {
		return -1, err
	}
	var n int64
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File || e.Stamp.Size < apply.ShareFrom {
			continue
		}
		f, err := scan.OpenFile(l.root, e.Path)
		if err != nil {
			continue
		}
		shared, err := reflink.Shared(f)
		f.Close()
		if err != nil {
			return -1, nil
		}
		n += shared
	}
	return n, nil
}

// elsewhere finds content in the files of the game's other lanes, to share it with
// this one. Nothing is looked for until the first question.
type elsewhere struct {
	files  map[digest.Digest]place
	others []*Lane
}

type place struct {
	lane *Lane
	path string
}

// open returns a file that holds the content; nil if there is none. The content has
// to be checked by whoever uses it.
func (e *elsewhere) open(d digest.Digest) *os.File {
	at, ok := e.files[d]
	if !ok {
		return nil
	}
	f, err := scan.OpenFile(at.lane.root, at.path)
	if err != nil {
		return nil
	}
	return f
}

func (e *elsewhere) close() {
	for _, o := range e.others {
		o.Close()
	}
}

// otherLanes looks for content in the other lanes of the game on the same disk. A
// lane that cannot be looked at is passed over: it is of help only.
func (l *Lane) otherLanes(ctx context.Context) *elsewhere {
	e := &elsewhere{files: make(map[digest.Digest]place)}
	lanes, err := l.home.Lanes(ctx, l.Game.Name)
	if err != nil || len(lanes) < 2 {
		return e
	}
	for _, is := range lanes {
		dir := l.Game.Folder(is)
		if is.Name == l.Name {
			continue
		}
		if same, err := volume.SameDisk(dir, l.Dir); err != nil || !same || !l.canShare(dir) {
			continue
		}
		o, err := l.beside(ctx, is)
		if err != nil {
			continue
		}
		e.others = append(e.others, o)
		t, err := o.walk(ctx)
		if err != nil {
			continue
		}
		for i := range t.Entries {
			if f := &t.Entries[i]; f.Kind == scan.File && f.Known && f.Stamp.Size >= apply.ShareFrom {
				e.files[f.Digest] = place{o, f.Path}
			}
		}
	}
	return e
}

// canShare tries whether a file of another lane can be shared with this one.
func (l *Lane) canShare(dir string) bool {
	src, err := os.Open(filepath.Join(dir, filepath.FromSlash(markerFile)))
	if err != nil {
		return false
	}
	defer src.Close()
	name := path.Join(manifest.PrivateDir, "probe-"+game.NewUID())
	defer l.root.Remove(name)
	probe, err := reflink.File(l.root, name, src)
	return err == nil && probe.Close() == nil
}
