package lane

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/pelletier/go-toml/v2"

	"morvant/internal/block"
	"morvant/internal/game"
	"morvant/internal/process"
	"morvant/internal/volume"
)

// Errors of switching.
var (
	ErrInTheWay   = errors.New("something is in the way")
	ErrOtherDisk  = errors.New("it is on another disk")
	ErrNotTheLane = errors.New("this folder is not the lane")
	ErrLive       = errors.New("it is the live lane")
)

// Switch parks the lane, which must be the live one, and puts another in its place.
// No file is copied. Killed at any point, the next Open finishes it or takes it back.
// The lane that is live then is returned; l is of no use any more but for Close.
func (l *Lane) Switch(ctx context.Context, name string) (*Lane, error) {
	to, err := l.home.Lane(ctx, l.Game.Name, name)
	if err != nil {
		return nil, err
	}
	from, err := l.home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	if to.Live || !from.Live {
		return nil, fmt.Errorf("%s: %w", to.Name, ErrLive)
	}
	if err := l.findParked(ctx, to); err != nil {
		return nil, err
	}
	s := &game.Switch{From: l.Name, To: to.Name, Place: to.Place, FromLinked: from.Linked, ToLinked: to.Linked, Park: from.Place, UID: game.NewUID()}
	if !from.Linked {
		s.Park = game.ParkedName(l.Game.Live, l.Name)
	}
	if err := l.canSwitch(s); err != nil {
		return nil, err
	}
	// Both tell who they are, for whoever has to find out after a crash.
	if err := l.mark(ctx, false); err != nil {
		return nil, err
	}
	if s.Saves, err = l.leaveSaves(ctx, s.To); err != nil {
		return nil, err
	}
	if err := l.home.BeginSwitch(ctx, l.Game.Name, s); err != nil {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx)
	if err := l.suspendBlock(ctx); err != nil {
		return nil, errors.Join(err, l.settle(ctx))
	}
	// An open folder cannot be renamed on every system.
	if err := l.root.Close(); err != nil {
		return nil, err
	}
	l.root = nil
	if err := changePlaces(s, l.Game); err != nil {
		return nil, errors.Join(err, l.takeBack(ctx, s))
	}
	return l.arrive(ctx, s)
}

// canSwitch checks what can be known before anything is moved.
func (l *Lane) canSwitch(s *game.Switch) error {
	if err := l.mayChange(); err != nil {
		return err
	}
	if err := notRunningIn(s.Place); err != nil {
		return err
	}
	if got := laneAt(s.Place); got != (identity{l.Game.Name, s.To}) {
		return fmt.Errorf("%s: %w %s any more; its marker says otherwise", s.Place, ErrNotTheLane, s.To)
	}
	parent := filepath.Dir(l.Game.Live)
	if same, err := volume.SameDisk(s.Place, parent); err != nil {
		return err
	} else if !same && !s.ToLinked {
		return fmt.Errorf("%s: %w than %s, so that it cannot be moved there", s.Place, ErrOtherDisk, parent)
	}
	if s.ToLinked {
		if err := volume.CanLink(parent, s.Place); err != nil {
			return err
		}
	}
	if !s.FromLinked && s.Park != s.Place {
		if _, err := os.Lstat(s.Park); err == nil {
			return fmt.Errorf("%s, where lane %s is to be parked: %w", s.Park, s.From, ErrInTheWay)
		}
	}
	return nil
}

// arrive ends a switch whose folders have changed places.
func (l *Lane) arrive(ctx context.Context, s *game.Switch) (*Lane, error) {
	if err := l.home.CarrySwitch(ctx, l.Game.Name, s, l.now()); err != nil {
		return nil, err
	}
	is, err := l.home.Lane(ctx, l.Game.Name, s.To)
	if err != nil {
		return nil, err
	}
	next, err := l.beside(ctx, is)
	if err != nil {
		return nil, err
	}
	if err := next.enterSaves(ctx, s); err != nil {
		return nil, errors.Join(err, next.Close())
	}
	if err := next.settle(ctx); err != nil {
		return nil, errors.Join(err, next.Close())
	}
	return next, nil
}

