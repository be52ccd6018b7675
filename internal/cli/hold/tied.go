package hold

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/proposal"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/propose"
)

// pinBoth pins a game as proposed, and the one that it is tied to at the build of the same label: both or
// neither.
func pinBoth(ctx context.Context, a *app.App, c *cli.Command, home *game.Home, l *lane.Lane, p *change.Proposal) (err error) {
	switch {
	case c.IsSet("lane"):
		return app.Usagef("--with-tied is about the live folders of both games; leave --lane out")
	case l.Base.With == "":
		return app.Usagef("%s is tied to no game: morvant game set --with GAME", l.Game.Name)
	}
	session, err := a.OpenLaneOf(ctx, c, home, l.Base.With, app.ToChange)
	if err != nil {
		return err
	}
	defer session.Close(&err)
	other := session.Lane
	b, err := find.Offered(ctx, a, c, home, other.Game.Name, p.Build.Label)
	if err != nil {
		return fmt.Errorf("%s: %w", other.Game.Name, err)
	}
	q, err := propose.Pin(ctx, other, b, propose.PinOptions{Hold: true, Inherit: true, Open: c.Bool("no-block")})
	if err != nil {
		return fmt.Errorf("%s: %w", other.Game.Name, err)
	}
	dry, asJSON := c.Bool("dry-run"), c.Bool("json")
	if !asJSON && !c.Bool("quiet") {
		proposal.ShowPlan(a, c, l, p)
		proposal.ShowPlan(a, c, other, q)
	}
	if !dry {
		if err := errors.Join(change.Ready(l, p), change.Ready(other, q)); err != nil {
			return err
		}
		if err := a.Ask(c, "Go ahead with both?"); err != nil {
			return err
		}
		if err := propose.CarryOutBoth(ctx, l, p, other, q); err != nil {
			return err
		}
	}
	if asJSON {
		j := view.ToPlanJSON(l.Game.Name, p, !dry)
		with := view.ToPlanJSON(other.Game.Name, q, !dry)
		j.Tied = &with
		return a.Emit(j)
	}
	if dry {
		a.Say("\nThis was a dry run; nothing was changed.")
		return nil
	}
	a.Say("%s", view.Outcome(l, p))
	a.Say("%s", view.Outcome(other, q))
	return nil
}
