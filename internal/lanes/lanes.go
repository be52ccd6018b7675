package lanes

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/apply"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/record"
	"morvant/internal/lane/status"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/process"
	"morvant/internal/reflink"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// NewLane says what lane to make.
type NewLane struct {
	Name   string
	Dir    string // where it is parked; empty: beside the live folder
	Linked bool   // it stays there, also when it is live
	Copy   bool   // its marker is that of the lane that it is a copy of
}

// folderFor returns the folder for a new lane, which is not there yet or empty.
func folderFor(ctx context.Context, l *lane.Lane, n NewLane) (string, error) {
	if err := state.CheckLaneName(n.Name); err != nil {
		return "", err
	}
	lanes, err := l.Home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return "", err
	}
	if slices.ContainsFunc(lanes, func(o *state.Lane) bool { return strings.EqualFold(o.Name, n.Name) }) {
		return "", fmt.Errorf("a lane named %s is %w", n.Name, state.ErrExists)
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

// making is what is noted while a lane is being made.
type making struct {
	Dir   string `json:"dir"`
	Fresh bool   `json:"fresh,omitempty"` // the folder is made with it
}

// Create makes a lane in a folder of its own, empty yet, and opens it. l may be any
// lane of the game. The lane stays when Made is called; until then the next command
// takes it back if this run is killed.
func Create(ctx context.Context, l *lane.Lane, n NewLane) (*lane.Lane, error) {
	dir, err := folderFor(ctx, l, n)
	if err != nil {
		return nil, err
	}
	list, err := os.ReadDir(dir)
	if err == nil && len(list) > 0 {
		return nil, fmt.Errorf("%s: %w", dir, lane.ErrInTheWay)
	}
	fresh := volume.Absent(err)
	if err := l.Home.Begin(ctx, l.Game.Name, n.Name, state.BegunNew, state.NewUID(), making{dir, fresh}); err != nil {
		return nil, err
	}
	o, err := make(ctx, l, n, dir)
	if err != nil {
		undo := l.Home.End(ctx, l.Game.Name, n.Name, state.BegunNew)
		if fresh {
			undo = errors.Join(undo, ignoreMissing(os.Remove(dir)))
		}
		return nil, errors.Join(err, undo)
	}
	return o, nil
}

func make(ctx context.Context, l *lane.Lane, n NewLane, dir string) (*lane.Lane, error) {
	if err := volume.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if err := volume.Own(dir, filepath.Dir(dir)); err != nil {
		return nil, err
	}
	return admit(ctx, l, n, dir)
}

// Oddities lists what is in the lane and cannot be recorded.
func Oddities(ctx context.Context, l *lane.Lane) ([]scan.Oddity, error) {
	t, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	return t.Odd, nil
}

// Made ends the making of a lane: it stays.
func Made(ctx context.Context, l *lane.Lane) error {
	return l.Home.End(ctx, l.Game.Name, l.Name, state.BegunNew)
}

// CheckAdopt returns the full path of a folder that could be adopted, or says why it
// cannot.
func CheckAdopt(ctx context.Context, l *lane.Lane, n NewLane) (string, error) {
	dir, err := folderFor(ctx, l, n)
	if err != nil {
		return "", err
	}
	if other := lane.MarkerOf(dir); !n.Copy && other != (lane.Identity{}) && other != (lane.Identity{Game: l.Game.Name, Lane: n.Name}) {
		return "", fmt.Errorf("%s is lane %s of %s, or was: %w (remove %s if it is not any more)",
			dir, other.Lane, other.Game, lane.ErrInTheWay, filepath.Join(dir, lane.MarkerFile))
	}
	return checkPlace(ctx, l, n, dir)
}

// CopyOf names the lane that a folder to be adopted is a copy of: it has that one's marker, and so has the lane, in its own place.
func CopyOf(ctx context.Context, l *lane.Lane, n NewLane) (string, error) {
	dir, err := filepath.Abs(n.Dir)
	if err != nil {
		return "", err
	}
	id := lane.MarkerOf(dir)
	if id.Game != l.Game.Name || id.Lane == n.Name {
		return "", nil
	}
	list, err := l.Home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return "", err
	}
	for _, is := range list {
		at := l.Game.Folder(is)
		if is.Name != id.Lane || lane.MarkerOf(at) != id {
			continue
		}
		a, errA := os.Stat(at)
		b, errB := os.Stat(dir)
		if errA == nil && errB == nil && !os.SameFile(a, b) {
			return id.Lane, nil
		}
	}
	return "", nil
}