// takeBack ends a switch that could not be made, if everything still stands where
// it did; otherwise the next Open does.
func (l *Lane) takeBack(ctx context.Context, s *game.Switch) error {
	if laneAt(l.Game.Live) != (identity{l.Game.Name, s.From}) {
		return nil
	}
	root, err := l.openFolder(l.Dir)
	if err != nil {
		return err
	}
	l.root = root
	return l.settle(ctx)
}

// settle brings the block to what the live lane wants, and ends the switch.
func (l *Lane) settle(ctx context.Context) error {
	if err := l.resumeBlock(ctx); err != nil {
		l.meter.Warn(fmt.Sprintf("the block is not as it should be: %v; see morvant block --show", err))
	}
	if err := l.mark(ctx, false); err != nil {
		return err
	}
	return l.home.EndSwitch(ctx, l.Game.Name)
}

// recoverSwitch ends a switch that an earlier run did not.
func (l *Lane) recoverSwitch(ctx context.Context) error {
	s, err := l.home.Switching(ctx, l.Game.Name)
	if err != nil || s == nil {
		return err
	}
	if err := l.renewMarkers(s); err != nil {
		return err
	}
	from := identity{l.Game.Name, s.From}
	back := laneAt(l.Game.Live) == from
	if !back {
		if err := changePlaces(s, l.Game); err != nil {
			if back = laneAt(l.Game.Live) == from; !back {
				return fmt.Errorf("an unfinished switch to lane %s: %w", s.To, err)
			}
		}
	}
	if back {
		is, err := l.home.Lane(ctx, l.Game.Name, s.From)
		if err != nil {
			return err
		}
		was, err := l.beside(ctx, is)
		if err != nil {
			return err
		}
		l.tell("The switch of %s to lane %s had been interrupted; it is taken back.", l.Game.Display(), s.To)
		return errors.Join(was.settle(ctx), was.Close())
	}
	if s.Saves != 0 {
		if err := l.recoverEntering(ctx, s); err != nil {
			return err
		}
	}
	next, err := l.arrive(ctx, s)
	if err != nil {
		return err
	}
	l.tell("The switch of %s to lane %s had been interrupted; it is finished now.", l.Game.Display(), s.To)
	return next.Close()
}

// changePlaces moves the lane that is live away and the other one in, from whatever point
// an earlier try has come to.
func changePlaces(s *game.Switch, g *game.Game) error {
	live := g.Live
	from, to := identity{g.Name, s.From}, identity{g.Name, s.To}
	if laneAt(live) == from {
		if err := leave(s, live); err != nil {
			return err
		}
	}
	if _, err := os.Lstat(live); errors.Is(err, fs.ErrNotExist) {
		enter := func() error { return process.Rename(s.Place, live) }
		if s.ToLinked {
			enter = func() error { return process.Patiently(live, func() error { return volume.Link(s.Place, live) }) }
		}
		if err := enter(); err != nil {
			// Better the old lane than none.
			return errors.Join(err, comeBack(s, live))
		}
	}
	if got := laneAt(live); got != to {
		return fmt.Errorf("%s: %w %s", live, ErrNotTheLane, s.To)
	}
	if !s.FromLinked && s.Park != s.Place && leftAt(s, from) {
		if err := process.Rename(s.Place, s.Park); err != nil {
			return err
		}
	}
	return syncFolders(filepath.Dir(live), filepath.Dir(s.Place), filepath.Dir(s.Park))
}

// leftAt reports whether the lane that was live stands where the other one stood. Its marker
// says so; where that cannot be read just now, nothing else can have got there.
func leftAt(s *game.Switch, from identity) bool {
	switch got := laneAt(s.Place); got {
	case from:
		return true
	case identity{}:
		info, err := os.Lstat(s.Place)
		_, parkErr := os.Lstat(s.Park)
		return err == nil && info.IsDir() && volume.Absent(parkErr)
	}
	return false
}

