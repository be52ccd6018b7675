package entry

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// findFolder opens the lane's folder. One that is gone as a whole is made again if
// that is wanted.
func findFolder(ctx context.Context, l *lane.Lane, is *state.Lane, o lane.Options) error {
	info, err := os.Stat(l.Dir)
	elsewhere := ""
	if volume.Absent(err) && l.Live && !is.Linked {
		elsewhere = l.Whereabouts()
	}
	switch {
	case err == nil && info.IsDir():
		if l.Root, err = l.OpenFolder(l.Dir); err != nil {
			return err
		}
		if err := trust(ctx, l, is); err != nil || l.Strange == "" || o.Remake == nil || !emptied(l, is) {
			return err
		}
		return refill(ctx, l, o)
	case err != nil && !volume.Absent(err) && !errors.Is(err, os.ErrNotExist):
		err = fmt.Errorf("%s: %w (%v)", l.Dir, lane.ErrAway, err) // a disk that has gone answers in many ways
	case elsewhere != "":
		// Not to be made again, nor waited for.
		err = &lane.GoneError{Game: l.Game, Lane: l.Name, Dir: l.Dir, Found: elsewhere}
		if !o.Absent {
			return err
		}
	case away(l, is):
		err = fmt.Errorf("%s: %w", l.Dir, lane.ErrAway)
	default:
		err = gone(ctx, l)
	}
	if o.Absent {
		return nil
	}
	var gone *lane.GoneError
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
	if l.Root, err = os.OpenRoot(l.Dir); err != nil {
		return err
	}
	l.Remade = true
	return l.WriteMarkerAs(ctx, false)
}

// emptied reports whether the folder has nothing in it, and is on the disk that it was
// on.
func emptied(l *lane.Lane, is *state.Lane) bool {
	list, err := os.ReadDir(l.Dir)
	if err != nil || volume.ID(l.Dir) != is.Volume {
		return false
	}
	return !slices.ContainsFunc(list, func(e os.DirEntry) bool { return e.Name() != manifest.PrivateDir })
}

// refill asks whether a folder that has been emptied is to be filled again.
func refill(ctx context.Context, l *lane.Lane, o lane.Options) error {
	err := gone(ctx, l)
	var gone *lane.GoneError
	if !errors.As(err, &gone) {
		return err
	}
	gone.Empty = true
	if err := o.Remake(gone); err != nil {
		return err
	}
	l.Remade, l.Strange = true, ""
	return l.WriteMarkerAs(ctx, false)
}

// away reports whether the disk is missing that the lane's folder was on: the folder
// around it is gone as well, or belongs to another disk.
func away(l *lane.Lane, is *state.Lane) bool {
	around := filepath.Dir(l.Dir)
	if _, err := os.Stat(around); err != nil {
		return true
	}
	here := volume.ID(around)
	return is.Volume != "" && here != "" && here != is.Volume
}

// gone describes a folder that is gone as a whole.
func gone(ctx context.Context, l *lane.Lane) error {
	e := &lane.GoneError{Game: l.Game, Lane: l.Name, Dir: l.Dir}
	builds, err := l.Home.Recorded(ctx, l.Game.Name)
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
func trust(ctx context.Context, l *lane.Lane, is *state.Lane) error {
	want := lane.Identity{Game: l.Game.Name, Lane: l.Name}
	here := volume.ID(l.Dir)
	switch got := lane.MarkerOf(l.Dir); {
	case got == want:
		if here != "" && here != is.Volume {
			is.Volume = here
			return l.Home.SetLane(ctx, l.Game.Name, l.Name, is.LaneState)
		}
		return nil
	case got != lane.Identity{}:
		return nil // whoever moves folders by hand knows what stands where; status tells
	}
	known, there, err := familiar(ctx, l)
	if err != nil {
		return err
	}
	like := ""
	same := float64(there) >= resembles*float64(known)
	if !same {
		if like, err = likeBuild(ctx, l); err != nil {
			return err
		}
	}
	switch {
	case known == 0:
	case same:
		l.Tell("The marker of %s was missing; the folder's content shows that it is the right one, and Morvant has written the marker again.", l.Title())
	case like != "":
		l.Tell("The marker of %s was missing; the folder's content matches its build %s, and Morvant has written the marker again.", l.Title(), like)
	default:
		l.Strange = fmt.Sprintf("it has no marker, and only %[2]d of the %[1]d files that it held are there", known, there)
		if here != "" && is.Volume != "" && here != is.Volume {
			l.Strange += "; it is on another disk"
		}
		return nil
	}
	err = l.WriteMarkerAs(ctx, false)
	if errors.Is(err, os.ErrPermission) || volume.ReadOnly(err) || volume.Full(err) {
		return nil // looking is possible all the same
	}
	return err
}

// familiar counts the files that are remembered of the lane's folder, and those of them
// that stand in their places with their sizes.
func familiar(ctx context.Context, l *lane.Lane) (known, there int, err error) {
	held, err := compose.HeldState(ctx, l)
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
		if sizes, err = l.Cache.Files(ctx, l.CacheKey()); err != nil {
			return 0, 0, err
		}
	}
	for p, size := range sizes {
		if _, stamp, err := scan.Look(l.Root, p); err == nil && stamp.Size == size {
			there++
		}
	}
	return len(sizes), there, nil
}

// likeBuild names a known build of the game of which most files stand in the folder, by path and
// size; empty if there is none.
func likeBuild(ctx context.Context, l *lane.Lane) (string, error) {
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return "", err
	}
	for _, k := range known {
		files, there := 0, 0
		for _, p := range k.Parts {
			if !p.Required {
				continue
			}
			for _, f := range p.Manifest.Files {
				files++
				if _, stamp, err := scan.Look(l.Root, f.Path); err == nil && stamp.Size == f.Size {
					there++
				}
			}
		}
		if files > 0 && float64(there) >= resembles*float64(files) {
			return k.Build.Label, nil
		}
	}
	return "", nil
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
			if filepath.Dir(dir) != filepath.Dir(was) || lane.MarkerOf(moved) != (lane.Identity{Game: name, Lane: is.Name}) {
				continue
			}
			is.Place, dir = moved, moved
		} else if lane.MarkerOf(dir) == (lane.Identity{}) {
			if err := lane.WriteMarker(dir, lane.Marker{Game: name, Lane: is.Name, State: "free"}); err != nil {
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
