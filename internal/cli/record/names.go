package record

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/catalogue"
	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/names"
)

func (a commands) namesCommand() *cli.Command {
	return &cli.Command{
		Name: "names", Usage: "lists that give labels to builds: add, list, set, remove", Description: "Example: morvant builds names add quay-builds.toml",
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "take a list from a file or a web address", ArgsUsage: "FILE",
				Description: "Example: morvant builds names add quay-builds.toml\n\n" +
					"A list names builds by date, digest, id or the manifests of their components. It brings no content. Adding it again\n" +
					"takes its place. FILE may be an address: https://harbour.example/builds.toml",
				Flags:  append(app.LineFlags(), &cli.StringFlag{Name: "as", Usage: "call the list `NAME` here"}),
				Action: a.namesAdd,
			},
			{
				Name: "list", Usage: "list what the lists say, and what is here of it", Description: "Example: morvant builds names list",
				Action: a.OnGameAlone(a.namesList),
			},
			{
				Name: "set", Usage: "give a build a label in a list of your own", ArgsUsage: "LABEL",
				Description: "Example: morvant builds names set 2.0.14.1 --date 2031-05-20 --note \"before the storm\"",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "id", Usage: "the build's `ID` at its distributor"},
					&cli.StringFlag{Name: "date", Usage: "its `DATE` (2031-08-05)"},
					&cli.StringFlag{Name: "digest", Usage: "the beginning of its `DIGEST`"},
					&cli.StringSliceFlag{Name: "component", Usage: "the manifest of a component: `NAME=MANIFEST`"},
					&cli.StringFlag{Name: "note", Usage: "a `NOTE`, such as where to get it"},
				},
				Action: a.namesSet,
			},
			{
				Name: "remove", Usage: "forget a list", ArgsUsage: "LIST", Description: "Example: morvant builds names remove quay-builds", Flags: app.ChangeFlags(),
				Action: a.OnGame(1, 1, func(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
					if c.Bool("dry-run") {
						return a.Done(c, "The list "+args[0]+" would be forgotten. This was a dry run; nothing was changed.")
					}
					if err := names.Remove(game.NamesDir(home, name), args[0]); err != nil {
						return err
					}
					return a.Done(c, "The list "+args[0]+" is forgotten.")
				}),
			},
		},
	}
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

func (a commands) namesAdd(ctx context.Context, c *cli.Command) error {
	args, err := app.Arguments(c, 1, 1)
	if err != nil {
		return err
	}
	from := args[0]
	called := c.String("as")
	if called == "" {
		base := strings.TrimSuffix(path.Base(filepath.ToSlash(from)), ".toml")
		called = strings.Trim(notInNames.ReplaceAllString(strings.ToLower(base), "-"), "-")
	}
	if err := catalogue.CheckName(called); err != nil {
		return app.AsUsage(err)
	}
	return a.WithGame(ctx, c, func(home *game.Home, name string) error {
		b, err := a.readList(ctx, c, from)
		if err != nil {
			return err
		}
		l, err := names.Decode(called, b)
		if err != nil {
			return fmt.Errorf("%s: %w", from, err)
		}
		l.From = from
		if err := names.Write(game.NamesDir(home, name), l); err != nil {
			return err
		}
		return a.Done(c, fmt.Sprintf("The list %s has %s of %s. See them: morvant builds names list", called, view.Count(len(l.Builds), "build"), name))
	})
}

// readList reads a list from a file or a web address.
func (a commands) readList(ctx context.Context, c *cli.Command, from string) ([]byte, error) {
	if u, err := url.Parse(from); err == nil && (u.Scheme == "http" || u.Scheme == "https") {
		b, err := feed.Document(ctx, u, names.MaxSize, a.FeedOptions(c))
		if errors.Is(err, feed.ErrAddress) {
			return nil, app.Usagef("%s: a list comes over https, or from this computer", from)
		}
		return b, err
	}
	return a.ReadNamed(from, names.MaxSize)
}

func (a commands) namesSet(ctx context.Context, c *cli.Command) error {
	args, err := app.Arguments(c, 1, 1)
	if err != nil {
		return err
	}
	e := names.Entry{Label: args[0], ID: c.String("id"), Digest: strings.TrimPrefix(c.String("digest"), "="), Note: c.String("note")}
	when, err := app.Date(c.String("date"))
	if err != nil {
		return err
	}
	if !when.IsZero() {
		e.Date = when
		if len(c.String("date")) == len("2031-08-05") {
			e.Date = names.Day(when)
		}
	}
	for _, text := range c.StringSlice("component") {
		component, m, ok := strings.Cut(text, "=")
		if !ok {
			return app.Usagef("\"%s\" is not NAME=MANIFEST", text)
		}
		if e.Components == nil {
			e.Components = make(map[string]string)
		}
		e.Components[component] = m
	}
	if e.ID == "" && e.Digest == "" && e.Date == nil && e.Components == nil {
		return app.Usagef("say which build it is: --date, --digest, --id or --component")
	}
	return a.WithGame(ctx, c, func(home *game.Home, name string) error {
		if err := names.Set(game.NamesDir(home, name), e); err != nil {
			return app.AsUsage(err)
		}
		return a.Done(c, e.Label+" stands in your own list now.")
	})
}

func (a commands) namesList(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	lists, err := game.Lists(home, name)
	if err != nil {
		return err
	}
	builds, err := home.Builds(ctx, name)
	if err != nil {
		return err
	}
	meant := names.Match(lists, builds)
	if c.Bool("json") {
		entries := []view.EntryJSON{}
		for _, m := range meant {
			entries = append(entries, view.ToEntry(m))
		}
		return a.Emit(struct {
			Schema string           `json:"schema"`
			Game   string           `json:"game"`
			Names  []view.EntryJSON `json:"names"`
		}{"morvant-names/1", name, entries})
	}
	if len(lists) == 0 {
		a.Say("%s has no list of names. Add one: morvant builds names add FILE", name)
		return nil
	}
	var rows [][]string
	for _, m := range meant {
		date, is := "", "not here"
		if when, ok := m.Entry.When(); ok {
			date = when.Format("2006-01-02")
		}
		var of []string
		for _, b := range m.Builds {
			of = append(of, b.Name())
		}
		switch {
		case m.Clear():
			is = view.Paint(view.Good, of[0])
		case m.Against != "":
			is = view.Paint(view.Bad, of[0]+"? "+m.Against)
		case len(of) > 0:
			is = view.Paint(view.Bad, "fits several: "+strings.Join(of, ", "))
		}
		rows = append(rows, []string{m.Entry.Label, date, is, m.List, m.Entry.Note})
	}
	a.Table([]view.Column{
		{Head: "Label", Cut: view.CutMiddle}, {Head: "Date", Spare: 2}, {Head: "Is", Cut: view.CutEnd}, {Head: "List", Spare: 3}, {Head: "Note", Spare: 1, Cut: view.CutEnd},
	}, rows)
	return nil
}
