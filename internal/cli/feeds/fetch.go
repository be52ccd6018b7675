package feeds

import (
	"context"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/proposal"
	"morvant/internal/cli/view"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
)

func (a commands) fetchCommand() *cli.Command {
	return &cli.Command{
		Name: "fetch", Usage: "download what is missing of a build, to pin it later", ArgsUsage: "BUILD", Category: app.GroupFeeds,
		Description: "Example: morvant fetch 1.1.1 --limit 5MB/s\n\n" +
			"Downloads only what neither the store nor any file of the game has. What has arrived stays when the\n" +
			"fetch is interrupted, and is not downloaded again.",
		Flags: append(append(app.ChangeFlags(), app.FetchFlags()...), app.ComponentFlag(), app.OnlyFlag()),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			args, err := app.Arguments(c, 1, 1)
			if err != nil {
				return err
			}
			if err := app.CheckOnly(c); err != nil {
				return err
			}
			return a.WithLane(ctx, c, app.ToLook, func(l *lane.Lane) error {
				b, err := find.Offered(ctx, a.App, c, l.Home, l.Game.Name, args[0])
				if err != nil {
					return err
				}
				f, err := compose.ProposeFetch(ctx, l, b, c.StringSlice("component"), c.Bool("only"))
				if err != nil {
					return err
				}
				return a.fetch(ctx, c, l, f)
			})
		},
	}
}

func (a commands) fetch(ctx context.Context, c *cli.Command, l *lane.Lane, f *compose.Fetch) error {
	dry := c.Bool("dry-run")
	j := view.FetchJSON{Schema: "morvant-fetch/1", Game: l.Game.Name, Build: f.Build.Name(), Components: append([]string{}, f.Choice.Names...), Done: !dry}
	p := f.Plan
	j.Files, j.Bytes, j.Fetch, j.Found, j.Grow = p.Files, p.Bytes, p.Fetch, p.Found, p.Grow
	if p.Feed != nil {
		j.Feed = p.Feed.Name
	}
	talk := !c.Bool("json") && !c.Bool("quiet")
	if talk {
		a.Say("%s of %s (%s, %s)", view.Strong(f.Build.Label), l.Game.Display(), f.Build.Line(), view.Day(f.Build.Made))
		proposal.ShowChoice(a.App, f.Choice)
		proposal.ShowFetchPlan(a.App, p, l.Store.Dir())
	}
	if !dry {
		result, err := compose.CarryOutFetch(ctx, l, f)
		a.Meter.End()
		if err != nil {
			return err
		}
		j.Received = result.Received
	}
	switch {
	case c.Bool("json"):
		return a.Emit(j)
	case dry:
		a.Say("This was a dry run; nothing was fetched.")
	case p.Empty() && talk:
		a.Say("Everything is here already. Use it: morvant pin %s", view.Quoted(f.Build.Label))
	case talk:
		a.Say("%s is here; %s was downloaded. Use it: morvant pin %s", view.Paint(view.Good, f.Build.Label), view.Size(j.Received), view.Quoted(f.Build.Label))
	}
	return nil
}
