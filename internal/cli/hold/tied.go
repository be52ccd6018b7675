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

// pinTied pins a game as proposed, and those that it is tied to at the build of the same label: all or none.
func pinTied(ctx context.Context, a *app.App, c *cli.Command, home *game.Home, l *lane.Lane, p *change.Proposal) (err error) {
	switch {
	case c.IsSet("lane"):
		return app.Usagef("--with-tied is about the live folders of the games; leave --lane out")
	case len(l.Base.Tied()) == 0:
		return app.Usagef("%s is tied to no game: morvant game set --with GAME", l.Game.Name)
	}
	games := []propose.Tied{{Lane: l, Proposal: p}}
	for _, name := range l.Base.Tied() {
		session, opened := a.OpenLaneOf(ctx, c, home, name, app.ToChange)
		if opened != nil {
			return opened
		}
		defer session.Close(&err)
		q, err := pinAs(ctx, a, c, home, session.Lane, p.Build.Label)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		games = append(games, propose.Tied{Lane: session.Lane, Proposal: q})
	}
	dry, asJSON := c.Bool("dry-run"), c.Bool("json")
	var unready error
	for _, g := range games {
		if !asJSON && !c.Bool("quiet") {
			proposal.ShowPlan(a, c, g.Lane, g.Proposal)
		}
		unready = errors.Join(unready, change.Ready(g.Lane, g.Proposal))
	}
	if !dry {
		if unready != nil {
			return unready
		}
		if err := a.Ask(c, fmt.Sprintf("Go ahead with all %d games?", len(games))); err != nil {
			return err
		}
		if err := propose.CarryOutAll(ctx, games); err != nil {
			return err
		}
	}
	if asJSON {
		return a.Emit(tiedJSON(games, !dry))
	}
	if dry {
		a.Say("\nThis was a dry run; nothing was changed.")
		return nil
	}
	for _, g := range games {
		a.Say("%s", view.Outcome(g.Lane, g.Proposal))
	}
	return nil
}

// pinAs plans the pin of a game to the build of a label.
func pinAs(ctx context.Context, a *app.App, c *cli.Command, home *game.Home, l *lane.Lane, label string) (*change.Proposal, error) {
	b, err := find.Offered(ctx, a, c, home, l.Game.Name, label)
	if err != nil {
		return nil, err
	}
	return propose.Pin(ctx, l, b, propose.PinOptions{Hold: true, Inherit: true, Open: c.Bool("no-block")})
}

// tiedJSON is the document of the changes of several games, each within the one before it.
func tiedJSON(games []propose.Tied, done bool) view.PlanJSON {
	j := view.ToPlanJSON(games[0].Lane.Game.Name, games[0].Proposal, done)
	if len(games) > 1 {
		with := tiedJSON(games[1:], done)
		j.Tied = &with
	}
	return j
}
