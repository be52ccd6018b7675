package lanes

import (
	"context"
	"errors"
	"fmt"
	"morvant/internal/apply"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/status"
	"morvant/internal/reflink"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// Glimpse is how a lane stands, for a list.
type Glimpse struct {
	*state.Lane
	Dir    string
	Status *status.Status // nil if it could not be looked at
	Err    error          // why
	// Shared is how many bytes of its space on disk it shares with other files;
	// negative if the file system does not say.
	Shared int64
}

// Glimpses looks at every lane of the game.
func Glimpses(ctx context.Context, l *lane.Lane) ([]*Glimpse, error) {
	lanes, err := l.Home.Lanes(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	var list []*Glimpse
	for _, is := range lanes {
		g := &Glimpse{Lane: is, Dir: l.Game.Folder(is), Shared: -1}
		list = append(list, g)
		o := l
		if is.Name != l.Name {
			if o, g.Err = change.Beside(ctx, l, is.Name); g.Err != nil {
				continue
			}
		}
		if o.Root == nil {
			g.Err = fmt.Errorf("%s: %w", o.Dir, lane.ErrGone)
			continue
		}
		if g.Status, g.Err = status.Of(ctx, o, status.Glance); g.Err == nil {
			g.Shared, g.Err = sharedSpace(ctx, o)
		}
		if o != l {
			g.Err = errors.Join(g.Err, o.Close())
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	return list, nil
}

// sharedSpace adds up what the lane's larger files share with others; negative if
// the file system does not say.
func sharedSpace(ctx context.Context, l *lane.Lane) (int64, error) {
	t, err := l.Walk(ctx)
	if err != nil {
		return -1, err
	}
	var n int64
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File || e.Stamp.Size < apply.ShareFrom {
			continue
		}
		f, err := scan.OpenFile(l.Root, e.Path)
		if err != nil {
			continue
		}
		shared, err := reflink.Shared(f)
		f.Close()
		if err != nil {
			return -1, nil
		}
		n += shared
	}
	return n, nil
}