// comeBack puts the lane that was live back to the live path, where there is nothing.
func comeBack(s *game.Switch, live string) error {
	if s.FromLinked {
		return volume.Link(s.Park, live)
	}
	return process.Rename(s.Park, live)
}

// leave takes the lane that is live away from the live path; where the system can,
// the other one is there at once.
func leave(s *game.Switch, live string) error {
	if s.FromLinked {
		if !volume.IsLink(live) {
			return fmt.Errorf("%s: %w, and not a link", live, ErrInTheWay)
		}
		return process.Patiently(live, func() error { return os.Remove(live) })
	}
	if !s.ToLinked {
		if err := volume.Exchange(live, s.Place); !errors.Is(err, volume.ErrUnsupported) {
			return err
		}
	}
	return process.Rename(live, s.Park)
}

func syncFolders(list ...string) error {
	slices.Sort(list)
	for _, dir := range slices.Compact(list) {
		if err := volume.SyncFolder(dir); err != nil {
			return err
		}
	}
	return nil
}

// identity is what a marker says that a folder is.
type identity struct{ game, lane string }

// laneAt reads the marker of a folder; the zero value if there is none.
func laneAt(dir string) identity {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return identity{}
	}
	defer root.Close()
	b, err := volume.ReadIn(root, markerFile, volume.Small)
	if err != nil {
		return identity{}
	}
	var m marker
	if toml.Unmarshal(b, &m) != nil {
		return identity{}
	}
	return identity{m.Game, m.Lane}
}

// renewMarkers writes a marker anew that cannot be read, where the other folder of a
// switch tells which lane this one is.
func (l *Lane) renewMarkers(s *game.Switch) error {
	other := map[identity]string{{l.Game.Name, s.From}: s.To, {l.Game.Name, s.To}: s.From}
	for _, pair := range [][2]string{{l.Game.Live, s.Place}, {s.Place, l.Game.Live}, {l.Game.Live, s.Park}, {s.Park, l.Game.Live}} {
		if lane, known := other[laneAt(pair[1])]; known && brokenMarker(pair[0]) {
			if err := writeMarker(pair[0], marker{Game: l.Game.Name, Lane: lane, State: "free"}); err != nil {
				return err
			}
		}
	}
	return nil
}

// brokenMarker reports whether a folder has a marker that says nothing, as a power cut
// may leave it.
func brokenMarker(dir string) bool {
	info, err := os.Lstat(filepath.Join(dir, filepath.FromSlash(markerFile)))
	return err == nil && info.Mode().IsRegular() && laneAt(dir) == identity{}
}

func writeMarker(dir string, m marker) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	return errors.Join(m.write(root), root.Close())
}

// findParked sees to it that a parked lane is where it is remembered to be. A folder
// that somebody has renamed is found again by its marker, beside where it was.
func (l *Lane) findParked(ctx context.Context, to *game.Lane) error {
	if err := l.find(ctx, to); err != nil {
		return err
	}
	return l.theirs(to.Place)
}

// ErrOtherOwner is returned for a folder that another user of this computer has made.
var ErrOtherOwner = errors.New("it belongs to another user of this computer, and what is in it could be anything")

// theirs returns an error unless a folder is one that a lane's can be: no link, and not
// made by another user in a folder where several may write.
func (l *Lane) theirs(dir string) error {
	switch {
	case volume.IsLink(dir):
		return fmt.Errorf("%s: %w: it is a link", dir, ErrNotTheLane)
	case !volume.Trusted(dir, l.Game.Live):
		return fmt.Errorf("%s: %w", dir, ErrOtherOwner)
	}
	return nil
}

