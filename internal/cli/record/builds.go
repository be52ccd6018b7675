package record

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/catalogue"
	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/record"
	"morvant/internal/names"
	"morvant/internal/ref"
	"morvant/internal/resolve"
	"morvant/internal/state"
	"morvant/internal/store"
	"morvant/internal/volume"
)

func (a commands) buildsCommand() *cli.Command {
	return &cli.Command{
		Name: "builds", Usage: "list the known builds of a game", Category: app.GroupRecord,
		Description: "Example: morvant builds --find mods\n\n" +
			"Lists your snapshots, and what feeds offer. You can name a build by its label; by preview/1.5, a label\n" +
			"in a channel (snapshot/1.5 for a snapshot); by @2031-08-05, the newest of that day or before; by =3fa9c1, the beginning\n" +
			"of its digest; by newest or before; or by here, the folder as it is now.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "on", Usage: "which build was the newest on this `DATE` (2031-08-05), and those near it"},
			&cli.StringFlag{Name: "for", Usage: "which build was current when this `FILE` was made: a replay, a save, an archive"},
			&cli.StringFlag{Name: "date", Usage: "with --for: when the file was made, if its own date is wrong: `DATE`"},
			&cli.BoolFlag{Name: "all", Usage: "also list files that were recorded for overlays"},
			&cli.StringFlag{Name: "find", Usage: "only those with this `TEXT` in label or note, or with the manifest of this number"},
			&cli.StringFlag{Name: "with", Usage: "only those that have the `FILE`, wherever it lies and whatever it is called"},
			&cli.StringFlag{Name: "channel", Usage: "only those of this `CHANNEL` (snapshot for those recorded here)"},
			&cli.StringFlag{Name: "plot", Usage: "draw their history: `FILE.png` or FILE.svg"},
			&cli.BoolFlag{Name: "dry-run", Aliases: []string{"n"}, Usage: "with --plot: only say which file would be written"},
		},
		Action: a.OnGameAlone(a.builds),
		Commands: []*cli.Command{
			{
				Name: "note", Usage: "set your own note on a build; without TEXT remove it", ArgsUsage: "BUILD [TEXT]",
				Description: "Example: morvant builds note 1.1.1 \"the one for the race\"",
				Action: a.onBuild(2, func(ctx context.Context, c *cli.Command, home *game.Home, b *state.Build, rest []string) error {
					text := strings.Join(rest, "")
					if err := home.SetNote(ctx, b, text); err != nil {
						return app.AsUsage(err)
					}
					if text == "" {
						return a.Done(c, "Your note on "+b.Label+" is gone.")
					}
					return a.Done(c, "Noted on "+b.Label+": "+text)
				}),
			},
			{
				Name: "whole", Usage: "confirm that a build marked as possibly incomplete is complete", ArgsUsage: "BUILD",
				Description: "Example: morvant builds whole 1.4.0\n\n" +
					"let-update marks a build when something looked unfinished while it was recorded. The mark goes by itself when\n" +
					"a feed offers a build with the same content.",
				Action: a.onBuild(1, func(ctx context.Context, c *cli.Command, home *game.Home, b *state.Build, _ []string) error {
					if b.Doubt == "" {
						return a.Done(c, b.Label+" is not marked; nothing was changed.")
					}
					if err := home.Trust(ctx, b); err != nil {
						return err
					}
					return a.Done(c, b.Label+" counts as complete now.")
				}),
			},
			{
				Name: "rename", Usage: "give something you have recorded another label", ArgsUsage: "BUILD LABEL",
				Description: "Example: morvant builds rename 1.1.0 1.1.0-release",
				Action: a.onBuild(2, func(ctx context.Context, c *cli.Command, home *game.Home, b *state.Build, rest []string) error {
					if len(rest) == 0 {
						return app.Usagef("say the new label: morvant builds rename %s LABEL", view.Quoted(b.Label))
					}
					old := b.Label
					if err := record.Rename(ctx, home, b, rest[0]); err != nil {
						return err
					}
					return a.Done(c, old+" is called "+rest[0]+" now.")
				}),
			},
			a.namesCommand(),
			{
				Name: "forget", Usage: "forget a snapshot, or what was fetched of a build; store trim then frees its space", ArgsUsage: "BUILD",
				Description: "Example: morvant builds forget 1.0.0",
				Flags:       app.ChangeFlags(),
				Action: a.OnGame(1, 1, func(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
					return a.forgetBuild(ctx, c, home, name, args[0])
				}),
			},
		},
	}
}

// onBuild makes an action out of what a command does with the build that its first argument names.
func (a commands) onBuild(most int, f func(ctx context.Context, c *cli.Command, home *game.Home, b *state.Build, rest []string) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := app.Arguments(c, 1, most)
		if err != nil {
			return err
		}
		return a.WithGame(ctx, c, func(home *game.Home, name string) error {
			b, err := find.Named(ctx, a.App, home, name, args[0])
			if err != nil {
				return err
			}
			return f(ctx, c, home, b, args[1:])
		})
	}
}

