package lanes

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/change"
	"morvant/internal/lane/guard"
	"morvant/internal/oplog"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// Switch parks the lane, which must be the live one, and puts another in its place.
// No file is copied. Killed at any point, the next Open finishes it or takes it back.
// The lane that is live then is returned; l is of no use any more but for Close.
func Switch(ctx context.Context, l *lane.Lane, name string) (*lane.Lane, error) {
	to, err := l.Home.Lane(ctx, l.Game.Name, name)
	if err != nil {
		return nil, err
	}
	from, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	if to.Live || !from.Live {
		return nil, fmt.Errorf("%s: %w", to.Name, lane.ErrLive)
	}
	if err := l.FindParked(ctx, to); err != nil {
		return nil, err
	}
	s := &state.Switch{From: l.Name, To: to.Name, Place: to.Place, FromLinked: from.Linked, ToLinked: to.Linked, Park: from.Place, UID: state.NewUID()}
	if !from.Linked {
		s.Park = game.ParkedName(l.Game.Live, l.Name)
	}
	if err := canSwitch(l, s); err != nil {
		return nil, err
	}
	// Both tell who they are, for whoever has to find out after a crash.
	if err := l.WriteMarkerAs(ctx, false); err != nil {
		return nil, err
	}
	if s.Saves, err = backup.Leave(ctx, l, s.To); err != nil {
		return nil, err
	}
	w := &switching{Switch: s, l: l, from: l}
	err = w.operation().Run(ctx, l.Home.State)
	if err != nil && w.next != nil {
		return nil, errors.Join(err, w.next.Close())
	}
	return w.next, err
}

// switching is a switch as it is carried out.
type switching struct {
	*state.Switch
	l          *lane.Lane // any lane of the game
	from, next *lane.Lane // the lane that was live; the one that is then
	begun      bool       // by an earlier run
}

// unswitched is the switch that an earlier run has begun.
func unswitched(l *lane.Lane, b state.Begun) (*oplog.Operation, error) {
	w := &switching{Switch: &state.Switch{}, l: l, begun: true}
	if err := json.Unmarshal(b.Body, w.Switch); err != nil {
		return nil, err
	}
	return w.operation(), renewMarkers(l, w.Switch)
}

// operation is the switch: until the live lane has left its place, it can be taken back.
func (w *switching) operation() *oplog.Operation {
	return &oplog.Operation{
		Game: w.l.Game.Name, Kind: state.BegunSwitch, Body: w.Switch, What: fmt.Sprintf("The switch of %s to lane %s", w.l.Game.Display(), w.To),
		Steps: []oplog.Step{
			{Do: w.suspend, Back: w.stay},
			{Do: w.changePlaces, Done: w.gone},
			{Do: w.arrive},
		},
	}
}

func (w *switching) gone(context.Context) (bool, error) {
	return lane.MarkerOf(w.l.Game.Live) != lane.Identity{Game: w.l.Game.Name, Lane: w.From}, nil
}

func (w *switching) suspend(ctx context.Context) error {
	if w.begun {
		return nil
	}
	return guard.Suspend(ctx, w.from)
}

// stay brings the lane that was live back to how it was.
func (w *switching) stay(ctx context.Context) (err error) {
	if w.from != nil && w.from.Root == nil {
		if w.from.Root, err = w.from.OpenFolder(w.from.Dir); err != nil {
			return err
		}
	}
	if w.from != nil {
		return settle(ctx, w.from)
	}
	was, err := w.open(ctx, w.From)
	if err != nil {
		return err
	}
	return errors.Join(settle(ctx, was), was.Close())
}

func (w *switching) open(ctx context.Context, name string) (*lane.Lane, error) {
	is, err := w.l.Home.Lane(ctx, w.l.Game.Name, name)
	if err != nil {
		return nil, err
	}
	return change.BesideAs(ctx, w.l, is)
}

func (w *switching) changePlaces(ctx context.Context) error {
	if w.from != nil { // an open folder cannot be renamed on every system
		if err := w.from.Root.Close(); err != nil {
			return err
		}
		w.from.Root = nil
	} else if err := clearLive(w.l, w.Switch); err != nil {
		return err
	}
	return changePlaces(ctx, w.Switch, w.l.Game)
}

// arrive does what follows once the folders have changed places.
func (w *switching) arrive(ctx context.Context) error {
	if w.begun && w.Saves != 0 {
		if err := backup.RecoverEntering(ctx, w.l, w.Switch); err != nil {
			return err
		}
	}
	if err := w.l.Home.RecordSwitch(ctx, w.l.Game.Name, w.Switch, w.l.Now()); err != nil {
		return err
	}
	next, err := w.open(ctx, w.To)
	if err == nil {
		if err = backup.Enter(ctx, next, w.Switch); err == nil {
			err = settle(ctx, next)
		}
	}
	if next != nil && (err != nil || w.begun) {
		return errors.Join(err, next.Close())
	}
	w.next = next
	return err
}

