package lanes

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/manifest"
	"morvant/internal/oplog"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/volume"
	"os"
	"path/filepath"
	"slices"
	"strings"
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

// Oddities lists what is in the lane and cannot be recorded.
func Oddities(ctx context.Context, l *lane.Lane) ([]scan.Oddity, error) {
	t, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	return t.Odd, nil
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

// making is how a lane is made.
type making struct {
	Dir   string `json:"dir"`
	Fresh bool   `json:"fresh,omitempty"` // the folder is made with it

	l *lane.Lane // any lane of the game
	n NewLane
	o *lane.Lane // the lane itself, once it is open
}

// Create makes a lane in a folder of its own, and has it filled. l may be any lane of the game. Where fill fails, nothing of the lane
// is left.
func Create(ctx context.Context, l *lane.Lane, n NewLane, fill func(*lane.Lane) error) (*lane.Lane, error) {
	dir, err := folderFor(ctx, l, n)
	if err != nil {
		return nil, err
	}
	list, err := os.ReadDir(dir)
	if err == nil && len(list) > 0 {
		return nil, fmt.Errorf("%s: %w", dir, lane.ErrInTheWay)
	}
	m := &making{Dir: dir, Fresh: volume.Absent(err), l: l, n: n}
	return m.run(ctx, fill)
}

// Adopt makes a lane of a folder that is there already, and has it held.
func Adopt(ctx context.Context, l *lane.Lane, n NewLane, hold func(*lane.Lane) error) (*lane.Lane, error) {
	dir, err := CheckAdopt(ctx, l, n)
	if err != nil {
		return nil, err
	}
	m := &making{Dir: dir, l: l, n: n}
	return m.run(ctx, hold)
}

func (m *making) run(ctx context.Context, fill func(*lane.Lane) error) (*lane.Lane, error) {
	if err := m.operation(fill).Run(ctx, m.l.Home.State); err != nil {
		return nil, errors.Join(err, m.close())
	}
	return m.o, nil
}

// unmade is the making of a lane that an earlier run has begun.
func unmade(ctx context.Context, l *lane.Lane, b state.Begun) (*oplog.Operation, error) {
	m := &making{l: l, n: NewLane{Name: b.Lane}}
	if err := json.Unmarshal(b.Body, m); err != nil {
		return nil, err
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, b.Lane)
	if err == nil {
		m.o, err = change.BesideAs(ctx, l, is) // ends a change that has begun in it
	}
	if err != nil && !errors.Is(err, state.ErrUnknown) && !errors.Is(err, lane.ErrGone) {
		return nil, err
	}
	if m.o != nil && m.o.Unfinished != nil {
		return nil, errors.Join(m.o.Unfinished, m.close())
	}
	return m.operation(nil), nil
}

// operation is the making of a lane, which is there to stay once it is held.
func (m *making) operation(fill func(*lane.Lane) error) *oplog.Operation {
	begun := fill == nil // by an earlier run
	return &oplog.Operation{
		Game: m.l.Game.Name, Lane: m.n.Name, Kind: state.BegunNew, Body: m, What: "The making of lane " + m.n.Name,
		Steps: []oplog.Step{{
			Do: func(ctx context.Context) (err error) {
				if !begun {
					m.o, err = m.make(ctx)
				}
				return err
			},
			Back: m.discard,
		}, {
			Do: func(context.Context) error {
				if begun {
					return m.close()
				}
				return fill(m.o)
			},
			Done: func(ctx context.Context) (bool, error) {
				pin, err := m.l.Home.Pin(ctx, m.l.Game.Name, m.n.Name)
				return pin.Held(), err
			},
		}},
	}
}

func (m *making) make(ctx context.Context) (*lane.Lane, error) {
	if m.Fresh {
		if err := volume.MkdirAll(m.Dir, 0o755); err != nil {
			return nil, err
		}
		if err := volume.Own(m.Dir, filepath.Dir(m.Dir)); err != nil {
			return nil, err
		}
	}
	return admit(ctx, m.l, m.n, m.Dir)
}

func (m *making) close() error {
	if m.o == nil {
		return nil
	}
	o := m.o
	m.o = nil
	return o.Close()
}

// discard takes back a lane that holds nothing yet, with the folder that was made for it. If somebody has put something there, that
// stays.
func (m *making) discard(ctx context.Context) error {
	if err := errors.Join(m.close(), m.l.Home.ForgetLane(ctx, m.l.Game.Name, m.n.Name)); err != nil {
		return err
	}
	game.SweepProbes(m.Dir)
	root, err := os.OpenRoot(m.Dir)
	if err != nil {
		return ignoreMissing(err)
	}
	if m.Fresh {
		err = root.RemoveAll(manifest.PrivateDir)
	} else if lane.MarkerOf(m.Dir) == (lane.Identity{Game: m.l.Game.Name, Lane: m.n.Name}) {
		err = ignoreMissing(root.Remove(lane.MarkerFile))
	}
	err = errors.Join(err, root.Close())
	if m.Fresh {
		_ = os.Remove(m.Dir)
	}
	return err
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