// buildList is what builds lists, with what is to be said of each.
type buildList struct {
	builds []*state.Build
	said   map[*state.Build]string
	absent []*names.Meant // what lists have, and is not here
}

// listed finds what lists have of what was asked for, and is not here.
func (l *buildList) listed(home *game.Home, name string, c *cli.Command) error {
	on, text := c.String("on"), strings.ToLower(c.String("find"))
	if on == "" && text == "" {
		return nil
	}
	lists, err := game.Lists(home, name)
	if err != nil || len(lists) == 0 {
		return err
	}
	all, err := home.Builds(context.Background(), name)
	if err != nil {
		return err
	}
	var before *names.Meant // the newest that is not younger
	for _, m := range names.Match(lists, all) {
		when, dated := m.Entry.When()
		switch {
		case len(m.Builds) > 0:
		case text != "" && strings.Contains(strings.ToLower(m.Entry.Label+"\n"+m.Entry.Note), text):
			l.absent = append(l.absent, m)
		case on != "" && dated && when.Format(time.DateOnly) == strings.TrimPrefix(on, "@"):
			l.absent = append(l.absent, m)
		case on != "" && dated && when.Format(time.DateOnly) < strings.TrimPrefix(on, "@"):
			if was, _ := entryOf(before).When(); before == nil || when.After(was) {
				before = m
			}
		}
	}
	if before != nil && len(l.absent) == 0 {
		l.absent = append(l.absent, before)
	}
	return nil
}

func entryOf(m *names.Meant) *names.Entry {
	if m == nil {
		return &names.Entry{}
	}
	return m.Entry
}

func (a commands) listBuilds(ctx context.Context, c *cli.Command, home *game.Home, name string) (*buildList, error) {
	list := &buildList{said: make(map[*state.Build]string)}
	var err error
	if list.builds, err = home.Builds(ctx, name); err != nil {
		return nil, err
	}
	if on := c.String("on"); on != "" {
		r, err := ref.OfDay(c.String("channel"), on)
		if err != nil {
			return nil, app.AsUsage(err)
		}
		find.RefreshQuietly(ctx, a.App, c, home, name)
		if list.builds, err = home.Builds(ctx, name); err != nil {
			return nil, err
		}
		found, err := resolve.Build(ctx, home, name, r)
		switch listErr := list.listed(home, name, c); {
		case listErr != nil:
			return nil, listErr
		case err != nil && len(list.absent) > 0:
			list.builds = nil
		case err != nil:
			return nil, err
		default:
			list.near(found, "current that day")
		}
	}
	if file := c.String("for"); file != "" {
		when, how, err := find.MadeAt(c, file)
		if err != nil {
			return nil, err
		}
		find.RefreshQuietly(ctx, a.App, c, home, name)
		if list.builds, err = home.Builds(ctx, name); err != nil {
			return nil, err
		}
		found, err := resolve.At(ctx, home, name, c.String("channel"), when)
		if err != nil {
			return nil, err
		}
		a.Note("%s was made %s (%s).", filepath.Base(file), view.Day(when), how)
		if near := found.Close(when); near != nil {
			a.Note("That is close to %s of %s; it may be of that build.", near.Label, view.Day(near.Made))
		}
		list.near(found, "current then")
	}
	if c.String("on") == "" {
		if err := list.listed(home, name, c); err != nil {
			return nil, err
		}
	}
	text := strings.ToLower(c.String("find"))
	// Files for overlays are no builds; of those that a name asks for, nothing is hidden.
	hidden := !c.Bool("all") && text == ""
	list.builds = slices.DeleteFunc(list.builds, func(b *state.Build) bool {
		return b.IsMods() || hidden && record.ForOverlay(b) || !b.HasManifest(c.String("find")) && !strings.Contains(strings.ToLower(b.Label+"\n"+b.Note+"\n"+b.Own+"\n"+strings.Join(b.Also, "\n")), text) ||
			c.IsSet("channel") && b.Line() != c.String("channel")
	})
	if c.IsSet("with") {
		return list, list.having(ctx, home, name, c.String("with"))
	}
	return list, nil
}

