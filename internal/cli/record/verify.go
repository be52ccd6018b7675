package record

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/proposal"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/status"
	"morvant/internal/state"
)

func (a commands) verifyCommand() *cli.Command {
	return &cli.Command{
		Name: "verify", Usage: "read every byte of the build's files and compare", ArgsUsage: "[BUILD]", Category: app.GroupRecord,
		Description: "Example: morvant verify --repair\n\n" +
			"Without BUILD it compares with the build that the game is held at. Exit code 3 means that something differs.",
		Flags: append(append(app.ChangeFlags(), app.FetchFlags()...), &cli.BoolFlag{Name: "repair", Usage: "restore what differs, after showing the plan"}),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			args, err := app.Arguments(c, 0, 1)
			if err != nil {
				return err
			}
			if len(args) == 1 && c.Bool("repair") {
				return app.Usagef("--repair restores the build that the game is held at; for another build use morvant pin %s", args[0])
			}
			why := app.Looking
			if c.Bool("repair") {
				why = app.ToChange
			}
			return a.WithLane(ctx, c, why, func(l *lane.Lane) error {
				return a.verify(ctx, c, l, l.Home, args)
			})
		},
	}
}

func (a commands) verify(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, args []string) error {
	pin, b, err := l.Pin(ctx)
	if err != nil {
		return err
	}
	if len(args) == 1 {
		found, err := find.Offered(ctx, a.App, c, home, l.Game.Name, args[0])
		if err != nil {
			return err
		}
		choice, err := compose.Choose(ctx, l, found, nil)
		if err != nil {
			return err
		}
		b, pin = found, state.Pin{Components: choice.Names}
	}
	if b == nil {
		return lane.ErrNotHeld
	}
	started := a.Now()
	d, tree, err := status.Verify(ctx, l, b, pin)
	if err != nil {
		return err
	}
	mends := c.Bool("repair") && (d.Any() || len(d.Retimed) > 0)
	if c.Bool("json") && !mends {
		err = a.Emit(struct {
			Schema  string          `json:"schema"`
			Game    string          `json:"game"`
			Build   string          `json:"build"`
			Drifted bool            `json:"drifted"`
			Drift   *view.DriftJSON `json:"drift"`
			// Established counts the build's files by how it was established what they are.
			Established *view.EstablishedJSON `json:"established,omitempty"`
		}{"morvant-verify/1", l.Game.Name, b.Label, d.Any(), view.ToDrift(d), view.ToEstablished(b.Established())})
	} else if !d.Any() && !mends {
		what := "every byte of it"
		if d.Yielded > 0 {
			what = "every byte that was checked"
		}
		a.Say("%s is %s%s, %s %s.", view.Strong(l.Game.Display()), view.Named(b), view.WithAdditions(pin), what, view.Faint(fmt.Sprintf("(%s read in %s)", view.Count(d.AsBuilt, "file"), a.Now().Sub(started).Round(10*time.Millisecond))))
		if len(d.Extra)+len(d.Retimed) > 0 || d.Kept+d.Yielded+d.LeftOut > 0 {
			a.showDrift(c, d)
			a.NoteOdd(d.Odd)
		}
		if how := view.Established(b.Established()); how != "" {
			a.Say("  %s", view.Faint("Known by: "+how))
		}
	} else {
		if !c.Bool("json") && d.Any() {
			a.Say("%s is not quite %s: %s", view.Strong(l.Game.Display()), b.Label, view.Paint(view.Bad, view.Differs(d)))
			a.showDrift(c, d)
			a.NoteOdd(d.Odd)
		}
		if c.Bool("repair") {
			p, err := propose.Repair(ctx, l, tree)
			if err != nil {
				return err
			}
			return proposal.CarryOut(ctx, a.App, c, l, p)
		}
	}
	if err == nil && d.Any() {
		return app.ErrDifferent
	}
	return err
}
