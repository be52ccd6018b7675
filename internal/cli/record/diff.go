package record

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/proposal"
	"morvant/internal/cli/view"
	"morvant/internal/feed/fetch"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/status"
	"morvant/internal/manifest"
	"morvant/internal/state"
)

func (a commands) diffCommand() *cli.Command {
	return &cli.Command{
		Name: "diff", Usage: "what changes from one build to another", ArgsUsage: "A [B]", Category: app.GroupRecord,
		Description: "Example: morvant diff 1.1.1 here\n         morvant diff 1.1.1 1.3.0 --text readme.txt\n         morvant diff lane/old here\n         morvant diff mods/trees ./friends-trees.mods.toml\n\n" +
			"Without B it is here, the folder as it is now. A and B may be builds, lane/NAME for the folder of another lane, ./FOLDER for one elsewhere,\n" +
			"mods/NAME for a set of mods, or ./FILE for a list of mods. Your own files are compared by mod folder.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "list every file, not only the biggest"},
			&cli.StringFlag{Name: "report", Usage: "write it as a page to read in a browser: `FILE.html`"},
			&cli.StringFlag{Name: "text", Usage: "compare the lines of the text file `PATH`"},
			&cli.BoolFlag{Name: "exit-code", Usage: "exit with 3 if anything differs (so does --quiet)"},
			&cli.BoolFlag{Name: "dry-run", Aliases: []string{"n"}, Usage: "with --report: only say which file would be written"},
			app.ComponentFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			args, err := app.Arguments(c, 1, 2)
			if err != nil {
				return err
			}
			if len(args) == 1 {
				args = append(args, state.Here)
			}
			return a.WithLane(ctx, c, app.Looking, func(l *lane.Lane) error {
				return a.diff(ctx, c, l, l.Home, args[0], args[1])
			})
		},
	}
}

// showLeftOut counts, where a build is compared with the folder that is held at it, what the pin leaves out.
func (a commands) showLeftOut(ctx context.Context, l *lane.Lane, sides ...*status.Side) error {
	pin, b, err := l.Pin(ctx)
	if err != nil || b == nil || len(pin.LeaveOut) == 0 || !slices.ContainsFunc(sides, func(s *status.Side) bool { return s.Label == b.Label }) {
		return err
	}
	c, err := compose.OfPin(ctx, l, b, pin)
	if err != nil {
		return err
	}
	if n := len(c.Sheet.LeftOut); n > 0 {
		a.Say("  %s of %s%s left out by the pin.", view.Count(n, "file"), b.Label, view.AreIs(n))
	}
	return nil
}

func (a commands) diff(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, refA, refB string) error {
	from, err := find.Side(ctx, a.App, c, l, home, refA)
	if err != nil {
		return err
	}
	to, err := find.Side(ctx, a.App, c, l, home, refB)
	if err != nil {
		return err
	}
	if p := filepath.ToSlash(c.String("text")); p != "" {
		return a.diffText(ctx, c, l, from, to, p)
	}
	d := status.Compare(l, from, to)
	if file := c.String("report"); file != "" {
		if err := a.mayWrite(c, file); err != nil {
			return err
		}
		if err := a.writeReport(ctx, l, d, file); err != nil {
			return err
		}
		return a.Done(c, file+" has what changes from "+from.Label+" to "+to.Label+"; open it in a browser.")
	}
	cost, costErr := status.Cost(ctx, l, to)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	switch {
	case c.Bool("json"):
		j := view.ToDiffJSON(l.Game.Name, d)
		if cost != nil {
			j.Fetch = &cost.Fetch
		}
		err = a.Emit(j)
	case !c.Bool("quiet"):
		a.showDiff(c, l, d)
		if err := a.showLeftOut(ctx, l, from, to); err != nil {
			return err
		}
		a.showCost(to, cost, costErr)
	}
	if err == nil && (c.Bool("quiet") || c.Bool("exit-code")) && (!d.Build.Empty() || d.OnlyMods && !d.Kept.Empty()) {
		return app.ErrDifferent
	}
	return err
}