// canSwitch checks what can be known before anything is moved.
func canSwitch(l *lane.Lane, s *state.Switch) error {
	if err := l.MayChange(); err != nil {
		return err
	}
	if err := lane.NotRunningIn(s.Place); err != nil {
		return err
	}
	if got := lane.MarkerOf(s.Place); got != (lane.Identity{Game: l.Game.Name, Lane: s.To}) {
		return fmt.Errorf("%s: %w %s any more; its marker says otherwise", s.Place, lane.ErrNotTheLane, s.To)
	}
	parent := filepath.Dir(l.Game.Live)
	if same, err := volume.SameDisk(s.Place, parent); err != nil {
		return err
	} else if !same && !s.ToLinked {
		return fmt.Errorf("%s: %w than %s, so that it cannot be moved there", s.Place, lane.ErrOtherDisk, parent)
	}
	if s.ToLinked {
		if err := volume.CanLink(parent, s.Place); err != nil {
			return err
		}
	}
	if !s.FromLinked && volume.IsLink(l.Game.Live) {
		return fmt.Errorf("%s is a link to another place, and lanes change places by their folders: tell Morvant where the folder is (its settings, live), or move it back: %w", l.Game.Live, lane.ErrOtherDisk)
	}
	if !s.FromLinked && s.Park != s.Place {
		if _, err := os.Lstat(s.Park); err == nil {
			return fmt.Errorf("%s, where lane %s is to be parked: %w", s.Park, s.From, lane.ErrInTheWay)
		}
	}
	return nil
}

// settle brings the block to what the live lane wants.
func settle(ctx context.Context, l *lane.Lane) error {
	if err := guard.Resume(ctx, l); err != nil {
		l.Meter.Warn(fmt.Sprintf("the block is incomplete: %v; see %s", err, problem.ShowBlock))
	}
	return l.WriteMarkerAs(ctx, false)
}

// clearLive puts aside what somebody has put to the live path while both lanes of a switch that
// was cut off were elsewhere: a launcher that has installed the game anew.
func clearLive(l *lane.Lane, s *state.Switch) error {
	live := l.Game.Live
	at := func(dir, name string) bool { return lane.MarkerOf(dir) == lane.Identity{Game: l.Game.Name, Lane: name} }
	if info, err := os.Lstat(live); err != nil || !info.IsDir() || lane.MarkerOf(live) != (lane.Identity{}) || s.FromLinked || s.ToLinked || !at(s.Place, s.To) || !at(s.Park, s.From) {
		return nil
	}
	aside := beside(live, "found")
	if err := process.Rename(live, aside); err != nil {
		return err
	}
	l.Tell("Somebody put another folder at %s meanwhile; it is now %s.", live, aside)
	return nil
}

// changePlaces moves the lane that is live away and the other one in, from whatever point
// an earlier try has come to.
func changePlaces(ctx context.Context, s *state.Switch, g *game.Game) error {
	live := g.Live
	from, to := lane.Identity{Game: g.Name, Lane: s.From}, lane.Identity{Game: g.Name, Lane: s.To}
	if lane.MarkerOf(live) == from {
		if err := leave(s, live); err != nil {
			return err
		}
		if err := oplog.Point(ctx); err != nil {
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
	if got := lane.MarkerOf(live); got != to {
		return fmt.Errorf("%s: %w %s", live, lane.ErrNotTheLane, s.To)
	}
	if !s.FromLinked && s.Park != s.Place && LeftAt(s, from) {
		if err := process.Rename(s.Place, s.Park); err != nil {
			return err
		}
	}
	return syncFolders(filepath.Dir(live), filepath.Dir(s.Place), filepath.Dir(s.Park))
}

// LeftAt reports whether the lane that was live stands where the other one stood. Its marker
// says so; where that cannot be read just now, nothing else can have got there.
func LeftAt(s *state.Switch, from lane.Identity) bool {
	switch got := lane.MarkerOf(s.Place); got {
	case from:
		return true
	case lane.Identity{}:
		info, err := os.Lstat(s.Place)
		_, parkErr := os.Lstat(s.Park)
		return err == nil && info.IsDir() && volume.Absent(parkErr)
	}
	return false
}

// comeBack puts the lane that was live back to the live path, where there is nothing.
func comeBack(s *state.Switch, live string) error {
	if s.FromLinked {
		return volume.Link(s.Park, live)
	}
	return process.Rename(s.Park, live)
}

// leave takes the lane that is live away from the live path; where the system can,
// the other one is there at once.
func leave(s *state.Switch, live string) error {
	if s.FromLinked {
		if !volume.IsLink(live) {
			return fmt.Errorf("%s: %w, and not a link", live, lane.ErrInTheWay)
		}
		return process.Patiently(live, func() error { return os.Remove(live) })
	}
	if !s.ToLinked {
		if err := volume.Exchange(live, s.Place); err != nil && !errors.Is(err, volume.ErrUnsupported) {
			return fmt.Errorf("%s and %s cannot change places: %w", live, s.Place, err)
		} else if err == nil {
			return nil
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

// renewMarkers writes a marker anew that cannot be read, where the other folder of a
// switch tells which lane this one is.
func renewMarkers(l *lane.Lane, s *state.Switch) error {
	names := map[lane.Identity]string{{Game: l.Game.Name, Lane: s.From}: s.To, {Game: l.Game.Name, Lane: s.To}: s.From}
	for _, pair := range [][2]string{{l.Game.Live, s.Place}, {s.Place, l.Game.Live}, {l.Game.Live, s.Park}, {s.Park, l.Game.Live}} {
		if other, known := names[lane.MarkerOf(pair[1])]; known && lane.BrokenMarker(pair[0]) {
			if err := lane.WriteMarker(pair[0], lane.Marker{Game: l.Game.Name, Lane: other, State: "free"}); err != nil {
				return err
			}
		}
	}
	return nil
}
