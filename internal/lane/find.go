package lane

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"morvant/internal/problem"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// Errors of switching.
var (
	ErrInTheWay   = problem.New("something is in the way", "Move it away, then try again")
	ErrOtherDisk  = errors.New("it is on another disk")
	ErrNotTheLane = errors.New("this folder is not the lane")
	ErrLive       = errors.New("it is the live lane")
)

// FindParked sees to it that a parked lane is where it is remembered to be. A folder
// that somebody has renamed is found again by its marker, beside where it was.
func (l *Lane) FindParked(ctx context.Context, to *state.Lane) error {
	if err := l.find(ctx, to); err != nil {
		return err
	}
	return l.Theirs(to.Place)
}

// Find returns another lane by its name, once it is where it is remembered to be.
func (l *Lane) Find(ctx context.Context, name string) (*state.Lane, error) {
	is, err := l.Home.Lane(ctx, l.Game.Name, name)
	if err == nil && !is.Live {
		err = l.FindParked(ctx, is)
	}
	return is, err
}

// ErrOtherOwner is returned for a folder that another user of this computer has made.
var ErrOtherOwner = errors.New("it belongs to another user of this computer, and what is in it could be anything")

// Theirs returns an error unless a folder is one that a lane's can be: no link, and not
// made by another user in a folder where several may write.
func (l *Lane) Theirs(dir string) error {
	switch {
	case volume.IsLink(dir):
		return fmt.Errorf("%s: %w: it is a link", dir, ErrNotTheLane)
	case !volume.Trusted(dir, l.Game.Live):
		return fmt.Errorf("%s: %w", dir, ErrOtherOwner)
	}
	return nil
}

func (l *Lane) find(ctx context.Context, to *state.Lane) error {
	want := Identity{Game: l.Game.Name, Lane: to.Name}
	if MarkerOf(to.Place) == want {
		return nil
	}
	if BrokenMarker(to.Place) { // the state knows what is there
		return WriteMarker(to.Place, Marker{Game: want.Game, Lane: want.Lane, State: "free"})
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
			if e.IsDir() && place != l.Game.Live && MarkerOf(place) == want && l.Theirs(place) == nil {
				l.Meter.Warn(fmt.Sprintf("lane %s was renamed; it is %s now", to.Name, place))
				to.Place = place
				return l.Home.SetLane(ctx, l.Game.Name, to.Name, to.LaneState)
			}
		}
	}
	return fmt.Errorf("lane %s, %s: %w", to.Name, to.Place, ErrGone)
}

// Beside is beside for a lane that is looked at as it is: nothing in its folder is
// recovered.
func (l *Lane) Beside(is *state.Lane) (*Lane, error) {
	g, err := l.Home.Load(l.Game.Name)
	if err != nil {
		return nil, err
	}
	o := &Lane{
		Game: g, Base: g, Store: l.Store, Name: is.Name, Dir: l.Game.Folder(is), Live: is.Live,
		Home: l.Home, Cache: l.Cache, Meter: l.Meter, Now: l.Now, Feed: l.Feed, borrowed: true,
	}
	o.KeepFor(is.Pin)
	if o.Root, err = l.OpenFolder(o.Dir); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			err = fmt.Errorf("lane %s, %s: %w", o.Name, o.Dir, ErrGone)
		}
		return nil, err
	}
	return o, nil
}

// Refind makes sure that the folder that is open is the one in the lane's place, for whoever waits
// while a launcher is at work. Another one that has been put there is opened, and gets the lane's
// marker; other says so.
func (l *Lane) Refind(ctx context.Context) (other bool, err error) {
	now, err := os.Stat(l.Dir)
	if err != nil || !now.IsDir() {
		return false, fmt.Errorf("%s: %w", l.Dir, ErrGone)
	}
	same := false
	if l.Root != nil {
		was, err := l.Root.Stat(".")
		same = err == nil && os.SameFile(was, now)
	}
	if !same {
		root, err := l.OpenFolder(l.Dir)
		if err != nil {
			return false, err
		}
		other = l.Root != nil
		l.LetGo()
		l.Root = root
	}
	if MarkerOf(l.Dir) == (Identity{}) {
		err = l.WriteMarkerAs(ctx, false)
	} else {
		err = nil
	}
	return other, err
}

// LetGo closes the folder, until Refind opens it again.
func (l *Lane) LetGo() {
	if l.Root != nil {
		l.Root.Close()
		l.Root = nil
	}
}

// Whereabouts looks for the lane's folder where a launcher may have moved it, by its marker: beside
// where it was, and beside the folders of other games. It is empty if there is none.
func (l *Lane) Whereabouts() string {
	in := []string{filepath.Dir(l.Dir)}
	if games, _, err := l.Home.Games(); err == nil {
		for _, g := range games {
			in = append(in, filepath.Dir(g.Live))
		}
	}
	for _, dir := range in {
		if place := Search(Identity{Game: l.Game.Name, Lane: l.Name}, dir, 1); place != "" && place != l.Dir && l.Theirs(place) == nil {
			return place
		}
	}
	return l.onOtherMount()
}

// onOtherMount looks for it where its disk may be by another name: at the same place in each that is there.
func (l *Lane) onOtherMount() string {
	for _, mount := range volume.Mounts() {
		for rest := filepath.ToSlash(l.Dir); ; {
			_, after, found := strings.Cut(rest, "/")
			if !found {
				break
			}
			rest = after
			if place := filepath.Join(mount, filepath.FromSlash(rest)); place != l.Dir && MarkerOf(place) == (Identity{l.Game.Name, l.Name}) && l.Theirs(place) == nil {
				return place
			}
		}
	}
	return ""
}

// Search looks for the folder with a lane's marker in a folder, and in those within it to a depth.
func Search(id Identity, in string, depth int) string {
	entries, err := os.ReadDir(in)
	if err != nil {
		return ""
	}
	for _, e := range entries {
		if place := filepath.Join(in, e.Name()); e.IsDir() && MarkerOf(place) == id {
			return place
		}
	}
	for _, e := range entries {
		if e.IsDir() && depth > 1 {
			if place := Search(id, filepath.Join(in, e.Name()), depth-1); place != "" {
				return place
			}
		}
	}
	return ""
}