// having reduces the list to builds that have a file, and says where it lies in them.
func (l *buildList) having(ctx context.Context, home *game.Home, name, path string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	f, err := volume.Open(path)
	if errors.Is(err, fs.ErrNotExist) && !filepath.IsAbs(path) { // as it is called in the game
		if is, laneErr := home.Lane(ctx, name, ""); laneErr == nil {
			f, err = volume.Open(filepath.Join(g.Folder(is), path))
		}
	}
	if err != nil {
		return err
	}
	defer f.Close()
	s, err := store.Open(ctx, home.StoreDir())
	if err != nil {
		return err
	}
	defer s.Close()
	at, err := compose.With(ctx, home, s, g, l.builds, f)
	l.builds = slices.DeleteFunc(l.builds, func(b *state.Build) bool {
		where, has := at[b]
		l.said[b] = "as " + where
		return !has
	})
	return err
}

// near reduces the list to the build that a date led to and those around it.
func (l *buildList) near(found resolve.Found, current string) {
	l.builds = nil
	add := func(b *state.Build, what string) {
		if b != nil {
			l.builds = append(l.builds, b)
			l.said[b] = what
		}
	}
	add(found.Later, "the next")
	add(found.Build, view.Paint(view.Fresh, current))
	for _, b := range found.SameDay {
		add(b, "the same day")
	}
	add(found.Earlier, "the one before")
}

func (a commands) builds(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
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
		out := []view.BuildJSON{}
		for _, b := range list.builds {
			j := view.ToBuildJSON(b, is.Pin)
			if b.Components != nil {
				n, of := here.Bytes[b], here.Wanted[b]
				j.Here, j.HereOf = &n, &of
			}
			out = append(out, j)
		}
		absent := []view.EntryJSON{}
		for _, m := range list.absent {
			absent = append(absent, view.ToEntry(m))
		}
		return a.Emit(struct {
			Schema string           `json:"schema"`
			Game   string           `json:"game"`
			Builds []view.BuildJSON `json:"builds"`
			Absent []view.EntryJSON `json:"not_here"`
		}{"morvant-builds/1", name, out, absent})
	}
	if len(list.builds) == 0 && c.IsSet("with") {
		a.Say("No known build of %s has %s.", g.Display(), view.Plain(c.String("with")))
		return nil
	}
	if len(list.builds) == 0 && len(list.absent) == 0 {
		a.Say("No build of %s matches. Record one: morvant snapshot LABEL; or add a feed: morvant feed add ADDRESS", g.Display())
		return nil
	}
	if len(list.builds) > 0 {
		a.showBuilds(c, list, is.Pin, here)
	}
	for _, m := range list.absent {
		a.Say("Not here: %s", view.Listed(m))
	}
	return nil
}

// here tells how much of each feed's build is on this computer.
func (a commands) here(ctx context.Context, home *game.Home, g *game.Game, list []*state.Build) (*compose.Presence, error) {
	if !slices.ContainsFunc(list, func(b *state.Build) bool { return b.Components != nil }) {
		return &compose.Presence{}, nil
	}
	s, err := store.Open(ctx, home.StoreDir())
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return compose.Here(ctx, home, s, g, list)
}

func (a commands) showBuilds(c *cli.Command, list *buildList, pin state.Pin, here *compose.Presence) {
	feeds := slices.ContainsFunc(list.builds, func(b *state.Build) bool { return b.Components != nil })
	var rows [][]string
	unsure := false
	for _, b := range list.builds {
		state := list.said[b]
		if b.Is(pin) {
			state = strings.TrimPrefix(state+", "+view.Paint(view.Good, "held"), ", ")
		}
		if b.Doubt != "" {
			state = strings.TrimPrefix(state+", "+view.Paint(view.Bad, "possibly incomplete"), ", ")
		}
		for _, word := range offeredHow(b) {
			state = strings.TrimPrefix(state+", "+word, ", ")
		}
		if b.Fragment {
			state = strings.TrimPrefix(state+", for overlays", ", ")
		}
		note := b.Note
		if len(b.Also) > 0 {
			note = strings.TrimPrefix(note+"; also called "+strings.Join(b.Also, ", "), "; ")
		}
		if b.Nameless() {
			note = strings.TrimPrefix(note+"; id "+b.ID, "; ")
		}
		if b.Own != "" {
			note = strings.TrimPrefix(note+"; yours: "+b.Own, "; ")
		}
		row := []string{b.Label, b.Line(), view.Day(b.Made), view.Size(b.Bytes)}
		if b.Bytes == 0 && b.Unread() {
			row[3] = ""
		}
		if feeds {
			fetch, have := "", "all"
			if b.Unread() {
				if have = ""; view.Download(b) > 0 {
					fetch = view.Size(view.Download(b))
				}
			} else if b.Components != nil {
				if have = view.Share(here.Bytes[b], here.Wanted[b]); here.Wanted[b] == 0 || here.Unread && here.Bytes[b] < here.Wanted[b] {
					have, unsure = "?", true
				}
				if fetch = view.Size(view.Download(b)); view.Download(b) == 0 {
					fetch = "not offered"
				}
			}
			row = append(row, fetch, have, strings.Join(b.ComponentNames(), ", "))
		} else {
			row = append(row, view.Count(b.Files, "file"), "="+b.Digest().Short()[:8])
		}
		if c.Bool("verbose") && feeds {
			row = append(row, "="+b.Digest().Short()[:8])
		}
		row = append(row, state, note)
		if feeds {
			row = append(row, view.EstablishedWord(b.Established()))
		}
		rows = append(rows, row)
	}
	a.Table(buildColumns(feeds, c.Bool("verbose")), rows)
	if slices.ContainsFunc(list.builds, (*state.Build).Unread) {
		a.Say("%s", view.Faint("not read: what it holds is asked for when it is needed; morvant feed refresh --all asks for all of it now."))
	}
	switch {
	case unsure && here.Fresh:
		a.Say("%s", view.Faint("?: the game's folder has not been read yet; morvant identify reads it."))
	case unsure:
		a.Say("%s", view.Faint("?: files of the folder have changed since they were last read; morvant identify reads them."))
	}
}