func (a commands) showDiff(c *cli.Command, l *lane.Lane, d *status.Difference) {
	from, to := d.From.Label, d.To.Label
	if to == state.Here {
		to = "the folder as it is now"
	}
	if d.OnlyMods {
		a.showMods(c, l, d)
		return
	}
	if d.Build.Empty() {
		a.Say("%s: %s and %s are the same, %s.", view.Strong(l.Game.Display()), from, to, view.Count(d.Build.Same, "file"))
	} else {
		a.Say("%s: from %s to %s", view.Strong(l.Game.Display()), from, to)
		a.Say("  %s changed, %s added, %s removed, %s moved, %s the same; %s of new content",
			view.Comma(len(d.Build.Changed)), view.Comma(len(d.Build.Added)), view.Comma(len(d.Build.Removed)), view.Comma(len(d.Build.Moved)), view.Comma(d.Build.Same), view.Size(d.Build.BytesIn()))
		a.Say("")
		a.Table(view.FileColumns("Change"), view.DiffRows(d.Build, c.Bool("all") || c.Bool("verbose")))
	}
	if k := d.Kept; !k.Empty() {
		a.Say("\nYour own files (keep rules): %s changed, %s added, %s removed, %s moved. A pin leaves them alone.",
			view.Comma(len(k.Changed)), view.Comma(len(k.Added)), view.Comma(len(k.Removed)), view.Comma(len(k.Moved)))
		all := c.Bool("all") || c.Bool("verbose")
		if rows := view.ModFolderRows(d.Mods, d.From.Label, to, all); len(rows) > 0 {
			a.Say("")
			a.Table(view.ModFolderColumns(), rows)
		}
		if all {
			a.Table(view.FileColumns("Change"), view.DiffRows(k, true))
		}
	} else if n := len(d.Mods); n > 0 {
		a.Say("Your own files are the same, too: %s.", view.Count(n, "mod folder"))
	}
}

// showMods shows how mods compare, folder by folder.
func (a commands) showMods(c *cli.Command, l *lane.Lane, d *status.Difference) {
	from, to := d.From.Label, d.To.Label
	if d.Kept.Empty() {
		a.Say("%s: the mods of %s and %s are the same, %s.", view.Strong(l.Game.Display()), from, to, view.Count(d.Kept.Same, "file"))
		return
	}
	all := c.Bool("all") || c.Bool("verbose")
	a.Say("%s: mods, from %s to %s", view.Strong(l.Game.Display()), from, to)
	a.Say("  %s changed, %s added, %s removed, %s moved, %s the same", view.Comma(len(d.Kept.Changed)), view.Comma(len(d.Kept.Added)), view.Comma(len(d.Kept.Removed)), view.Comma(len(d.Kept.Moved)), view.Comma(d.Kept.Same))
	a.Say("")
	a.Table(view.ModFolderColumns(), view.ModFolderRows(d.Mods, from, to, all))
	if all {
		a.Table(view.FileColumns("Change"), view.DiffRows(d.Kept, true))
	}
}

// showCost says what a fetch of a side would come to.
func (a commands) showCost(to *status.Side, cost *fetch.Plan, err error) {
	proposal.ShowChoice(a.App, to.Choice)
	switch {
	case errors.Is(err, fetch.ErrNoContent):
		a.Say("  %s cannot be fetched: %s", to.Label, err)
	case err != nil:
		a.Say("  how much a fetch of %s would download is not known: %s", to.Label, view.OneLine(err))
	case cost.Empty():
	case cost.Fetch == 0:
		a.Say("  nothing to download for %s: files here have all of it", to.Label)
	default:
		a.Say("  fetching %s would download %s", to.Label, view.Size(cost.Fetch))
	}
}

func (a commands) diffText(ctx context.Context, c *cli.Command, l *lane.Lane, from, to *status.Side, p string) error {
	old, inOld, err := status.Text(ctx, l, from, p)
	if err != nil {
		return err
	}
	fresh, inNew, err := status.Text(ctx, l, to, p)
	if err != nil {
		return err
	}
	if !inOld && !inNew {
		return &state.UnknownError{Kind: "file", Name: p, Near: nearestPaths(p, from.Manifest, to.Manifest)}
	}
	for _, text := range [][]byte{old, fresh} {
		if !view.IsText(text) {
			return app.Usagef("%s is not a text file, so it has no lines to compare", p)
		}
	}
	diff := udiff.Unified(from.Label+"/"+p, to.Label+"/"+p, string(old), string(fresh))
	if c.Bool("json") {
		err = a.Emit(struct {
			Schema string `json:"schema"`
			Path   string `json:"path"`
			From   string `json:"from"`
			To     string `json:"to"`
			Diff   string `json:"diff"`
		}{"morvant-text-diff/1", p, from.Label, to.Label, diff})
	} else if diff == "" {
		a.Say("%s is the same in %s and %s.", p, from.Label, to.Label)
	} else if !c.Bool("quiet") {
		for line := range strings.Lines(diff) {
			fmt.Fprint(a.Out, view.PaintLine(line))
		}
	}
	if err == nil && diff != "" && (c.Bool("quiet") || c.Bool("exit-code")) {
		return app.ErrDifferent
	}
	return err
}

// nearestPaths finds paths that end like p.
func nearestPaths(p string, manifests ...*manifest.Manifest) []string {
	base := strings.ToLower(p[strings.LastIndexByte(p, '/')+1:])
	var near []string
	for _, m := range manifests {
		for _, f := range m.Files {
			if len(near) < 3 && strings.Contains(strings.ToLower(f.Path), base) && !slices.Contains(near, f.Path) {
				near = append(near, f.Path)
			}
		}
	}
	return near
}
