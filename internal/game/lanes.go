package game

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"morvant/internal/state"
	"morvant/internal/userpath"
)

// Folder returns the folder of a lane, full path.
func (g *Game) Folder(l *state.Lane) string {
	if l.Live && !l.Linked {
		return g.Live
	}
	return l.Place
}

// Lane returns a lane of a game; the live one, or the one chosen by UseLane, for an
// empty name.
func (h *Home) Lane(ctx context.Context, game, name string) (*state.Lane, error) {
	if name == "" {
		name = h.lane
	}
	list, err := h.Lanes(ctx, game)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, l := range list {
		if l.Name == name || name == "" && l.Live {
			return l, nil
		}
		names = append(names, l.Name)
	}
	return nil, &state.UnknownError{Kind: "lane", Name: name, Near: names}
}

// UseLane makes name the lane that is meant where none is named.
func (h *Home) UseLane(name string) { h.lane = name }

// LaneName returns the name of the lane that is meant where none is named.
func (h *Home) LaneName(ctx context.Context, game string) (string, error) {
	if h.lane != "" {
		return h.lane, nil
	}
	return h.LiveLane(ctx, game)
}

// Holding returns the game and the lane whose folder holds dir; nil if none does.
func (h *Home) Holding(ctx context.Context, dir string) (*Game, *state.Lane, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, nil, err
	}
	// What is not there yet is where its folder is.
	real, err := resolve(dir)
	for errors.Is(err, fs.ErrNotExist) && filepath.Dir(dir) != dir {
		dir = filepath.Dir(dir)
		real, err = resolve(dir)
	}
	if err != nil {
		return nil, nil, err
	}
	dir = real
	games, _, err := h.Games()
	if err != nil {
		return nil, nil, err
	}
	for _, g := range games {
		lanes, err := h.Lanes(ctx, g.Name)
		if err != nil {
			return nil, nil, err
		}
		for _, l := range lanes {
			if folder := g.Folder(l); folder != "" && userpath.Holds(folder, dir) {
				return g, l, nil
			}
		}
	}
	return nil, nil, nil
}

// overlapping returns an error if dir lies within a folder of a lane, or the other
// way round. The lane of that name and game does not count.
func (h *Home) overlapping(ctx context.Context, dir, game, lane string) error {
	games, broken, err := h.Games()
	if err != nil {
		return err
	}
	for name := range broken {
		if g, err := h.LoadFolder(name); err == nil && g.Live != "" {
			games = append(games, g)
		}
	}
	for _, g := range games {
		lanes, err := h.Lanes(ctx, g.Name)
		if err != nil {
			return err
		}
		for _, l := range lanes {
			folder := g.Folder(l)
			if g.Name == game && l.Name == lane || folder == "" {
				continue
			}
			if userpath.Holds(folder, dir) || userpath.Holds(dir, folder) {
				return fmt.Errorf("%w: %s and lane %s of %s (%s) lie within each other", ErrFolder, dir, l.Name, g.Name, folder)
			}
		}
	}
	return nil
}

// ParkedName returns where a lane is parked beside the live folder.
func ParkedName(live, lane string) string {
	return filepath.Join(filepath.Dir(live), fmt.Sprintf("%s [%s]", filepath.Base(live), lane))
}
