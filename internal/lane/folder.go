package lane

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"morvant/internal/apply"
	"morvant/internal/game"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/volume"
)

// Errors of a folder that is not as it is remembered.
var (
	// ErrAway is returned for a folder on a disk that is not there.
	ErrAway = errors.New("its disk is not there")
	// ErrStranger is returned for a folder that stands in a lane's place and may be
	// another one.
	ErrStranger = errors.New("this may not be the game's folder")
)

// GoneError says that a lane's folder is gone as a whole, while its disk is there.
type GoneError struct {
	Game *game.Game
	Lane string
	Dir  string
	// Empty says that the folder is there, with nothing in it.
	Empty bool
	// Own is the newest snapshot that has files of the player's own, and OwnFiles how
	// many these are; nil if there is none.
	Own      *game.Build
	OwnFiles int
}

func (e *GoneError) Error() string { return fmt.Sprintf("%s: %v", e.Dir, ErrGone) }

func (e *GoneError) Unwrap() error { return ErrGone }

// findFolder opens the lane's folder. One that is gone as a whole is made again if
// that is wanted.
func (l *Lane) findFolder(ctx context.Context, is *game.Lane, o Options) error {
	info, err := os.Stat(l.Dir)
	switch {
	case err == nil && info.IsDir():
		if l.root, err = l.openFolder(l.Dir); err != nil {
			return err
		}
		if err := l.trust(ctx, is); err != nil || l.stranger == "" || o.Remake == nil || !l.emptied(is) {
			return err
		}
		return l.refill(ctx, o)
	case err != nil && !volume.Absent(err) && !errors.Is(err, os.ErrNotExist):
		err = fmt.Errorf("%s: %w (%v)", l.Dir, ErrAway, err) // a disk that has gone answers in many ways
	case l.away(is):
		err = fmt.Errorf("%s: %w", l.Dir, ErrAway)
	default:
		err = l.gone(ctx)
	}
	if o.Absent {
		return nil
	}
	var gone *GoneError
	if o.Remake == nil || !errors.As(err, &gone) {
		return err
	}
	if err := o.Remake(gone); err != nil {
		return err
	}
	if err := os.Mkdir(l.Dir, 0o755); err != nil {
		return err
	}
	if err := volume.Own(l.Dir, filepath.Dir(l.Dir)); err != nil {
		return err
	}
	if l.root, err = os.OpenRoot(l.Dir); err != nil {
		return err
	}
	l.remade = true
	return l.mark(ctx, false)
}

// openFolder opens the folder of a lane.
func (l *Lane) openFolder(dir string) (*os.Root, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return apply.Enter(root, func(text string) { l.tell("%s.", text) })
}

// emptied reports whether the folder has nothing in it, and is on the disk that it was
// on.
func (l *Lane) emptied(is *game.Lane) bool {
	list, err := os.ReadDir(l.Dir)
	if err != nil || volume.ID(l.Dir) != is.Volume {
		return false
	}
	return !slices.ContainsFunc(list, func(e os.DirEntry) bool { return e.Name() != manifest.PrivateDir })
}

// refill asks whether a folder that has been emptied is to be filled again.
func (l *Lane) refill(ctx context.Context, o Options) error {
	err := l.gone(ctx)
	var gone *GoneError
	if !errors.As(err, &gone) {
		return err
	}
	gone.Empty = true
	if err := o.Remake(gone); err != nil {
		return err
	}
	l.remade, l.stranger = true, ""
	return l.mark(ctx, false)
}

// away reports whether the disk is missing that the lane's folder was on: the folder
// around it is gone as well, or belongs to another disk.
func (l *Lane) away(is *game.Lane) bool {
	around := filepath.Dir(l.Dir)
	if _, err := os.Stat(around); err != nil {
		return true
	}
	here := volume.ID(around)
	return is.Volume != "" && here != "" && here != is.Volume
}

// gone describes a folder that is gone as a whole.
func (l *Lane) gone(ctx context.Context) error {
	e := &GoneError{Game: l.Game, Lane: l.Name, Dir: l.Dir}
	builds, err := l.home.Recorded(ctx, l.Game.Name)
	if err != nil {
		return err
	}
	match := l.Game.Rules().Matcher()
	for _, b := range builds {
		if b.Channel != "" || e.Own != nil {
			continue
		}
		m, err := b.ReadManifest(ctx, l.Store)
		if err != nil {
			continue // it is only about what to name
		}
		for _, f := range m.Files {
			if match.Kept(f.Path) {
				e.Own = b
				e.OwnFiles++
			}
		}
	}
	return e
}

// resembles is which part of the files that are remembered of a lane must stand in
// their places for a folder without a marker to be taken for it.
const resembles = 0.5

// trust finds out whether the folder is the lane's: its marker says so, or what is in it
// does. One that is gets its marker back; another is noted as a stranger.
func (l *Lane) trust(ctx context.Context, is *game.Lane) error {
	want := identity{l.Game.Name, l.Name}
	here := volume.ID(l.Dir)
	switch got := laneAt(l.Dir); {
	case got == want:
		if here != "" && here != is.Volume {
			is.Volume = here
			return l.home.SetLane(ctx, l.Game.Name, l.Name, is.LaneState)
		}
		return nil
	case got != identity{}:
		return nil // whoever moves folders by hand knows what stands where; status tells
	}
	known, there, err := l.familiar(ctx)
	if err != nil {
		return err
	}
	switch {
	case known == 0:
	case float64(there) >= resembles*float64(known):
		l.tell("The marker of %s was gone; what is in the folder tells that it is the one, and the marker is written again.", l.Title())
	default:
		l.stranger = fmt.Sprintf("it has no marker, and of the %d files that it held %d are there", known, there)
		if here != "" && is.Volume != "" && here != is.Volume {
			l.stranger += "; it is on another disk"
		}
		return nil
	}
	err = l.mark(ctx, false)
	if errors.Is(err, os.ErrPermission) || volume.ReadOnly(err) || volume.Full(err) {
		return nil // looking is possible all the same
	}
	return err
}

