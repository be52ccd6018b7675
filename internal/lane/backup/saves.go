package backup

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/oplog"
	"morvant/internal/plan"
	"morvant/internal/saves"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// ErrNone is returned where the settings name no saves, or none are there.
var ErrNone = errors.New("no saves are known")

// Archive returns what records and brings back the saves of the lane's game.
func Archive(l *lane.Lane) *saves.Archive {
	return &saves.Archive{Dir: l.Dir, Store: l.Store, Cache: l.Cache, Meter: l.Meter, Now: l.Now, Names: l.Names(), Lost: lane.LostBy(l)}
}

// carry carries out a change that has been noted under an id.
func carry(ctx context.Context, l *lane.Lane, id string, list []*saves.Return) (err error) {
	k := Archive(l)
	if k.By, err = lane.Origin(ctx, l); err != nil {
		return err
	}
	k.ID = id
	return k.Carry(ctx, list)
}

// recoverIn ends such a change, of a lane in a folder.
func recoverIn(ctx context.Context, l *lane.Lane, dir, id string, places []saves.Place) error {
	k := Archive(l)
	k.ID, k.Dir = id, dir
	return k.Recover(ctx, places)
}

// TakeBack takes back what was being changed in the saves by a home that has been put back to before that.
func TakeBack(ctx context.Context, l *lane.Lane) error {
	places, _, err := Find(ctx, l)
	if err != nil {
		return err
	}
	return Archive(l).Recover(ctx, places)
}

// Find lists the folders of the game's saves, and the patterns that match none.
func Find(ctx context.Context, l *lane.Lane) (places []saves.Place, none []string, err error) {
	if len(l.Game.Saves) == 0 {
		return nil, nil, nil
	}
	f, err := Finder(ctx, l.Home, l.Game, l.Name, l.Dir)
	if err != nil {
		return nil, nil, err
	}
	return f.Find()
}

// Led lists the places of the game's saves that are reached by a link.
func Led(ctx context.Context, l *lane.Lane) ([]saves.Led, error) {
	f, err := Finder(ctx, l.Home, l.Game, l.Name, l.Dir)
	if err != nil {
		return nil, err
	}
	return f.Led(l.Game.Saves), nil
}

// back plans to bring a backup back, to where its folders are now.
func back(ctx context.Context, l *lane.Lane, b *saves.Backup) (*saves.Backup, []*saves.Return, error) {
	f, err := Finder(ctx, l.Home, l.Game, l.Name, l.Dir)
	if err != nil {
		return nil, nil, err
	}
	if b, err = f.Settle(b); err != nil {
		return nil, nil, err
	}
	list, err := Archive(l).Propose(ctx, b)
	return b, list, err
}

// Finder returns what finds the saves of a game, for its lane in dir.
func Finder(ctx context.Context, home *game.Home, g *game.Game, lane, dir string) (saves.Finder, error) {
	f := saves.Finder{Patterns: g.Saves, Dir: dir, Own: []string{home.Dir()}}
	f.Home, _ = os.UserHomeDir() // without one, a path with ~ is simply not found
	lanes, err := home.Lanes(ctx, g.Name)
	if err != nil {
		return f, err
	}
	for _, o := range lanes {
		if dir := g.Folder(o); o.Name != lane && dir != "" {
			f.Own = append(f.Own, dir)
		}
	}
	return f, nil
}

