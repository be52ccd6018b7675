package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"morvant/internal/lane/compose"
	"morvant/internal/lane/record"

	"github.com/urfave/cli/v3"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/ref"
	"morvant/internal/scan"
	"morvant/internal/store"
)

func (a *app) snapshotCommand() *cli.Command {
	return &cli.Command{
		Name: "snapshot", Usage: "record the live folder, content included", ArgsUsage: "[LABEL]", Category: groupRecord,
		Description: "Example: morvant snapshot 1.1.1 --note \"with all mods, everything works\"\n\n" +
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
				s, err := record.Snapshot(ctx, l, label, c.String("note"))
				if err != nil {
					return err
				}
				return a.showSnapshot(c, l, s)
			})
		},
	}
}

type partJSON struct {
	Component string `json:"component"`
	Manifest  string `json:"manifest"`
	Files     int    `json:"files"`
	Bytes     int64  `json:"bytes"`
	Download  int64  `json:"download_bytes"`
}

type buildJSON struct {
	Label   string    `json:"label"`
	Channel string    `json:"channel"` // "snapshot" for what was recorded here
	Date    time.Time `json:"date"`
	Digest  string    `json:"digest"`
	Files   int       `json:"files"`
	Bytes   int64     `json:"bytes"`
	Note    string    `json:"note,omitempty"`
	OwnNote string    `json:"own_note,omitempty"`
	Pinned  bool      `json:"pinned"`
	// Of a feed's build.
	Feeds      []string   `json:"feeds,omitempty"`
	Components []partJSON `json:"components,omitempty"`
	Download   int64      `json:"download_bytes,omitempty"`
	Here       *int64     `json:"here_bytes,omitempty"`
}

func toBuildJSON(b *game.Build, pin game.Pin) buildJSON {
	j := buildJSON{
		Label: b.Label, Channel: b.Line(), Date: b.Made, Digest: b.Digest().String(), Files: b.Files, Bytes: b.Bytes,
		Note: b.Note, OwnNote: b.Own, Pinned: b.Is(pin), Download: download(b),
	}
	for _, f := range b.Feeds {
		j.Feeds = append(j.Feeds, f.Name)
	}
	for _, p := range b.Components {
		j.Components = append(j.Components, partJSON{p.Name, p.Manifest.String(), p.Files, p.Bytes, p.Download})
	}
	return j
}

// download returns the bytes of all components of a feed's build, as they come
// over the line.
func download(b *game.Build) int64 {
	var n int64
	for _, p := range b.Components {
		n += p.Download
	}
	return n
}

func (a *app) showSnapshot(c *cli.Command, l *lane.Lane, s *record.Taken) error {
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
		Name: "builds", Usage: "list what is known of a game's builds", Category: groupRecord,
		Description: "Example: morvant builds --find mods\n\n" +
			"Snapshots, and what feeds offer. Wherever a build is named, any of these will do: its label; preview/1.5, a label\n" +
			"in a channel (snapshot/1.5 for a snapshot); @2031-08-05, the newest of that day or before; =3fa9c1, the beginning\n" +
			"of its digest; newest; before; here, the folder as it is now.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "on", Usage: "which build was the newest on this `DATE` (2031-08-05), and those near it"},
			&cli.StringFlag{Name: "find", Usage: "only those with this `TEXT` in label or note"},
			&cli.StringFlag{Name: "channel", Usage: "only those of this `CHANNEL` (snapshot for those recorded here)"},
			&cli.StringFlag{Name: "plot", Usage: "draw their history: `FILE.png` or FILE.svg"},
		},
		Action: a.onGame(a.builds),
		Commands: []*cli.Command{
			{
				Name: "note", Usage: "set your own note on a build; without TEXT take it away", ArgsUsage: "BUILD [TEXT]",
				Description: "Example: morvant builds note 1.1.1 \"the one for the race\"",
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := arguments(c, 1, 2)
					if err != nil {
						return err
					}
					return a.withGame(ctx, c, func(home *game.Home, name string) error {
						b, err := a.namedBuild(ctx, home, name, args[0])
						if err != nil {
							return err
						}
						text := strings.Join(args[1:], "")
						if err := home.SetNote(ctx, b, text); err != nil {
							return usage{err}
						}
						if text == "" {
							return a.done(c, "Your note on "+b.Label+" is gone.")
						}
						return a.done(c, "Noted on "+b.Label+": "+text)
					})
				},
			},
			{
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
			},
		},
	}
}

// buildList is what builds lists, with what is to be said of each.
type buildList struct {
	builds []*game.Build
	said   map[*game.Build]string
}

func (a *app) listBuilds(ctx context.Context, c *cli.Command, home *game.Home, name string) (*buildList, error) {
	list := &buildList{said: make(map[*game.Build]string)}
	var err error
	if list.builds, err = home.Builds(ctx, name); err != nil {
		return nil, err
	}
	if on := c.String("on"); on != "" {
		r, err := ref.OfDay(c.String("channel"), on)
		if err != nil {
			return nil, err
		}
		found, err := home.FindBuild(ctx, name, r)
		if err != nil {
			return nil, err
		}
		list.near(found)
	}
	text := strings.ToLower(c.String("find"))
	list.builds = slices.DeleteFunc(list.builds, func(b *game.Build) bool {
		return !strings.Contains(strings.ToLower(b.Label+"\n"+b.Note+"\n"+b.Own), text) ||
			c.IsSet("channel") && b.Line() != c.String("channel")
	})
	return list, nil
}

