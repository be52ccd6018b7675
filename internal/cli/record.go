package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/scan"
)

func (a *app) snapshotCommand() *cli.Command {
	return &cli.Command{
		Name: "snapshot", Usage: "record the live folder, content included", ArgsUsage: "[LABEL]", Category: "record",
		Description: "Example: morvant snapshot 1.1.1 --note 'with all mods, everything works'\n\n" +
			"Without a label the date and time become the label. What is in the store already is not stored again.",
		Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "a line of your own about it"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, 0, 1)
			if err != nil {
				return err
			}
			label := ""
			if len(args) > 0 {
				if label = args[0]; label == "" {
					return usagef("the label is empty; leave it out for the date and time")
				}
			}
			return a.withLane(ctx, c, func(l *lane.Lane, home *game.Home) error {
				s, err := l.Snapshot(ctx, label, c.String("note"))
				if err != nil {
					return err
				}
				return a.showSnapshot(c, l, s)
			})
		},
	}
}

type buildJSON struct {
	Label  string    `json:"label"`
	Date   time.Time `json:"date"`
	Digest string    `json:"digest"`
	Files  int       `json:"files"`
	Bytes  int64     `json:"bytes"`
	Note   string    `json:"note,omitempty"`
	Pinned bool      `json:"pinned"`
}

func toBuildJSON(b *game.Build, pin game.Pin) buildJSON {
	return buildJSON{b.Label, b.Made, b.Digest().String(), b.Files, b.Bytes, b.Note, pin.Build == b.UID}
}

func (a *app) showSnapshot(c *cli.Command, l *lane.Lane, s *lane.Snapshot) error {
	if c.Bool("json") {
		return a.emit(struct {
			Schema string `json:"schema"`
			Game   string `json:"game"`
			buildJSON
			StoredBytes int64    `json:"stored_bytes"`
			LeftOut     []string `json:"left_out"`
		}{"morvant-snapshot/1", l.Game.Name, toBuildJSON(s.Build, game.Pin{}), s.Stored, oddPaths(s.Odd)})
	}
	a.say("%s of %s is recorded: %s, %s; the store grew by %s.",
		strong(s.Build.Label), l.Game.Display(), count(s.Build.Files, "file"), size(s.Build.Bytes), size(s.Stored))
	if s.Same != nil {
		a.say("Its content is the same as that of %s.", s.Same.Label)
	}
	a.noteOdd(s.Odd)
	return nil
}

func oddPaths(odd []scan.Oddity) []string {
	list := []string{}
	for _, o := range odd {
		list = append(list, o.Path)
	}
	return list
}

// noteOdd tells what was left out, a few by name.
func (a *app) noteOdd(odd []scan.Oddity) {
	for i, o := range odd {
		if i == 5 {
			a.note("Note: %d more are left out.", len(odd)-i)
			return
		}
		what := o.What
		if !o.Name {
			what = o.Path + " is " + what
		}
		a.note("Note: %s; Morvant leaves it alone.", what)
	}
}

func (a *app) buildsCommand() *cli.Command {
	return &cli.Command{
		Name: "builds", Usage: "list what is known of a game's builds", Category: "record",
		Description: "Example: morvant builds --find mods\n\n" +
			"Wherever a build is named, any of these will do: its label; @2031-08-05, the newest of that day or before;\n" +
			"=3fa9c1, the beginning of its digest; newest; before; here, the folder as it is now.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "on", Usage: "which build was the newest on this `DATE` (2031-08-05)"},
			&cli.StringFlag{Name: "find", Usage: "only those with this `TEXT` in label or note"},
		},
		Action: a.onGame(a.builds),
		Commands: []*cli.Command{{
			Name: "forget", Usage: "forget a snapshot; store trim then gives its space back", ArgsUsage: "BUILD",
			Description: "Example: morvant builds forget 1.0.0",
			Action: func(ctx context.Context, c *cli.Command) error {
				args, err := arguments(c, 1, 1)
				if err != nil {
					return err
				}
				return a.withGame(ctx, c, func(home *game.Home, name string) error {
					return a.forgetBuild(ctx, c, home, name, args[0])
				})
			},
		}},
	}
}

func (a *app) builds(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	list, err := home.Builds(ctx, name)
	if err != nil {
		return err
	}
	if on := c.String("on"); on != "" {
		found, err := home.FindBuild(ctx, name, "@"+strings.TrimPrefix(on, "@"))
		if err != nil {
			return err
		}
		list = append([]*game.Build{found.Build}, found.SameDay...)
	}
	if text := strings.ToLower(c.String("find")); text != "" {
		var fits []*game.Build
		for _, b := range list {
			if strings.Contains(strings.ToLower(b.Label+"\n"+b.Note), text) {
				fits = append(fits, b)
			}
		}
		list = fits
	}
	pin, err := home.Pin(ctx, name, game.MainLane)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		out := []buildJSON{}
		for _, b := range list {
			out = append(out, toBuildJSON(b, pin))
		}
		return a.emit(struct {
			Schema string      `json:"schema"`
			Game   string      `json:"game"`
			Builds []buildJSON `json:"builds"`
		}{"morvant-builds/1", name, out})
	}
	if len(list) == 0 {
		a.say("No builds of %s fit. Record one: morvant snapshot LABEL", g.Display())
		return nil
	}
	var rows [][]string
	for i, b := range list {
		state := ""
		if b.UID == pin.Build {
			state = paint(good, "held")
		} else if c.IsSet("on") && i == 0 {
			state = paint(fresh, "newest that day")
		}
		rows = append(rows, []string{b.Label, day(b.Made), count(b.Files, "file"), size(b.Bytes), "=" + b.Digest().Short()[:8], state, b.Note})
	}
	a.say("%s", grid([]string{"Build", "Date", ">Files", ">Size", "Digest", "State", "Note"}, rows))
	return nil
}

func (a *app) forgetBuild(ctx context.Context, c *cli.Command, home *game.Home, name, ref string) error {
	found, err := home.FindBuild(ctx, name, ref)
	if err != nil {
		return err
	}
	pin, err := home.Pin(ctx, name, game.MainLane)
	if err != nil {
		return err
	}
	if pin.Build == found.UID {
		return usagef("%s is what %s is held to; run morvant unpin or pin another build first", found.Label, name)
	}
	if err := a.ask(c, fmt.Sprintf("Forget %s (%s, %s)?", found.Label, day(found.Made), size(found.Bytes))); err != nil {
		return err
	}
	if err := home.ForgetBuild(ctx, found.Build); err != nil {
		return err
	}
	if c.Bool("json") {
		return a.emit(struct {
			Schema string `json:"schema"`
			Build  string `json:"build"`
		}{"morvant-forgotten/1", found.Label})
	}
	a.say("%s is forgotten. morvant store trim gives its space back.", found.Label)
	return nil
}