// familiar counts the files that are remembered of the lane's folder, and those of them
// that stand in their places with their sizes.
func (l *Lane) familiar(ctx context.Context) (known, there int, err error) {
	held, err := l.heldState(ctx)
	if err != nil {
		return 0, 0, err
	}
	sizes := make(map[string]int64)
	for _, e := range held {
		if e.Kind == plan.File {
			sizes[e.Path] = e.Size
		}
	}
	if len(sizes) == 0 {
		if sizes, err = l.cache.Files(ctx, l.cacheKey()); err != nil {
			return 0, 0, err
		}
	}
	for p, size := range sizes {
		if _, stamp, err := scan.Look(l.root, p); err == nil && stamp.Size == size {
			there++
		}
	}
	return len(sizes), there, nil
}

// heldState returns what the lane is held to; nothing if that cannot be told now.
func (l *Lane) heldState(ctx context.Context) (plan.State, error) {
	_, held, err := l.pinned(ctx)
	if err != nil && ctx.Err() == nil {
		return nil, nil
	}
	return held, err
}

// Stranger says why the folder may not be the lane's; empty if it is.
func (l *Lane) Stranger() string { return l.stranger }

// Accept takes the folder for the lane's, as the player says.
func (l *Lane) Accept(ctx context.Context) error {
	l.stranger = ""
	return l.mark(ctx, false)
}

// LaneAt returns the game and the lane that a folder's marker names; empty if it has
// none.
func LaneAt(dir string) (game, lane string) {
	id := laneAt(dir)
	return id.game, id.lane
}

// Moved tells Morvant that the live folder of a game has come from was to where its
// settings say now, as the player says: the folder gets its marker, and lanes that are
// parked beside it are looked for beside it.
func Moved(ctx context.Context, home *game.Home, name, was string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	lanes, err := home.Lanes(ctx, name)
	if err != nil {
		return err
	}
	for _, is := range lanes {
		dir := g.Folder(is)
		if dir != g.Live {
			moved := filepath.Join(filepath.Dir(g.Live), filepath.Base(dir))
			if filepath.Dir(dir) != filepath.Dir(was) || laneAt(moved) != (identity{name, is.Name}) {
				continue
			}
			is.Place, dir = moved, moved
		} else if laneAt(dir) == (identity{}) {
			if err := writeMarker(dir, marker{Game: name, Lane: is.Name, State: "free"}); err != nil {
				return err
			}
		}
		is.Volume = volume.ID(dir)
		if err := home.SetLane(ctx, name, is.Name, is.LaneState); err != nil {
			return err
		}
	}
	return nil
}

// traits tries once what the lane's disk can hold. Where it cannot be tried, nothing is
// known to be missing.
func (l *Lane) traits() volume.Traits {
	if l.tried == nil {
		game.SweepProbes(l.Dir) // of a run that was killed
		t, _ := volume.TraitsOf(l.Dir)
		l.tried = &t
	}
	return *l.tried
}

// canHold returns an error if a plan puts something into the folder that its disk cannot
// hold.
func (l *Lane) canHold(p *plan.Plan) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrCannotHold, fmt.Sprintf(format, args...))
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		if !s.Places() {
			continue
		}
		switch {
		case s.After.Kind == plan.Link && l.traits().NoLinks:
			return bad("it cannot hold links, and %s is one", s.Path)
		case s.After.Size >= largeFile && l.traits().MaxFile > 0 && s.After.Size > l.traits().MaxFile:
			return bad("%s is larger than the %d GB that a file may have there", s.Path, (l.traits().MaxFile+1)>>30)
		}
	}
	return nil
}

// largeFile is from which size on a file may be too large for some disk, in bytes.
const largeFile = 2 << 30

// ErrCannotHold is returned for a build that the lane's disk cannot hold.
var ErrCannotHold = errors.New("the disk of this folder cannot hold the build")

// asBuilt takes out of the times and modes of a snapshot what is the disk's doing and
// not the build's: made-up modes, and times that it has cut, where the held build knows
// the whole ones.
func (l *Lane) asBuilt(ctx context.Context, a *manifest.Attributes) error {
	t := l.traits()
	if !t.NoModes && t.Clock == 0 {
		return nil
	}
	held, err := l.heldState(ctx)
	if err != nil {
		return err
	}
	for kind, list := range map[plan.Kind]map[string]manifest.Attribute{plan.File: a.Files, plan.Dir: a.Dirs} {
		for p, is := range list {
			was, known := held.Get(p)
			known = known && was.Kind == kind
			if t.NoModes {
				is.Mode = 0
				if known {
					is.Mode = was.Mode
				}
			}
			if known && was.MTime != 0 && is.MTime.Sub(was.Time()).Abs() <= t.Clock {
				is.MTime = was.Time()
			}
			list[p] = is
		}
	}
	return nil
}