// Make records the saves as they are now. fresh is false where the newest
// backup holds the same already, and is returned. Without saves it returns nil.
func Make(ctx context.Context, l *lane.Lane, why string) (b *saves.Backup, fresh bool, err error) {
	places, _, err := Find(ctx, l)
	if err != nil || len(places) == 0 {
		return nil, false, err
	}
	list, err := l.Home.Backups(ctx, l.Game.Name)
	if err != nil {
		return nil, false, err
	}
	k := Archive(l)
	k.Follow, k.Last = true, newest(l, list, "")
	if b, err = k.Record(ctx, places); err != nil {
		return nil, false, fmt.Errorf("the saves: %w", err)
	}
	for i, text := range b.LeftOut {
		if i == few {
			l.Meter.Warn(fmt.Sprintf("the backup leaves out %d more entries of the saves", len(b.LeftOut)-few))
			break
		}
		l.Meter.Warn("the backup leaves out: " + text)
	}
	if len(list) > 0 && list[0].Same(b) {
		list[0].LeftOut = b.LeftOut
		return list[0], false, nil
	}
	if i := slices.IndexFunc(list, b.Same); i >= 0 {
		b.Build = list[i].Build // which wrote them, whatever is held now
	} else if _, build, err := l.Pin(ctx); err == nil && build != nil {
		b.Build = build.Label
	}
	if b.Doubt != "" && len(b.LeftOut) == 0 {
		l.Meter.Warn("the saves look damaged, and this backup of them is marked suspect: " + b.Doubt)
	}
	b.Game, b.Lane, b.Why = l.Game.Name, l.Name, why
	return b, true, l.Home.AddBackup(ctx, b)
}

// newest returns the newest backup that has saves of the lane and is whole, of a build if that is named; nil: there is none.
func newest(l *lane.Lane, list []*saves.Backup, build string) *saves.Backup {
	return newestOf(l, list, func(b *saves.Backup) bool { return b.Doubt == "" && (build == "" || b.Build == build) })
}

func newestOf(l *lane.Lane, list []*saves.Backup, fits func(*saves.Backup) bool) *saves.Backup {
	for _, b := range list {
		if b.Files > 0 && fits(b) && (!l.Game.SavesPerLane || b.Lane == l.Name) {
			return b
		}
	}
	return nil
}

// Newest proposes to bring back the newest whole backup that differs from the saves of now; of a build if that is named. b is nil if there is none.
func Newest(ctx context.Context, l *lane.Lane, build string) (b *saves.Backup, c *Change, err error) {
	list, err := l.Home.Backups(ctx, l.Game.Name)
	if err != nil {
		return nil, nil, err
	}
	for b = newest(l, list, build); b != nil; b = newest(l, list, build) {
		if c, err = Propose(ctx, l, b); err != nil || !c.Empty() {
			return b, c, err
		}
		if build != "" {
			return nil, nil, nil // they are there
		}
		list = list[slices.Index(list, b)+1:]
	}
	return nil, nil, nil
}

// few is how many things of a kind are named.
const few = 5

// Whole returns an error if a backup that has just been taken leaves something out:
// then the saves are not moved.
func Whole(b *saves.Backup) error {
	if b == nil || len(b.LeftOut) == 0 {
		return nil
	}
	return fmt.Errorf("%w: %s", saves.ErrLeftOut, b.LeftOut[0])
}

// Guard backs up the saves before something else is changed. Those of a parked
// lane are not in use, or are in its folder and so in the plan.
func Guard(ctx context.Context, l *lane.Lane, c *state.Change) error {
	if !l.Live {
		return nil
	}
	what := lane.Describe(c)
	_, _, err := Make(ctx, l, "before "+lane.LowerFirst(what))
	return err
}

// Change is a change of the saves that has been planned.
type Change struct {
	Returns []*saves.Return
	Now     *saves.Backup // the saves as they are; nil if there are none
	backup  *saves.Backup // what they are to be; nil: nothing
	// Elsewhere says where the saves are that are found now, if those of the backup lay in another folder: a
	// link leads to another profile now, say. These stay as they are.
	Elsewhere []string
}

// Empty reports whether nothing would change.
func (c *Change) Empty() bool {
	return !slices.ContainsFunc(c.Returns, func(r *saves.Return) bool { return !r.Plan.Empty() })
}

// Places lists the folders in which something would change, by full path.
func (c *Change) Places(dir string) []string {
	var list []string
	for _, r := range c.Returns {
		list = append(list, r.Place.In(dir))
	}
	return list
}

