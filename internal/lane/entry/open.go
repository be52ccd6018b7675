package entry

import (
	"context"
	"errors"
	"time"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/guard"
	"morvant/internal/lanes"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// How long a command waits for another one on the same game: one that only looks, and any other.
const (
	moment   = 300 * time.Millisecond
	patience = 5 * time.Second
)

// Open opens a lane of a game. A change or a switch that was cut off is finished or
// taken back first.
func Open(ctx context.Context, home *game.Home, name string, o lane.Options) (*lane.Lane, error) {
	g, err := home.Load(name)
	unsettled := o.Unsettled && errors.Is(err, game.ErrSettings)
	if unsettled {
		o.Meter.Warn(err.Error())
		g, err = home.LoadFolder(name)
	}
	if err != nil {
		return nil, err
	}
	l := &lane.Lane{Game: g, Base: g, Home: home, Meter: o.Meter, Now: o.Now}
	l.Feed = o.Feed
	l.Feed.Meter, l.Feed.Now = o.Meter, o.Now
	if err := open(ctx, l, o, unsettled); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

func open(ctx context.Context, l *lane.Lane, o lane.Options, unsettled bool) error {
	var err error
	wait := patience
	if o.Looks {
		wait = moment
	}
	l.Lock, err = l.Home.Lock(ctx, l.Game.Name, o.Who, wait)
	if l.Passive = o.Looks && errors.Is(err, game.ErrBusy); l.Passive {
		l.Unfinished, err = err, nil
	}
	if err != nil {
		return err
	}
	l.Meter = l.Lock.Meter(l.Meter)
	l.Feed.Meter = l.Meter
	if l.Store, err = store.Open(ctx, l.Home.StoreDir()); err != nil {
		return err
	}
	if l.Store.Rebuilt {
		l.Tell("The index of the store was lost or damaged; Morvant has rebuilt it from the packs.")
	}
	l.Cache = scan.OpenCache(l.Home.CacheFile())
	if !unsettled && !l.Passive {
		if err := recoverLanes(ctx, l); err != nil {
			return err
		}
		if err := lanes.Swapped(ctx, l); err != nil {
			return err
		}
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, o.Lane)
	if err != nil {
		return err
	}
	l.Name, l.Dir, l.Live = is.Name, l.Game.Folder(is), is.Live
	l.KeepFor(is.Pin)
	if err := findFolder(ctx, l, is, o); err != nil || unsettled || l.Root == nil && o.Absent {
		return err
	}
	if l.Passive {
		return nil
	}
	if l.Root != nil && l.Strange == "" {
		if err := compareAge(ctx, l); err != nil {
			return err
		}
	}
	if err := recoverAll(ctx, l); err != nil || !l.Older {
		return err
	}
	return l.WriteMarker(ctx) // it is said once
}

// compareAge tells of a home that is older than the folder, and of another home that looks after it as well.
func compareAge(ctx context.Context, l *lane.Lane) error {
	if err := guard.Adopt(ctx, l); err != nil {
		return err
	}
	m := lane.ReadMarker(l.Dir)
	is, err := l.Home.Age(ctx)
	if err != nil || m.Home == "" {
		return err
	}
	lost, err := l.Home.Lost(ctx, m.Age)
	switch {
	case err != nil:
		return err
	case lost:
		l.Older = true
		n, err := change.TakeIn(ctx, l)
		what := "it does not know what was changed, held or blocked here since"
		if n > 0 {
			what = "the folder tells of what was changed since, and the history has it again"
		}
		l.Tell("The home at %s is older than this folder, as if a backup of it had been put back: %s. Compare the two, and record the folder as it is.", l.Home.Dir(), what)
		return errors.Join(err, l.Home.SetFact(ctx, state.FactOlder, l.Now().UTC().Format(time.RFC3339Nano)), l.Home.Outgrow(ctx, m.Age))
	case m.Home != is.Home && m.HomeAt != l.Home.Dir() && game.IsHome(m.HomeAt):
		l.Tell("The home at %s looks after this folder, too, and changed it last. Two homes do not know of each other: use one of them for it.", m.HomeAt)
	}
	return nil
}
