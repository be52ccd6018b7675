package games

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/entry"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/propose"
	"morvant/internal/lanes"
	"morvant/internal/rescue"
	"morvant/internal/state"
	"morvant/internal/store"
)

func (a commands) rescueCommand() *cli.Command {
	return &cli.Command{
		Name: "rescue", Usage: "take everything that Morvant has left out of a folder", ArgsUsage: "FOLDER", Category: app.GroupGames,
		Description: "Example: morvant rescue \"/games/Cinder Quay\" --dry-run\n\n" +
			"For a folder whose Morvant is gone, or that came from somewhere else, and for one that you want to be plain again: a\n" +
			"change that was cut off is taken back, blocks are taken off, and what was set aside is put beside the folder. Nothing\n" +
			"is lost. What only a note in the folder says of places outside of it is believed after a question, or with --outside.",
		Flags: append(app.ChangeFlags(), &cli.BoolFlag{Name: "outside", Usage: "believe what a note in the folder says of places outside of it"}),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			args, err := app.Arguments(c, 1, 1)
			if err != nil {
				return err
			}
			f, err := rescue.Look(ctx, args[0])
			if err != nil {
				return err
			}
			home, err := a.Home(ctx, c)
			if err != nil {
				a.Note("Morvant's home cannot be used: %s. The folder is looked at without it.", view.OneLine(err))
				return a.rescue(ctx, c, nil, f)
			}
			defer func() { err = errors.Join(err, home.Close()) }()
			return a.rescue(ctx, c, home, f)
		},
	}
}

func (a commands) rescue(ctx context.Context, c *cli.Command, home *game.Home, f *rescue.Found) error {
	var g *game.Game
	var is *state.Lane
	if home != nil {
		var err error
		if g, is, err = home.Holding(ctx, f.Dir); err != nil {
			return err
		}
		if g != nil && g.Folder(is) != f.Dir {
			return app.Refusef("%s lies in lane %s of %s; name that folder: %s", f.Dir, is.Name, g.Name, g.Folder(is))
		}
	}
	o := rescue.Options{Outside: c.Bool("outside"), Rename: g == nil, Now: a.Now}
	a.sayFound(f, g)
	if err := a.Ask(c, "Take all of it back, and leave a plain folder?"); err != nil {
		return err
	}
	if outside := f.Outside(); g == nil && len(outside) > 0 && !o.Outside && a.Interactive() {
		a.Note("A note in the folder says that a block has changed these places outside of it, and what was there before:")
		for _, p := range outside {
			a.Note("  %s", p)
		}
		switch err := a.Question("Was it your own Morvant that did, and may they be put back?"); {
		case errors.Is(err, app.ErrDeclined):
		case err != nil:
			return err
		default:
			o.Outside = true
		}
	}
	var told []string
	if g != nil {
		var err error
		if told, err = a.rescueKnown(ctx, c, home, g, is); err != nil {
			return err
		}
	}
	if home != nil && game.IsHome(home.Dir()) {
		s, err := store.Open(ctx, home.StoreDir())
		if err != nil {
			a.Note("The store cannot be used: %s", view.OneLine(err))
		} else {
			defer s.Close()
			o.Store = s
		}
	}
	more, dir, err := f.TakeOut(ctx, o)
	told = append(told, more...)
	if c.Bool("json") {
		return errors.Join(err, a.Emit(struct {
			Schema string   `json:"schema"`
			Folder string   `json:"folder"`
			Done   []string `json:"done"`
			Whole  bool     `json:"whole"`
		}{"morvant-rescued/1", dir, slices.Concat([]string{}, told), err == nil}))
	}
	for _, text := range told {
		a.Say("%s.", text)
	}
	if err == nil {
		a.Say("%s is a plain folder now.", dir)
	}
	return err
}

// sayFound says what was found, and what comes of it.
func (a commands) sayFound(f *rescue.Found, g *game.Game) {
	a.Note("In %s Morvant has left:", f.Dir)
	if m := f.Marker; m.Game != "" {
		whose := "looked after by a Morvant that is not this one"
		switch {
		case g != nil:
			whose = "looked after by this Morvant, which keeps its builds and its history"
		case m.HomeAt != "" && !game.IsHome(m.HomeAt):
			whose = "looked after by " + m.HomeAt + ", which is gone"
		}
		a.Note("  lane %s of %s, %s", m.Lane, m.Game, whose)
	}
	if f.Change {
		a.Note("  a change that was cut off: it is taken back")
	}
	if f.Block != nil {
		a.Note("  a block of %s: what it found is put back", view.Count(len(f.Block.Applied), "rule"))
	}
	for _, h := range f.Held {
		a.Note("  a file that holds %s: it goes, and what was there comes back", h.Path)
	}
	if f.Aside > 0 {
		a.Note("  %s that %s set aside: put beside the folder", view.Count(f.Aside, "file"), map[bool]string{true: "was", false: "were"}[f.Aside == 1])
	}
	for _, p := range slices.Sorted(maps.Keys(f.Links)) {
		a.Note("  %s is a link to %s, and stays one", p, f.Links[p])
	}
	if f.Plain != "" && g == nil {
		a.Note("  the name of a parked folder: it becomes %s", f.Plain)
	}
}

// rescueKnown ends and lifts what the home knows of a lane: what it has begun, blocks, shared folders, the hold. Every file stays.
func (a commands) rescueKnown(ctx context.Context, c *cli.Command, home *game.Home, g *game.Game, is *state.Lane) (told []string, err error) {
	o := a.LaneOptions(c)
	o.Lane = is.Name
	l, err := entry.Open(ctx, home, g.Name, o)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	told = append(told, l.Recovered...)
	if err := l.MayChange(); err != nil {
		return told, err
	}
	holds, err := home.Applied(ctx, g.Name, l.Name)
	if err != nil {
		return told, err
	}
	left, err := guard.Unblock(ctx, l, false)
	if told = append(told, left...); err != nil {
		return told, err
	}
	if len(holds) > 0 {
		told = append(told, "The block is taken off")
	}
	for _, s := range is.Shares {
		if err := lanes.Unshare(ctx, l, s.Path); err != nil {
			return told, err
		}
		told = append(told, s.Path+" is a folder of its own again")
	}
	return told, unhold(ctx, l, &told)
}

// unhold ends the hold and leaves every file as it is.
func unhold(ctx context.Context, l *lane.Lane, told *[]string) error {
	pin, b, err := l.Pin(ctx)
	if err != nil || !pin.Held() {
		return err
	}
	p, err := propose.Lift(ctx, l)
	if err == nil {
		err = change.CarryOut(ctx, l, p)
	}
	if err == nil {
		*told = append(*told, fmt.Sprintf("It is not held at %s any more; its files are as they were", b.Label))
	}
	return err
}