// Copies counts the saves that were one with a file elsewhere and come back as files of their own.
func (c *Change) Copies() int {
	n := 0
	for _, r := range c.Returns {
		n += r.Copies
	}
	return n
}

// Steps lists what would change, by full path.
func (c *Change) Steps(dir string) []plan.Step {
	var list []plan.Step
	for _, r := range c.Returns {
		for _, s := range r.Plan.Steps {
			s.Path = filepath.Join(r.Place.In(dir), filepath.FromSlash(s.Path))
			list = append(list, s)
		}
	}
	return list
}

// Propose plans to bring a backup back. Folders of saves that are there now and
// not in it are emptied, unless its own lay elsewhere.
func Propose(ctx context.Context, l *lane.Lane, b *saves.Backup) (*Change, error) {
	places, _, err := Find(ctx, l)
	if err != nil {
		return nil, err
	}
	c := &Change{}
	if b != nil {
		if c.backup, c.Returns, err = back(ctx, l, b); err != nil {
			return nil, err
		}
		b = c.backup
	}
	var rest []saves.Place
	for _, p := range places {
		if b == nil || !slices.ContainsFunc(b.Parts, func(o saves.Part) bool { return o.Place == p }) {
			rest = append(rest, p)
		}
	}
	if b != nil && len(rest) > 0 && slices.ContainsFunc(b.Parts, func(o saves.Part) bool { return o.Only == "" && !slices.Contains(places, o.Place) }) {
		for _, p := range rest {
			c.Elsewhere = append(c.Elsewhere, p.In(l.Dir))
		}
		return c, nil
	}
	empty, err := Archive(l).ProposeEmpty(ctx, rest)
	c.Returns = append(empty, c.Returns...)
	return c, err
}

// CarryOut backs the saves up, and carries out a change of them. Killed at any
// point, the next Open finishes it.
func CarryOut(ctx context.Context, l *lane.Lane, c *Change, why string) error {
	if err := l.MayChange(); err != nil {
		return err
	}
	note := &state.Restoring{UID: state.NewUID()}
	for _, r := range c.Returns {
		if err := mayChange(r.Place.In(l.Dir)); err != nil && !r.Plan.Empty() {
			return err
		}
		note.Places = append(note.Places, r.Place)
	}
	if c.backup != nil {
		note.Backup = c.backup.ID
	}
	if err := c.before(ctx, l, why); err != nil {
		return err
	}
	return restoring(l, note, c).Run(ctx, l.Home.State)
}

// mayChange returns an error if nothing can be changed in a folder of saves.
func mayChange(dir string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil // it is made
	}
	defer root.Close()
	switch {
	case volume.Immutable(root, "."):
		return fmt.Errorf("the folder %s: %w", dir, lane.ErrImmutable)
	case !volume.Writable(dir) && !volume.Owned(dir):
		return fmt.Errorf("the folder %s %w", dir, game.ErrProtected)
	}
	return nil
}

// before backs the saves up as they are.
func (c *Change) before(ctx context.Context, l *lane.Lane, why string) (err error) {
	if c.Now, _, err = Make(ctx, l, why); err != nil {
		return err
	}
	return Whole(c.Now)
}

// restoring is a change of the saves, which is finished always; c is nil for one that an earlier run has begun.
func restoring(l *lane.Lane, note *state.Restoring, c *Change) *oplog.Operation {
	op := &oplog.Operation{Game: l.Game.Name, Kind: state.BegunSaves, Body: note, What: "A change of the saves of " + l.Game.Display()}
	op.Steps = []oplog.Step{{Do: func(ctx context.Context) (err error) {
		ctx = context.WithoutCancel(ctx)
		if c == nil {
			if c, err = again(ctx, l, note); err != nil || c == nil {
				op.Told = err == nil
				return err
			}
		}
		if err := carry(ctx, l, note.UID, c.Returns); err != nil || c.backup != nil {
			return err
		}
		return SeenGone(ctx, l) // they were put away
	}}}
	return op
}