// Adopt makes a lane of a folder that is there already, and opens it; see Made.
func Adopt(ctx context.Context, l *lane.Lane, n NewLane) (*lane.Lane, error) {
	dir, err := CheckAdopt(ctx, l, n)
	if err != nil {
		return nil, err
	}
	if err := l.Home.Begin(ctx, l.Game.Name, n.Name, state.BegunNew, state.NewUID(), making{Dir: dir}); err != nil {
		return nil, err
	}
	o, err := admit(ctx, l, n, dir)
	if err != nil {
		return nil, errors.Join(err, l.Home.End(ctx, l.Game.Name, n.Name, state.BegunNew))
	}
	return o, nil
}

// checkPlace returns the full path of a folder that can be a lane's.
func checkPlace(ctx context.Context, l *lane.Lane, n NewLane, dir string) (string, error) {
	dir, err := l.Home.CheckFolder(ctx, l.Game.Name, n.Name, dir)
	if err != nil {
		return "", err
	}
	if err := l.Theirs(dir); err != nil {
		return "", err
	}
	around := filepath.Dir(l.Game.Live)
	if same, err := volume.SameDisk(dir, around); err != nil {
		return "", err
	} else if !same && !n.Linked {
		return "", fmt.Errorf("%s: %w than the live folder, so it can only be linked: add --linked", dir, lane.ErrOtherDisk)
	}
	if n.Linked {
		return dir, volume.CanLink(around, dir)
	}
	return dir, nil
}

func admit(ctx context.Context, l *lane.Lane, n NewLane, dir string) (*lane.Lane, error) {
	dir, err := checkPlace(ctx, l, n, dir)
	if err != nil {
		return nil, err
	}
	if err := keepFollowing(ctx, l); err != nil {
		return nil, err
	}
	if err := l.Home.SetLane(ctx, l.Game.Name, n.Name, state.LaneState{Place: dir, Linked: n.Linked}); err != nil {
		return nil, err
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, n.Name)
	if err != nil {
		return nil, err
	}
	o, err := l.Beside(is)
	if err != nil {
		return nil, err
	}
	return o, o.WriteMarkerAs(ctx, false)
}

// keepFollowing writes down that the only lane there is follows updates, before
// there is another.
func keepFollowing(ctx context.Context, l *lane.Lane) error {
	lanes, err := l.Home.Lanes(ctx, l.Game.Name)
	if err != nil || len(lanes) > 1 {
		return err
	}
	return l.Home.SetLane(ctx, l.Game.Name, lanes[0].Name, lanes[0].LaneState)
}

// Remove forgets the lane, which must not be the live one. Its files stay, unless
// delete says otherwise; then everything in it is recorded as a snapshot first,
// which is returned.
func Remove(ctx context.Context, l *lane.Lane, delete bool) (*state.Build, error) {
	if l.Live {
		return nil, fmt.Errorf("%s: %w", l.Name, lane.ErrLive)
	}
	if err := l.MayChange(); err != nil {
		return nil, err
	}
	left, err := guard.Unblock(ctx, l, true)
	for _, text := range left {
		l.Meter.Warn(text)
	}
	if err != nil {
		return nil, err
	}
	var kept *state.Build
	if delete {
		label, err := record.NextLabel(ctx, l, "lane-"+l.Name)
		if err != nil {
			return nil, err
		}
		s, err := record.Snapshot(ctx, l, record.Wanted{Label: label, Note: "all of lane " + l.Name + ", before it was removed"})
		if err != nil {
			return nil, err
		}
		if len(s.Odd) > 0 {
			return s.Build, fmt.Errorf("%s is %s and cannot be recorded; take it away first, or keep the files", s.Odd[0].Path, s.Odd[0].What)
		}
		kept = s.Build
	}
	ctx = context.WithoutCancel(ctx)
	if !delete {
		if err := forget(ctx, l, l.Name); err != nil {
			return kept, err
		}
		return kept, ignoreMissing(l.Root.RemoveAll(lane.MarkerFile))
	}
	if err := l.Root.Close(); err != nil {
		return kept, err
	}
	l.Root = nil
	// Noted without the lane's name, which is forgotten first.
	r := removing{Lane: l.Name, Dir: l.Dir, Build: kept.UID}
	if err := l.Home.Begin(ctx, l.Game.Name, "", state.BegunRemove, state.NewUID(), r); err != nil {
		return kept, err
	}
	return kept, remove(ctx, l, r)
}

// removing is what is noted while a lane is being removed with its files.
type removing struct {
	Lane  string `json:"lane"`
	Dir   string `json:"dir"`
	Build string `json:"build"` // the snapshot of all that was in it
}

