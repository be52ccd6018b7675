package lanes

import (
	"context"
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
	if err := l.Home.BeginSwitch(ctx, l.Game.Name, s); err != nil {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx)
	if err := guard.Suspend(ctx, l); err != nil {
		return nil, errors.Join(err, settle(ctx, l))
	}
	// An open folder cannot be renamed on every system.
	if err := l.Root.Close(); err != nil {
		return nil, err
	}
	l.Root = nil
	if err := changePlaces(s, l.Game); err != nil {
		return nil, errors.Join(err, takeBack(ctx, l, s))
	}
	return arrive(ctx, l, s)
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

// arrive ends a switch whose folders have changed places.
func arrive(ctx context.Context, l *lane.Lane, s *state.Switch) (*lane.Lane, error) {
	if err := l.Home.RecordSwitch(ctx, l.Game.Name, s, l.Now()); err != nil {
		return nil, err
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, s.To)
	if err != nil {
		return nil, err
	}
	next, err := change.BesideAs(ctx, l, is)
	if err != nil {
		return nil, err
	}
	if err := backup.Enter(ctx, next, s); err != nil {
		return nil, errors.Join(err, next.Close())
	}
	if err := settle(ctx, next); err != nil {
		return nil, errors.Join(err, next.Close())
	}
	return next, nil
}

// takeBack ends a switch that could not be made, if everything still stands where
// it did; otherwise the next Open does.
func takeBack(ctx context.Context, l *lane.Lane, s *state.Switch) error {
	if lane.MarkerOf(l.Game.Live) != (lane.Identity{Game: l.Game.Name, Lane: s.From}) {
		return nil
	}
	root, err := l.OpenFolder(l.Dir)
	if err != nil {
		return err
	}
	l.Root = root
	return settle(ctx, l)
}

// settle brings the block to what the live lane wants, and ends the switch.
func settle(ctx context.Context, l *lane.Lane) error {
	if err := guard.Resume(ctx, l); err != nil {
		l.Meter.Warn(fmt.Sprintf("the block is incomplete: %v; see %s", err, problem.ShowBlock))
	}
	if err := l.WriteMarkerAs(ctx, false); err != nil {
		return err
	}
	return l.Home.EndSwitch(ctx, l.Game.Name)
}

// RecoverSwitch ends a switch that an earlier run did not.
func RecoverSwitch(ctx context.Context, l *lane.Lane) error {
	s, err := l.Home.Switching(ctx, l.Game.Name)
	if err != nil || s == nil {
		return err
	}
	if err := renewMarkers(l, s); err != nil {
		return err
	}
	from := lane.Identity{Game: l.Game.Name, Lane: s.From}
	back := lane.MarkerOf(l.Game.Live) == from
	if !back {
		if err := clearLive(l, s); err != nil {
			return err
		}
		if err := changePlaces(s, l.Game); err != nil {
			if back = lane.MarkerOf(l.Game.Live) == from; !back {
				return fmt.Errorf("an unfinished switch to lane %s: %w", s.To, err)
			}
		}
	}
	if back {
		is, err := l.Home.Lane(ctx, l.Game.Name, s.From)
		if err != nil {
			return err
		}
		was, err := change.BesideAs(ctx, l, is)
		if err != nil {
			return err
		}
		l.Tell("The switch of %s to lane %s was interrupted; Morvant has undone it.", l.Game.Display(), s.To)
		return errors.Join(settle(ctx, was), was.Close())
	}
	if s.Saves != 0 {
		if err := backup.RecoverEntering(ctx, l, s); err != nil {
			return err
		}
	}
	next, err := arrive(ctx, l, s)
	if err != nil {
		return err
	}
	l.Tell("The switch of %s to lane %s was interrupted; Morvant has finished it.", l.Game.Display(), s.To)
	return next.Close()
}

// clearLive puts aside what somebody has put to the live path while both lanes of a switch that
// was cut off were elsewhere: a launcher that has installed the game anew.
func clearLive(l *lane.Lane, s *state.Switch) error {
	live := l.Game.Live
	at := func(dir, name string) bool { return lane.MarkerOf(dir) == lane.Identity{Game: l.Game.Name, Lane: name} }
	if info, err := os.Lstat(live); err != nil || !info.IsDir() || lane.MarkerOf(live) != (lane.Identity{}) || s.FromLinked || s.ToLinked || !at(s.Place, s.To) || !at(s.Park, s.From) {
		return nil
	}
	for n := 1; ; n++ {
		aside := fmt.Sprintf("%s [found %d]", live, n)
		if _, err := os.Lstat(aside); err == nil {
			continue
		}
		if err := process.Rename(live, aside); err != nil {
			return err
		}
		l.Tell("Somebody put another folder at %s meanwhile; it is now %s.", live, aside)
		return nil
	}
}

// changePlaces moves the lane that is live away and the other one in, from whatever point
// an earlier try has come to.
func changePlaces(s *state.Switch, g *game.Game) error {
	live := g.Live
	from, to := lane.Identity{Game: g.Name, Lane: s.From}, lane.Identity{Game: g.Name, Lane: s.To}
	if lane.MarkerOf(live) == from {
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
