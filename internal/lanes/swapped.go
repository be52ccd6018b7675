package lanes

import (
	"context"
	"path/filepath"

	"morvant/internal/lane"
	"morvant/internal/state"
)

// Swapped takes over what somebody has done by hand: the folder of another lane stands in the live one's place, by its marker, and
// the one that was live is found beside it by its own. Then that one is live.
func Swapped(ctx context.Context, l *lane.Lane) error {
	live, err := l.Home.LiveLane(ctx, l.Game.Name)
	if err != nil {
		return err
	}
	id := lane.MarkerOf(l.Game.Live)
	if id.Game != l.Game.Name || id.Lane == live {
		return nil
	}
	list, err := l.Home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return err
	}
	var from, to *state.Lane
	for _, is := range list {
		switch is.Name {
		case live:
			from = is
		case id.Lane:
			to = is
		}
	}
	if from == nil || to == nil || from.Linked || to.Linked {
		return nil
	}
	was := lane.Identity{Game: l.Game.Name, Lane: live}
	at := to.Place
	if lane.MarkerOf(at) != was {
		if at = lane.Search(was, filepath.Dir(l.Game.Live), 1); at == "" {
			return nil // status tells
		}
	}
	s := &state.Switch{From: live, To: to.Name, Park: at, Place: to.Place, UID: state.NewUID()}
	if err := l.Home.RecordSwitch(ctx, l.Game.Name, s, l.Now()); err != nil {
		return err
	}
	l.Tell("The folders of lanes %s and %s have changed places by hand; by their markers, %s is live now.", live, to.Name, to.Name)
	return nil
}