// forget forgets a lane, and what is remembered of its files.
func forget(ctx context.Context, l *lane.Lane, name string) error {
	return errors.Join(l.Home.ForgetLane(ctx, l.Game.Name, name), l.Cache.Forget(ctx, state.CacheKey(l.Game.Name, name)))
}

// remove forgets a lane and deletes those of its files that are as the snapshot has
// them. It can be repeated.
func remove(ctx context.Context, l *lane.Lane, r removing) error {
	if err := forget(ctx, l, r.Lane); err != nil {
		return err
	}
	b, err := l.Home.RecordedBuild(ctx, l.Game.Name, r.Build)
	if err != nil {
		return err
	}
	c, err := compose.Recorded(ctx, l, b)
	if err != nil {
		return err
	}
	left, err := removeKnown(ctx, r.Dir, c.State(), l.Game.Rules().Matcher())
	if err != nil {
		return err
	}
	if left > 0 {
		l.Meter.Warn(fmt.Sprintf("%d files in %s have changed since they were recorded, and stay", left, r.Dir))
	}
	return l.Home.End(ctx, l.Game.Name, "", state.BegunRemove)
}

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
		if err := volume.RemoveIn(root, e.Path); err != nil && !volume.Absent(err) {
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

// Discard takes back a lane that has just been created and holds nothing yet, with the
// folder that was made for it.
func Discard(ctx context.Context, l *lane.Lane) error {
	begun, err := l.BegunHere(ctx, state.BegunNew)
	if err != nil || begun == nil {
		return err
	}
	var m making
	if err := json.Unmarshal(begun.Body, &m); err != nil {
		return err
	}
	if err := l.Home.ForgetLane(ctx, l.Game.Name, l.Name); err != nil {
		return err
	}
	if m.Fresh {
		err = l.Root.RemoveAll(manifest.PrivateDir)
	} else {
		err = ignoreMissing(l.Root.Remove(lane.MarkerFile))
	}
	err = errors.Join(err, l.Root.Close())
	l.Root = nil
	if m.Fresh {
		_ = os.Remove(m.Dir) // if somebody has put something there, it stays
	}
	return err
}

// renaming is what is noted while a lane gets another name.
type renaming struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Rename gives the lane another name, and its folder where that is named for it.
func Rename(ctx context.Context, l *lane.Lane, name string) error {
	if err := l.MayChange(); err != nil {
		return err
	}
	r := renaming{l.Name, name}
	if err := l.Home.Begin(ctx, l.Game.Name, l.Name, state.BegunRename, state.NewUID(), r); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	if err := l.Home.RenameLane(ctx, l.Game.Name, l.Name, name); err != nil {
		return errors.Join(err, l.Home.End(ctx, l.Game.Name, l.Name, state.BegunRename))
	}
	l.Name = name
	return renamed(ctx, l, r)
}

// renamed does what is left once the state knows a lane by its new name. It can be
// repeated.
func renamed(ctx context.Context, l *lane.Lane, r renaming) error {
	if err := l.Cache.Rename(ctx, state.CacheKey(l.Game.Name, r.From), state.CacheKey(l.Game.Name, r.To)); err != nil {
		return err
	}
	if err := l.WriteMarkerAs(ctx, false); err != nil {
		return err
	}
	to := game.ParkedName(l.Game.Live, r.To)
	_, err := os.Lstat(to)
	if !l.Live && l.Dir == game.ParkedName(l.Game.Live, r.From) && volume.Absent(err) {
		if err := moveTo(ctx, l, to); err != nil {
			l.Meter.Warn(fmt.Sprintf("the folder of lane %s keeps its name: %v", r.To, err))
		}
	}
	return l.Home.End(ctx, l.Game.Name, r.To, state.BegunRename)
}

// moveTo renames the lane's folder.
func moveTo(ctx context.Context, l *lane.Lane, to string) error {
	if err := l.Root.Close(); err != nil {
		return err
	}
	l.Root = nil
	if err := process.Rename(l.Dir, to); err != nil {
		return err
	}
	if err := syncFolders(filepath.Dir(l.Dir), filepath.Dir(to)); err != nil {
		return err
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	is.Place, l.Dir = to, to
	return l.Home.SetLane(ctx, l.Game.Name, l.Name, is.LaneState)
}

// RecoverLanes ends what an earlier run has left half-way of making, renaming or
// removing a lane.
func RecoverLanes(ctx context.Context, l *lane.Lane) error {
	list, err := l.Home.Begun(ctx, l.Game.Name)
	if err != nil {
		return err
	}
	for _, b := range list {
		switch b.Kind {
		case state.BegunNew:
			err = recoverNew(ctx, l, b)
		case state.BegunRename:
			err = recoverRename(ctx, l, b)
		case state.BegunMove:
			err = recoverMove(ctx, l, b)
		case state.BegunRemove:
			var r removing
			if err = json.Unmarshal(b.Body, &r); err == nil {
				if err = remove(ctx, l, r); err == nil {
					l.Tell("The removal of lane %s was interrupted; Morvant has finished it.", r.Lane)
				}
			}
		}
		if err != nil {
			l.Tell("Something that began with a lane cannot be finished yet: %v.", err)
		}
	}
	return nil
}

// recoverNew keeps a lane that has come to hold its build, and takes any other back.
func recoverNew(ctx context.Context, l *lane.Lane, b state.Begun) error {
	var m making
	if err := json.Unmarshal(b.Body, &m); err != nil {
		return err
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, b.Lane)
	if errors.Is(err, state.ErrUnknown) {
		game.SweepProbes(m.Dir)
		if m.Fresh {
			_ = os.Remove(m.Dir) // if somebody has put something there, it stays
		}
		return l.Home.End(ctx, l.Game.Name, b.Lane, state.BegunNew)
	}
	if err != nil {
		return err
	}
	o, err := change.BesideAs(ctx, l, is)
	if errors.Is(err, lane.ErrGone) {
		return l.Home.ForgetLane(ctx, l.Game.Name, b.Lane)
	}
	if err != nil {
		return err
	}
	if o.Unfinished != nil {
		return errors.Join(o.Unfinished, o.Close())
	}
	pin, err := l.Home.Pin(ctx, l.Game.Name, b.Lane)
	switch {
	case err != nil:
	case pin.Held():
		if err = Made(ctx, o); err == nil {
			l.Tell("The making of lane %s was interrupted; Morvant has finished it.", b.Lane)
		}
	default:
		if err = Discard(ctx, o); err == nil {
			l.Tell("The making of lane %s was interrupted; Morvant has undone it.", b.Lane)
		}
	}
	return errors.Join(err, o.Close())
}

func recoverRename(ctx context.Context, l *lane.Lane, b state.Begun) error {
	var r renaming
	if err := json.Unmarshal(b.Body, &r); err != nil {
		return err
	}
	if b.Lane == r.From { // nothing had happened yet
		return l.Home.End(ctx, l.Game.Name, b.Lane, state.BegunRename)
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, r.To)
	if err != nil {
		return err
	}
	// The folder may be where it was, or moved already.
	if moved := game.ParkedName(l.Game.Live, r.To); !is.Live && lane.MarkerOf(moved) == (lane.Identity{Game: l.Game.Name, Lane: r.To}) && is.Place == game.ParkedName(l.Game.Live, r.From) {
		is.Place = moved
		if err := l.Home.SetLane(ctx, l.Game.Name, r.To, is.LaneState); err != nil {
			return err
		}
	}
	o, err := change.BesideAs(ctx, l, is)
	if err != nil {
		return err
	}
	if err := errors.Join(renamed(ctx, o, r), o.Close()); err != nil {
		return err
	}
	l.Tell("The renaming of lane %s to %s was interrupted; Morvant has finished it.", r.From, r.To)
	return nil
}

// Glimpse is how a lane stands, for a list.
type Glimpse struct {
	*state.Lane
	Dir    string
	Status *status.Status // nil if it could not be looked at
	Err    error          // why
	// Shared is how many bytes of its space on disk it shares with other files;
	// negative if the file system does not say.
	Shared int64
}

// Glimpses looks at every lane of the game.
func Glimpses(ctx context.Context, l *lane.Lane) ([]*Glimpse, error) {
	lanes, err := l.Home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	var list []*Glimpse
	for _, is := range lanes {
		g := &Glimpse{Lane: is, Dir: l.Game.Folder(is), Shared: -1}
		list = append(list, g)
		o := l
		if is.Name != l.Name {
			if o, g.Err = change.Beside(ctx, l, is.Name); g.Err != nil {
				continue
			}
		}
		if o.Root == nil {
			g.Err = fmt.Errorf("%s: %w", o.Dir, lane.ErrGone)
			continue
		}
		if g.Status, g.Err = status.Of(ctx, o, status.Glance); g.Err == nil {
			g.Shared, g.Err = sharedSpace(ctx, o)
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
func sharedSpace(ctx context.Context, l *lane.Lane) (int64, error) {
	t, err := l.Walk(ctx)
	if err != nil {
		return -1, err
	}
	var n int64
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File || e.Stamp.Size < apply.ShareFrom {
			continue
		}
		f, err := scan.OpenFile(l.Root, e.Path)
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
