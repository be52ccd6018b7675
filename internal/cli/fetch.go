package cli

import (
	"context"
	"fmt"
	"strings"

	"morvant/internal/lane/compose"

	"github.com/urfave/cli/v3"

	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/ref"
	"morvant/internal/volume"
)

func componentFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "component", Usage: "a `COMPONENT` of the build; none: those that the game has"}
}

func (a *app) fetchCommand() *cli.Command {
	return &cli.Command{
		Name: "fetch", Usage: "bring a build's missing content here, to be pinned later", ArgsUsage: "BUILD", Category: groupFeeds,
		Description: "Example: morvant fetch 1.1.1 --limit 5MB/s\n\n" +
			"Only what neither the store nor any file of the game holds comes over the line. What has arrived stays when the\n" +
			"fetch is interrupted, and is not fetched again.",
		Flags: append(append(changeFlags(), lineFlags()...), componentFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, 1, 1)
			if err != nil {
				return err
			}
			return a.withLane(ctx, c, func(l *lane.Lane, home *game.Home) error {
				b, err := a.findOffered(ctx, c, home, l.Game.Name, args[0])
				if err != nil {
					return err
				}
				f, err := compose.ProposeFetch(ctx, l, b, c.StringSlice("component"))
				if err != nil {
					return err
				}
				return a.fetch(ctx, c, l, f)
			})
		},
	}
}

type fetchJSON struct {
	Schema     string   `json:"schema"`
	Game       string   `json:"game"`
	Build      string   `json:"build"`
	Components []string `json:"components"`
	Feed       string   `json:"feed,omitempty"`
	Files      int      `json:"files"`
	Bytes      int64    `json:"bytes"`
	Fetch      int64    `json:"fetch_bytes"`
	Found      int64    `json:"found_bytes"`
	Grow       int64    `json:"store_growth_bytes"`
	Received   int64    `json:"received_bytes"`
	Done       bool     `json:"done"`
}

func (a *app) fetch(ctx context.Context, c *cli.Command, l *lane.Lane, f *compose.Fetch) error {
	dry := c.Bool("dry-run")
	j := fetchJSON{Schema: "morvant-fetch/1", Game: l.Game.Name, Build: f.Build.Name(), Components: append([]string{}, f.Choice.Names...), Done: !dry}
	p := f.Plan
	j.Files, j.Bytes, j.Fetch, j.Found, j.Grow = p.Files, p.Bytes, p.Fetch, p.Found, p.Grow
	if p.Feed != nil {
		j.Feed = p.Feed.Name
	}
	talk := !c.Bool("json") && !c.Bool("quiet")
	if talk {
		a.say("%s of %s (%s, %s)", strong(f.Build.Label), l.Game.Display(), f.Build.Line(), day(f.Build.Made))
		a.showChoice(f.Choice)
		a.showFetchPlan(p, l.Store.Dir())
	}
	if !dry {
		result, err := compose.CarryOutFetch(ctx, l, f)
		a.meter.End()
		if err != nil {
			return err
		}
		j.Received = result.Received
	}
	switch {
	case c.Bool("json"):
		return a.emit(j)
	case dry:
		a.say("This was a dry run; nothing was fetched.")
	case p.Empty() && talk:
		a.say("All of it is here already. Go to it: morvant pin %s", f.Build.Label)
	case talk:
		a.say("%s is here: %s came over the line. Go to it: morvant pin %s", paint(good, f.Build.Label), size(j.Received), f.Build.Label)
	}
	return nil
}

// showChoice says which components a build is taken with.
func (a *app) showChoice(ch *compose.Choice) {
	if ch == nil || len(ch.Names) == 0 {
		return
	}
	text := strings.Join(ch.Names, ", ")
	if ch.Found {
		text += faint(", those the folder has")
	}
	if len(ch.Others) > 0 {
		text += faint("; not " + strings.Join(ch.Others, ", ") + " (--component NAME)")
	}
	a.say("  components: %s", text)
}

// showFetchPlan says what comes over the line.
func (a *app) showFetchPlan(p *feed.Plan, storeDir string) {
	if p.Empty() {
		return
	}
	found := ""
	if p.Found > 0 {
		found = fmt.Sprintf("; %s found in files here", size(p.Found))
	}
	room := ""
	if free, err := volume.Free(storeDir); err == nil {
		room = fmt.Sprintf(", its disk has %s free", size(free))
	}
	a.say("  to fetch: %s from %s, for %s of %s%s", strong(size(p.Fetch)), p.Feed.Name, count(p.Files, "file"), size(p.Bytes), found)
	a.say("  the store grows by %s%s", size(p.Grow), room)
}

// findOffered finds the build that was typed; see findFresh.
func (a *app) findOffered(ctx context.Context, c *cli.Command, home *game.Home, name, text string) (*game.Build, error) {
	r, err := ref.Parse(text)
	if err != nil {
		return nil, err
	}
	return a.findFresh(ctx, c, home, name, r)
}

// findFresh finds a build, asking the feeds what is new first where the answer may depend
// on it: for what needs fresh catalogues, and for what is not known.
func (a *app) findFresh(ctx context.Context, c *cli.Command, home *game.Home, name string, r ref.Ref) (*game.Build, error) {
	if !r.NeedsFresh() {
		if found, err := home.FindBuild(ctx, name, r); err == nil {
			a.tellFound(r, found)
			return found.Build, nil
		}
	}
	a.refreshQuietly(ctx, c, home, name)
	return a.findBuild(ctx, home, name, r)
}

// refreshAfter is how old a catalogue may be before it is asked for again in passing.
const refreshAfter = 10 * 60 // seconds

func (a *app) refreshQuietly(ctx context.Context, c *cli.Command, home *game.Home, name string) {
	feeds, err := home.Feeds(name)
	if err != nil {
		return // said where it matters
	}
	for _, f := range feeds {
		if a.now().Sub(f.Refreshed).Seconds() < refreshAfter {
			continue
		}
		if err := f.Refresh(ctx, a.feedOptions(c)); err != nil && ctx.Err() == nil {
			a.note("Note: the feed %s could not be asked what is new (%s).", f.Name, oneLine(err))
		}
	}
}
