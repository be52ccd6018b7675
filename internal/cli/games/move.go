package games

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/lane"
	"morvant/internal/lanes"
)

func (a commands) moveCommand() *cli.Command {
	return &cli.Command{
		Name: "move", Usage: "move the game's folder, also to another disk", ArgsUsage: "FOLDER",
		Description: "Example: morvant game move \"/mnt/big/Cinder Quay\" --dry-run\n\n" +
			"On another disk every file is copied and checked before the old folder goes. Interrupted, the same command goes on.\n" +
			"What Morvant knows of the game goes on at the new place; files of the launcher and shortcuts that name the old one are\n" +
			"listed. -l LANE moves a parked install, --all the game with all that are parked beside it.",
		Flags: append(app.ChangeFlags(), &cli.BoolFlag{Name: "all", Usage: "also move the parked installs beside it"}),
		Action: a.OnLane(app.ToChange, 1, 1, func(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
			if c.Bool("all") && !l.Live {
				return app.Usagef("--all moves the live folder and those beside it; lane %s is parked", l.Name)
			}
			return a.move(ctx, c, l, args[0])
		}),
	}
}

func (a commands) move(ctx context.Context, c *cli.Command, l *lane.Lane, dest string) error {
	was, g := l.Dir, l.Base
	to, other, err := lanes.CheckMove(ctx, l, dest)
	if err != nil {
		return err
	}
	how := "by renaming"
	if other {
		how = "by copying it to the other disk"
	}
	a.Note("%s moves from %s to %s, %s.", view.Strong(l.Title()), was, to, how)
	var beside []*lanes.Glimpse
	if c.Bool("all") {
		if beside, err = besides(ctx, l); err != nil {
			return err
		}
		for _, b := range beside {
			a.Note("Lane %s moves along, from %s.", b.Name, b.Dir)
		}
	}
	if err := a.Ask(c, "Move it?"); err != nil {
		return err
	}
	app.LeaveFolder(l)
	if err := lanes.Move(ctx, l, to); err != nil {
		return err
	}
	for _, b := range beside {
		if err := moveBeside(ctx, l, b, filepath.Join(filepath.Dir(to), filepath.Base(b.Dir))); err != nil {
			return fmt.Errorf("lane %s: %w", b.Name, err)
		}
	}
	for _, file := range lanes.Naming(g, was) {
		a.Note("%s still names %s. Tell your launcher where the game is now.", file, was)
	}
	astray, err := lanes.Astray(ctx, to, was)
	if err != nil {
		return err
	}
	for _, p := range astray {
		a.Note("%s is a link that leads elsewhere from here: it is written from where it lies. Make it anew.", p)
	}
	return a.Done(c, fmt.Sprintf("%s is in %s now.", l.Title(), to))
}

// besides lists the parked lanes beside the live folder.
func besides(ctx context.Context, l *lane.Lane) ([]*lanes.Glimpse, error) {
	all, err := lanes.Glimpses(ctx, l)
	if err != nil {
		return nil, err
	}
	var list []*lanes.Glimpse
	for _, g := range all {
		if !g.Live && !g.Linked && filepath.Dir(g.Dir) == filepath.Dir(l.Dir) {
			list = append(list, g)
		}
	}
	return list, nil
}

func moveBeside(ctx context.Context, l *lane.Lane, b *lanes.Glimpse, to string) error {
	o, err := l.Beside(b.Lane)
	if err != nil {
		return err
	}
	return errors.Join(lanes.Move(ctx, o, to), o.Close())
}