func (l *Lane) find(ctx context.Context, to *game.Lane) error {
	want := identity{l.Game.Name, to.Name}
	if laneAt(to.Place) == want {
		return nil
	}
	if brokenMarker(to.Place) { // the state knows what is there
		return writeMarker(to.Place, marker{Game: want.game, Lane: want.lane, State: "free"})
	}
	if _, err := os.Stat(to.Place); err == nil {
		return fmt.Errorf("%s: %w %s any more; its marker is gone or says otherwise", to.Place, ErrNotTheLane, to.Name)
	}
	for _, dir := range []string{filepath.Dir(to.Place), filepath.Dir(l.Game.Live)} {
		entries, err := os.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			place := filepath.Join(dir, e.Name())
			if e.IsDir() && place != l.Game.Live && laneAt(place) == want && l.theirs(place) == nil {
				l.meter.Warn(fmt.Sprintf("lane %s was renamed; it is %s now", to.Name, place))
				to.Place = place
				return l.home.SetLane(ctx, l.Game.Name, to.Name, to.LaneState)
			}
		}
	}
	return fmt.Errorf("lane %s, %s: %w", to.Name, to.Place, ErrGone)
}

// beside opens another lane of the same game, under the lock that is held already.
func (l *Lane) beside(ctx context.Context, is *game.Lane) (*Lane, error) {
	o, err := l.besideAs(is)
	if err != nil {
		return nil, err
	}
	if err := o.recover(ctx); err != nil {
		o.Unfinished = fmt.Errorf("%w: %w", ErrUnfinished, err)
	}
	return o, nil
}

// besideAs is beside for a lane that is looked at as it is: nothing in its folder is
// recovered.
func (l *Lane) besideAs(is *game.Lane) (*Lane, error) {
	g, err := l.home.Load(l.Game.Name)
	if err != nil {
		return nil, err
	}
	o := &Lane{
		Game: g, base: g, Store: l.Store, Name: is.Name, Dir: l.Game.Folder(is), Live: is.Live,
		home: l.home, cache: l.cache, meter: l.meter, now: l.now, feed: l.feed, borrowed: true,
	}
	o.keepFor(is.Pin)
	if o.root, err = l.openFolder(o.Dir); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			err = fmt.Errorf("lane %s, %s: %w", o.Name, o.Dir, ErrGone)
		}
		return nil, err
	}
	return o, nil
}

// suspendBlock takes off what blocks the launcher outside of the lane's own files,
// for the next lane may want it otherwise. Files that are read-only stay so.
func (l *Lane) suspendBlock(ctx context.Context) error {
	holds, err := l.home.Holds(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	at := l.outside()
	var stay []*block.Hold
	for _, h := range holds {
		if h.Rule.Kind == block.ReadOnly {
			stay = append(stay, h)
			continue
		}
		err := h.Lift(at, false)
		if errors.Is(err, block.ErrTouched) {
			l.meter.Warn(err.Error() + "; it stays as it is")
		} else if err != nil {
			return err
		}
	}
	return l.home.SetHolds(ctx, l.Game.Name, l.Name, stay)
}

// resumeBlock sets again what suspendBlock took off, if the lane is held and blocked.
func (l *Lane) resumeBlock(ctx context.Context) error {
	pin, err := l.home.Pin(ctx, l.Game.Name, l.Name)
	if err != nil || !pin.Held() || pin.Open || len(l.Game.Block) == 0 {
		return err
	}
	holds, err := l.home.Holds(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	at := l.outside()
	for _, r := range l.Game.Block {
		h := heldBy(holds, r)
		switch {
		case h != nil && r.Kind == block.ReadOnly:
			continue // it has stayed
		case r.Kind == block.ReadOnly:
			return l.Block(ctx) // new since the lane was parked
		case h == nil:
			if h, err = block.Prepare(r, at); err != nil {
				return err
			}
			holds = append(holds, h)
		}
		if err := l.home.SetHolds(ctx, l.Game.Name, l.Name, holds); err != nil {
			return err
		}
		if err := h.Set(at); err != nil {
			return err
		}
	}
	return nil
}

// outside is where block rules apply that are not about the build's files.
func (l *Lane) outside() block.Place {
	at := block.Place{Dir: l.Dir}
	at.Home, _ = os.UserHomeDir() // without one, a path with ~ is simply not found
	return at
}
