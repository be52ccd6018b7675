package lane

import (
	"context"
	"encoding/json"
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
	"morvant/internal/plan"
	"morvant/internal/process"
	"morvant/internal/reflink"
	"morvant/internal/rules"
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

// making is what is noted while a lane is being made.
type making struct {
	Dir   string `json:"dir"`
	Fresh bool   `json:"fresh,omitempty"` // the folder is made with it
}

// Create makes a lane in a folder of its own, empty yet, and opens it. l may be any
// lane of the game. The lane stays when Made is called; until then the next command
// takes it back if this run is killed.
func (l *Lane) Create(ctx context.Context, n NewLane) (*Lane, error) {
	dir, err := l.folderFor(ctx, n)
	if err != nil {
		return nil, err
	}
	list, err := os.ReadDir(dir)
	if err == nil && len(list) > 0 {
		return nil, fmt.Errorf("%s: %w", dir, ErrInTheWay)
	}
	fresh := volume.Absent(err)
	if err := l.home.Begin(ctx, l.Game.Name, n.Name, game.BegunNew, game.NewUID(), making{dir, fresh}); err != nil {
		return nil, err
	}
	o, err := l.make(ctx, n, dir)
	if err != nil {
		undo := l.home.End(ctx, l.Game.Name, n.Name, game.BegunNew)
		if fresh {
			undo = errors.Join(undo, ignoreMissing(os.Remove(dir)))
		}
		return nil, errors.Join(err, undo)
	}
	return o, nil
}

func (l *Lane) make(ctx context.Context, n NewLane, dir string) (*Lane, error) {
	if err := volume.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if err := volume.Own(dir, filepath.Dir(dir)); err != nil {
		return nil, err
	}
	return l.admit(ctx, n, dir)
}

// Oddities lists what is in the lane and cannot be recorded.
func (l *Lane) Oddities(ctx context.Context) ([]scan.Oddity, error) {
	t, err := l.walk(ctx)
	if err != nil {
		return nil, err
	}
	return t.Odd, nil
}

// Made ends the making of a lane: it stays.
func (l *Lane) Made(ctx context.Context) error {
	return l.home.End(ctx, l.Game.Name, l.Name, game.BegunNew)
}

// CheckAdopt returns the full path of a folder that could be adopted, or says why it
// cannot.
func (l *Lane) CheckAdopt(ctx context.Context, n NewLane) (string, error) {
	dir, err := l.folderFor(ctx, n)
	if err != nil {
		return "", err
	}
	if other := laneAt(dir); other != (identity{}) && other != (identity{l.Game.Name, n.Name}) {
		return "", fmt.Errorf("%s is lane %s of %s, or was: %w (remove %s if it is not any more)",
			dir, other.lane, other.game, ErrInTheWay, filepath.Join(dir, markerFile))
	}
	return l.checkPlace(ctx, n, dir)
}

// Adopt makes a lane of a folder that is there already, and opens it; see Made.
func (l *Lane) Adopt(ctx context.Context, n NewLane) (*Lane, error) {
	dir, err := l.CheckAdopt(ctx, n)
	if err != nil {
		return nil, err
	}
	if err := l.home.Begin(ctx, l.Game.Name, n.Name, game.BegunNew, game.NewUID(), making{Dir: dir}); err != nil {
		return nil, err
	}
	o, err := l.admit(ctx, n, dir)
	if err != nil {
		return nil, errors.Join(err, l.home.End(ctx, l.Game.Name, n.Name, game.BegunNew))
	}
	return o, nil
}

// checkPlace returns the full path of a folder that can be a lane's.
func (l *Lane) checkPlace(ctx context.Context, n NewLane, dir string) (string, error) {
	dir, err := l.home.CheckFolder(ctx, l.Game.Name, n.Name, dir)
	if err != nil {
		return "", err
	}
	if err := l.theirs(dir); err != nil {
		return "", err
	}
	around := filepath.Dir(l.Game.Live)
	if same, err := volume.SameDisk(dir, around); err != nil {
		return "", err
	} else if !same && !n.Linked {
		return "", fmt.Errorf("%s: %w than the live folder, and so can only be linked to: --linked", dir, ErrOtherDisk)
	}
	if n.Linked {
		return dir, volume.CanLink(around, dir)
	}
	return dir, nil
}

func (l *Lane) admit(ctx context.Context, n NewLane, dir string) (*Lane, error) {
	dir, err := l.checkPlace(ctx, n, dir)
	if err != nil {
		return nil, err
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
	o, err := l.besideAs(is)
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
	if !delete {
		if err := l.home.ForgetLane(ctx, l.Game.Name, l.Name); err != nil {
			return kept, err
		}
		return kept, ignoreMissing(l.root.RemoveAll(markerFile))
	}
	if err := l.root.Close(); err != nil {
		return kept, err
	}
	l.root = nil
	// Noted without the lane's name, which is forgotten first.
	r := removing{Lane: l.Name, Dir: l.Dir, Build: kept.UID}
	if err := l.home.Begin(ctx, l.Game.Name, "", game.BegunRemove, game.NewUID(), r); err != nil {
		return kept, err
	}
	return kept, l.remove(ctx, r)
}

// removing is what is noted while a lane is being removed with its files.
type removing struct {
	Lane  string `json:"lane"`
	Dir   string `json:"dir"`
	Build string `json:"build"` // the snapshot of all that was in it
}

// remove forgets a lane and deletes those of its files that are as the snapshot has
// them. It can be repeated.
func (l *Lane) remove(ctx context.Context, r removing) error {
	if err := l.home.ForgetLane(ctx, l.Game.Name, r.Lane); err != nil {
		return err
	}
	b, err := l.home.RecordedBuild(ctx, l.Game.Name, r.Build)
	if err != nil {
		return err
	}
	c, err := l.recorded(ctx, b)
	if err != nil {
		return err
	}
	left, err := removeKnown(ctx, r.Dir, c.state(), l.Game.Rules().Matcher())
	if err != nil {
		return err
	}
	if left > 0 {
		l.meter.Warn(fmt.Sprintf("%d files in %s are not as they were recorded, and stay", left, r.Dir))
	}
	return l.home.End(ctx, l.Game.Name, "", game.BegunRemove)
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
func (l *Lane) Discard(ctx context.Context) error {
	begun, err := l.begunHere(ctx, game.BegunNew)
	if err != nil || begun == nil {
		return err
	}
	var m making
	if err := json.Unmarshal(begun.Body, &m); err != nil {
		return err
	}
	if err := l.home.ForgetLane(ctx, l.Game.Name, l.Name); err != nil {
		return err
	}
	if m.Fresh {
		err = l.root.RemoveAll(manifest.PrivateDir)
	} else {
		err = ignoreMissing(l.root.Remove(markerFile))
	}
	err = errors.Join(err, l.root.Close())
	l.root = nil
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
func (l *Lane) Rename(ctx context.Context, name string) error {
	if err := l.mayChange(); err != nil {
		return err
	}
	r := renaming{l.Name, name}
	if err := l.home.Begin(ctx, l.Game.Name, l.Name, game.BegunRename, game.NewUID(), r); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	if err := l.home.RenameLane(ctx, l.Game.Name, l.Name, name); err != nil {
		return errors.Join(err, l.home.End(ctx, l.Game.Name, l.Name, game.BegunRename))
	}
	l.Name = name
	return l.renamed(ctx, r)
}

// renamed does what is left once the state knows a lane by its new name. It can be
// repeated.
func (l *Lane) renamed(ctx context.Context, r renaming) error {
	if err := l.cache.Rename(ctx, game.CacheKey(l.Game.Name, r.From), game.CacheKey(l.Game.Name, r.To)); err != nil {
		return err
	}
	if err := l.mark(ctx, false); err != nil {
		return err
	}
	to := game.ParkedName(l.Game.Live, r.To)
	_, err := os.Lstat(to)
	if !l.Live && l.Dir == game.ParkedName(l.Game.Live, r.From) && volume.Absent(err) {
		if err := l.moveTo(ctx, to); err != nil {
			l.meter.Warn(fmt.Sprintf("the folder of lane %s keeps its name: %v", r.To, err))
		}
	}
	return l.home.End(ctx, l.Game.Name, r.To, game.BegunRename)
}

// moveTo renames the lane's folder.
func (l *Lane) moveTo(ctx context.Context, to string) error {
	if err := l.root.Close(); err != nil {
		return err
	}
	l.root = nil
	if err := process.Rename(l.Dir, to); err != nil {
		return err
	}
	if err := syncFolders(filepath.Dir(l.Dir), filepath.Dir(to)); err != nil {
		return err
	}
	is, err := l.home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	is.Place, l.Dir = to, to
	return l.home.SetLane(ctx, l.Game.Name, l.Name, is.LaneState)
}

// recoverLanes ends what an earlier run has left half-way of making, renaming or
// removing a lane.
func (l *Lane) recoverLanes(ctx context.Context) error {
	list, err := l.home.Begun(ctx, l.Game.Name)
	if err != nil {
		return err
	}
	for _, b := range list {
		switch b.Kind {
		case game.BegunNew:
			err = l.recoverNew(ctx, b)
		case game.BegunRename:
			err = l.recoverRename(ctx, b)
		case game.BegunRemove:
			var r removing
			if err = json.Unmarshal(b.Body, &r); err == nil {
				if err = l.remove(ctx, r); err == nil {
					l.tell("The removal of lane %s had been interrupted; it is finished now.", r.Lane)
				}
			}
		}
		if err != nil {
			l.tell("What had begun with a lane cannot be ended yet: %v.", err)
		}
	}
	return nil
}

// recoverNew keeps a lane that has come to hold its build, and takes any other back.
func (l *Lane) recoverNew(ctx context.Context, b game.Begun) error {
	var m making
	if err := json.Unmarshal(b.Body, &m); err != nil {
		return err
	}
	is, err := l.home.Lane(ctx, l.Game.Name, b.Lane)
	if errors.Is(err, game.ErrUnknown) {
		game.SweepProbes(m.Dir)
		if m.Fresh {
			_ = os.Remove(m.Dir) // if somebody has put something there, it stays
		}
		return l.home.End(ctx, l.Game.Name, b.Lane, game.BegunNew)
	}
	if err != nil {
		return err
	}
	o, err := l.beside(ctx, is)
	if errors.Is(err, ErrGone) {
		return l.home.ForgetLane(ctx, l.Game.Name, b.Lane)
	}
	if err != nil {
		return err
	}
	if o.Unfinished != nil {
		return errors.Join(o.Unfinished, o.Close())
	}
	pin, err := l.home.Pin(ctx, l.Game.Name, b.Lane)
	switch {
	case err != nil:
	case pin.Held():
		if err = o.Made(ctx); err == nil {
			l.tell("The making of lane %s had been interrupted; it is finished now.", b.Lane)
		}
	default:
		if err = o.Discard(ctx); err == nil {
			l.tell("The making of lane %s had been interrupted; it is taken back.", b.Lane)
		}
	}
	return errors.Join(err, o.Close())
}

func (l *Lane) recoverRename(ctx context.Context, b game.Begun) error {
	var r renaming
	if err := json.Unmarshal(b.Body, &r); err != nil {
		return err
	}
	if b.Lane == r.From { // nothing had happened yet
		return l.home.End(ctx, l.Game.Name, b.Lane, game.BegunRename)
	}
	is, err := l.home.Lane(ctx, l.Game.Name, r.To)
	if err != nil {
		return err
	}
	// The folder may be where it was, or moved already.
	if moved := game.ParkedName(l.Game.Live, r.To); !is.Live && laneAt(moved) == (identity{l.Game.Name, r.To}) && is.Place == game.ParkedName(l.Game.Live, r.From) {
		is.Place = moved
		if err := l.home.SetLane(ctx, l.Game.Name, r.To, is.LaneState); err != nil {
			return err
		}
	}
	o, err := l.beside(ctx, is)
	if err != nil {
		return err
	}
	if err := errors.Join(o.renamed(ctx, r), o.Close()); err != nil {
		return err
	}
	l.tell("The renaming of lane %s to %s had been interrupted; it is finished now.", r.From, r.To)
	return nil
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
		if o.root == nil {
			g.Err = fmt.Errorf("%s: %w", o.Dir, ErrGone)
			continue
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
	src, err := volume.Open(filepath.Join(dir, filepath.FromSlash(markerFile)))
	if err != nil {
		return false
	}
	defer src.Close()
	name := path.Join(manifest.PrivateDir, "probe-"+game.NewUID())
	defer l.root.Remove(name)
	probe, err := reflink.File(l.root, name, src)
	return err == nil && probe.Close() == nil
}