// buildColumns are those of a list of builds: of feeds, or of snapshots alone.
func buildColumns(feeds, verbose bool) []view.Column {
	columns := []view.Column{
		{Head: "Build", Cut: view.CutMiddle},
		{Head: "Channel", Spare: 2, Cut: view.CutEnd},
		{Head: "Date"},
		{Head: "Size", Right: true, Spare: 4},
		{Head: "Files", Right: true, Spare: 5},
		{Head: "Digest", Spare: 6},
		{Head: "State", Cut: view.CutEnd},
		{Head: "Note", Spare: 1, Cut: view.CutEnd, Least: 28},
	}
	if feeds {
		columns = []view.Column{
			{Head: "Build", Cut: view.CutMiddle},
			{Head: "Channel", Spare: 2, Cut: view.CutEnd},
			{Head: "Date"},
			{Head: "Size", Right: true, Spare: 5},
			{Head: "Download", Right: true, Spare: 4},
			{Head: "Here", Right: true},
			{Head: "Components", Spare: 3, Cut: view.CutEnd},
			{Head: "State", Cut: view.CutEnd},
			{Head: "Note", Spare: 1, Cut: view.CutEnd, Least: 28},
			{Head: "Known by", Spare: 6},
		}
		if verbose {
			columns = slices.Insert(columns, 7, view.Column{Head: "Digest"})
		}
	}
	return columns
}

// offeredHow says what a distributor does not give out of a build, and what has not been asked for.
func offeredHow(b *state.Build) (words []string) {
	if b.Withdrawn {
		words = append(words, view.Paint(view.Bad, "withdrawn"))
	}
	has := func(f func(catalogue.Part) bool) bool { return slices.ContainsFunc(b.Components, f) }
	if has(func(p catalogue.Part) bool { return p.NotOwned }) {
		words = append(words, "not owned")
	}
	switch {
	case has(func(p catalogue.Part) bool { return p.Refused != "" }):
		words = append(words, "refused")
	case b.Unread():
		words = append(words, "not read")
	}
	return words
}

func (a commands) forgetBuild(ctx context.Context, c *cli.Command, home *game.Home, name, text string) error {
	r, err := ref.Parse(text)
	if err != nil {
		return err
	}
	found, err := resolve.Build(ctx, home, name, r)
	if err != nil {
		return err
	}
	lanes, err := home.Lanes(ctx, name)
	if err != nil {
		return err
	}
	records := []*state.Build{found.Build}
	if found.Components != nil {
		recorded, err := home.Recorded(ctx, name)
		if err != nil {
			return err
		}
		records = slices.DeleteFunc(recorded, func(b *state.Build) bool { return !b.Same(found.Build) })
	}
	if len(records) == 0 {
		return app.Refusef("a feed offers %s, and nothing of it is recorded here; morvant feed remove forgets the feed", found.Name())
	}
	for _, l := range lanes {
		if found.Is(l.Pin) || slices.ContainsFunc(records, l.Pin.Lays) {
			return app.Refusef("lane %s of %s is held at %s; run morvant unpin or pin another build first", l.Name, name, found.Label)
		}
	}
	if found.IsMods() {
		return app.Refusef("%s is a set of mods: morvant mods remove %s", found.Label, view.Quoted(found.Label))
	}
	if err := a.Ask(c, fmt.Sprintf("Forget %s (%s, %s)?", found.Label, view.Day(found.Made), view.Size(found.Bytes))); err != nil {
		return err
	}
	for _, b := range records {
		if err := home.ForgetBuild(ctx, b); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return a.Emit(struct {
			Schema string `json:"schema"`
			Build  string `json:"build"`
		}{"morvant-forgotten/1", found.Label})
	}
	a.Say("%s is forgotten. morvant store trim frees its space.", found.Label)
	return nil
}