// again plans a change of the saves anew that was cut off; nil: the backup that it restored is forgotten.
func again(ctx context.Context, l *lane.Lane, note *state.Restoring) (*Change, error) {
	if err := l.NotRunning(); err != nil {
		return nil, err
	}
	if err := recoverIn(ctx, l, l.Dir, note.UID, note.Places); err != nil {
		return nil, err
	}
	var b *saves.Backup
	if note.Backup != 0 {
		var err error
		if b, err = l.Home.Backup(ctx, l.Game.Name, note.Backup); errors.Is(err, state.ErrUnknown) {
			l.Tell("A change of the saves of %s was interrupted; the backup that it restored is forgotten, and the saves stay as they are.", l.Game.Display())
			return nil, nil
		} else if err != nil {
			return nil, err
		}
	}
	c, err := Propose(ctx, l, b)
	if err == nil {
		err = c.before(ctx, l, "before an interrupted change of the saves was finished")
	}
	return c, err
}

// Unfinished returns the change of the saves that an earlier run has begun.
func Unfinished(l *lane.Lane, b state.Begun) (*oplog.Operation, error) {
	note := &state.Restoring{}
	return restoring(l, note, nil), json.Unmarshal(b.Body, note)
}

// Leave backs the saves up before the lane is parked, and returns the backup's
// number; 0 if there are none.
func Leave(ctx context.Context, l *lane.Lane, to string) (int64, error) {
	b, _, err := Make(ctx, l, "before the switch to lane "+to)
	if err != nil || b == nil {
		return 0, err
	}
	if l.Game.SavesPerLane {
		if err := Whole(b); err != nil {
			return 0, err
		}
	}
	return b.ID, nil
}

// Enter puts the saves in place that the lane is to have, which has just become
// live: its own, where each lane has its own, or those that lay in the other lane's
// folder, where all lanes share them.
func Enter(ctx context.Context, l *lane.Lane, s *state.Switch) error {
	if len(l.Game.Saves) == 0 {
		return nil
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	id := is.LaneState.Saves
	if !l.Game.SavesPerLane {
		id = s.Saves
	}
	if id == 0 {
		return nil
	}
	b, err := l.Home.Backup(ctx, l.Game.Name, id)
	if errors.Is(err, state.ErrUnknown) {
		return nil // it has been forgotten
	}
	if err != nil {
		return err
	}
	if l.Game.SavesPerLane {
		// What lies in the lane's folder has moved with it.
		b = only(b, func(p saves.Place) bool { return !p.Inside })
	} else {
		b = only(b, func(p saves.Place) bool { return p.Inside })
	}
	if len(b.Parts) == 0 {
		return nil
	}
	_, back, err := back(ctx, l, b)
	if err != nil {
		return err
	}
	return carry(ctx, l, s.UID, back)
}

func only(b *saves.Backup, keep func(saves.Place) bool) *saves.Backup {
	c := *b
	c.Parts = slices.DeleteFunc(slices.Clone(b.Parts), func(p saves.Part) bool { return !keep(p.Place) })
	return &c
}

// RecoverEntering ends what a switch that was cut off has begun in the folders of the
// saves.
func RecoverEntering(ctx context.Context, l *lane.Lane, s *state.Switch) error {
	var places []saves.Place
	to, err := l.Home.Lane(ctx, l.Game.Name, s.To)
	if err != nil {
		return err
	}
	for _, id := range []int64{s.Saves, to.LaneState.Saves} {
		if id == 0 {
			continue
		}
		b, err := l.Home.Backup(ctx, l.Game.Name, id)
		if err != nil {
			return err
		}
		for _, p := range b.Parts {
			places = append(places, p.Place)
		}
	}
	return recoverIn(ctx, l, l.Game.Live, s.UID, places)
}