// near reduces the list to the build that a date led to and those around it.
func (l *buildList) near(found game.Found) {
	l.builds = nil
	add := func(b *game.Build, what string) {
		if b != nil {
			l.builds = append(l.builds, b)
			l.said[b] = what
		}
	}
	add(found.Later, "the next")
	add(found.Build, paint(fresh, "current that day"))
	for _, b := range found.SameDay {
		add(b, "the same day")
	}
	add(found.Earlier, "the one before")
}

func (a *app) builds(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	list, err := a.listBuilds(ctx, c, home, name)
	if err != nil {
		return err
	}
	if c.IsSet("plot") && len(list.builds) > 0 {
		return a.plotBuilds(ctx, c, home, g, list.builds)
	}
	is, err := home.Lane(ctx, name, "")
	if err != nil {
		return err
	}
	here, err := a.here(ctx, home, g, list.builds)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		out := []buildJSON{}
		for _, b := range list.builds {
			j := toBuildJSON(b, is.Pin)
			if b.Components != nil {
				n := here.Bytes[b]
				j.Here = &n
			}
			out = append(out, j)
		}
		return a.emit(struct {
			Schema string      `json:"schema"`
			Game   string      `json:"game"`
			Builds []buildJSON `json:"builds"`
		}{"morvant-builds/1", name, out})
	}
	if len(list.builds) == 0 {
		a.say("No builds of %s fit. Record one: morvant snapshot LABEL; or add a feed: morvant feed add ADDRESS", g.Display())
		return nil
	}
	a.showBuilds(c, list, is.Pin, here)
	return nil
}

// here tells how much of each feed's build is on this computer.
func (a *app) here(ctx context.Context, home *game.Home, g *game.Game, list []*game.Build) (*compose.Presence, error) {
	if !slices.ContainsFunc(list, func(b *game.Build) bool { return len(b.Feeds) > 0 }) {
		return &compose.Presence{}, nil
	}
	s, err := store.Open(ctx, home.StoreDir())
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return compose.Here(ctx, home, s, g, list)
}

func (a *app) showBuilds(c *cli.Command, list *buildList, pin game.Pin, here *compose.Presence) {
	feeds := slices.ContainsFunc(list.builds, func(b *game.Build) bool { return b.Components != nil })
	var rows [][]string
	for _, b := range list.builds {
		state := list.said[b]
		if b.Is(pin) {
			state = strings.TrimPrefix(state+", "+paint(good, "held"), ", ")
		}
		note := b.Note
		if b.Own != "" {
			note = strings.TrimPrefix(note+"; yours: "+b.Own, "; ")
		}
		row := []string{b.Label, b.Line(), day(b.Made), size(b.Bytes)}
		if feeds {
			fetch, have := "", "all"
			if b.Components != nil {
				if have = share(here.Bytes[b], b.Bytes); here.Unread && here.Bytes[b] < b.Bytes {
					have = "?"
				}
				if fetch = size(download(b)); download(b) == 0 {
					fetch = "not offered"
				}
			}
			row = append(row, fetch, have, a.shorten(c, strings.Join(b.ComponentNames(), ", "), 26))
		} else {
			row = append(row, count(b.Files, "file"), "="+b.Digest().Short()[:8])
		}
		if c.Bool("verbose") && feeds {
			row = append(row, "="+b.Digest().Short()[:8])
		}
		rows = append(rows, append(row, state, note))
	}
	head := []string{"Build", "Channel", "Date", ">Size", ">Files", "Digest", "State", "Note"}
	if feeds {
		head = []string{"Build", "Channel", "Date", ">Size", ">Download", ">Here", "Components", "State", "Note"}
		if c.Bool("verbose") {
			head = slices.Insert(head, 7, "Digest")
		}
	}
	a.say("%s", a.fitted(head, rows))
	if here.Unread {
		a.say("%s", faint("?: files of the live folder have changed since they were last read; morvant identify reads them."))
	}
}

// shorten shortens a text on a terminal, unless everything is wanted.
func (a *app) shorten(c *cli.Command, text string, n int) string {
	if c.Bool("verbose") || a.width() == 0 {
		return text
	}
	return clip(text, n)
}

// share writes how much of a whole is there.
func share(part, whole int64) string {
	switch {
	case whole == 0 || part >= whole:
		return "all"
	case part == 0:
		return "nothing"
	}
	return percent(float64(part) / float64(whole))
}

func (a *app) forgetBuild(ctx context.Context, c *cli.Command, home *game.Home, name, text string) error {
	r, err := ref.Parse(text)
	if err != nil {
		return err
	}
	found, err := home.FindBuild(ctx, name, r)
	if err != nil {
		return err
	}
	lanes, err := home.Lanes(ctx, name)
	if err != nil {
		return err
	}
	if found.UID == "" {
		return usagef("%s is not a snapshot but what a feed offers; morvant feed remove forgets the feed", found.Name())
	}
	for _, l := range lanes {
		if found.Is(l.Pin) || l.Pin.Lays(found.Build) {
			return usagef("%s is what lane %s of %s is held to; run morvant unpin or pin another build first", found.Label, l.Name, name)
		}
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
