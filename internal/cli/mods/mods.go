package mods

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/catalogue"
	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/proposal"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/record"
	"morvant/internal/lane/why"
	"morvant/internal/problem"
	"morvant/internal/state"
	"morvant/internal/transfer"
)

func (a commands) modsCommand() *cli.Command {
	return &cli.Command{
		Name: "mods", Usage: "sets of mods with names: record, list, lay, lift, share, take", Category: app.GroupPin,
		Commands: []*cli.Command{
			{
				Name: "record", Usage: "record mods under a name", ArgsUsage: "NAME [PATTERN...]",
				Description: "Example: morvant mods record trees \"Mods/Scenery/**\"\n         morvant mods record sounds --from ./sounds.zip --fits 1.1.0\n\n" +
					"Takes the files of the game's folder that match, or those of a folder or an archive. Nothing in the game's folder is\n" +
					"changed. A set of mods is no build: it is never the newest, nor an answer of identify. --again takes in what you have\n" +
					"changed since in the files of a set that is laid.",
				Flags: []cli.Flag{
					app.ChangeFlags()[0],
					&cli.StringFlag{Name: "from", Usage: "take them from this folder or archive: `SOURCE`"},
					&cli.StringFlag{Name: "note", Usage: "a `NOTE` on it"},
					&cli.StringSliceFlag{Name: "fits", Usage: "the `LABEL` of a build that they are for; a pin of another one warns"},
					&cli.BoolFlag{Name: "again", Usage: "record the files of a set anew, as they are now in the game's folder"},
				},
				Action: a.OnLane(app.ToLook, 1, -1, a.record),
			},
			{
				Name: "list", Usage: "list the sets of mods", Description: "Example: morvant mods list",
				Action: a.OnGameAlone(a.list),
			},
			{
				Name: "show", Usage: "show a set of mods, file by file", ArgsUsage: "NAME", Description: "Example: morvant mods show trees",
				Action: a.OnLane(app.Looking, 1, 1, a.show),
			},
			{
				Name: "conflicts", Usage: "list the files that several laid sets or overlays give, and which counts", Description: "Example: morvant mods conflicts",
				Action: a.OnLane(app.Looking, 0, 0, a.conflicts),
			},
			{
				Name: "rename", Usage: "give a set another name", ArgsUsage: "OLD NEW", Description: "Example: morvant mods rename trees \"trees 2.0\"",
				Action: a.OnLane(app.ToLook, 2, 2, a.rename),
			},
			{
				Name: "remove", Usage: "forget a set that is laid nowhere", ArgsUsage: "NAME", Description: "Example: morvant mods remove trees",
				Flags: app.ChangeFlags(), Action: a.OnLane(app.ToLook, 1, 1, a.remove),
			},
			{
				Name: "lay", Usage: "lay sets of mods over the held build, the later over the earlier", ArgsUsage: "NAME...",
				Description: "Example: morvant mods lay trees sounds\n\nThey lie over your own files, too, and stay through later pins until they are lifted.",
				Flags:       app.ChangeFlags(), Action: a.OnLane(app.ToChange, 1, -1, a.lay),
			},
			{
				Name: "lift", Usage: "lift sets of mods; what they lay over comes back", ArgsUsage: "NAME...",
				Description: "Example: morvant mods lift trees",
				Flags:       app.ChangeFlags(), Action: a.OnLane(app.ToChange, 1, -1, a.lift),
			},
			a.shareCommand(), a.takeCommand(),
		},
	}
}

func (a commands) record(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
	name, patterns := args[0], args[1:]
	if err := catalogue.CheckLabel(name); err != nil {
		return app.AsUsage(err)
	}
	old, err := transfer.FindMods(ctx, l.Home.State, l.Game.Name, name)
	switch {
	case c.Bool("again") && err != nil:
		return err
	case c.Bool("again"):
		return a.again(ctx, c, l, old, patterns)
	case err == nil:
		return fmt.Errorf("a set of mods called %s is %w; morvant mods record %s --again records its files anew", name, state.ErrExists, view.Quoted(name))
	}
	from := transfer.Imports{Label: name, Note: c.String("note"), Fits: c.StringSlice("fits"), Only: patterns, Mods: true, DryRun: c.Bool("dry-run"), Ask: find.Asked(a.App, c, l)}
	switch src := c.String("from"); {
	case src != "":
		from.Sources = []transfer.Source{{Path: app.Home(src)}}
	case len(patterns) == 0:
		return app.Usagef("say which files are the mods: morvant mods record %s PATTERN, or --from FOLDER", view.Quoted(name))
	default:
		from.Sources = []transfer.Source{{Path: l.Dir}}
		from.Ask.Cost = nil
	}
	in, err := transfer.ImportBuild(ctx, l, from)
	if err != nil {
		return err
	}
	a.NoteOdd(in.Odd)
	if c.Bool("dry-run") {
		return a.Done(c, fmt.Sprintf("%s, %s would be recorded. This was a dry run; nothing was.", view.Count(in.Files, "file"), view.Size(in.Bytes)))
	}
	return a.Done(c, fmt.Sprintf("The mods %s are recorded: %s, %s. Lay them over a build: morvant mods lay %s", name, view.Count(in.Files, "file"), view.Size(in.Bytes), view.Quoted(name)))
}

// again records the files of a set anew, and has the lane hold to the new record.
func (a commands) again(ctx context.Context, c *cli.Command, l *lane.Lane, old *state.Build, patterns []string) error {
	if c.Bool("dry-run") {
		return a.Done(c, fmt.Sprintf("The files of %s would be recorded as they are now. This was a dry run; nothing was.", old.Label))
	}
	in, err := transfer.RecordModsAgain(ctx, l, old, patterns)
	if err != nil {
		return err
	}
	pin, held, err := l.Pin(ctx)
	if err == nil && held != nil && pin.Lays(old) {
		var p *change.Proposal
		o := propose.Again(pin)
		o.Replace = map[string]state.Overlay{old.UID: transfer.ModsOverlay(in.Build)}
		if p, err = propose.Pin(ctx, l, held, o); err == nil {
			err = change.CarryOut(ctx, l, p)
		}
	}
	if err != nil {
		return errors.Join(err, l.Home.ForgetBuild(context.WithoutCancel(ctx), in.Build))
	}
	label := old.Label
	ctx = context.WithoutCancel(ctx)
	if err := l.Home.ForgetBuild(ctx, old); err != nil {
		return err
	}
	if err := record.Rename(ctx, l.Home, in.Build, label); err != nil {
		return err
	}
	return a.Done(c, fmt.Sprintf("The mods %s are recorded as they are now: %s, %s.", label, view.Count(in.Files, "file"), view.Size(in.Bytes)))
}

func (a commands) list(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	list, err := transfer.Mods(ctx, home.State, name)
	if err != nil {
		return err
	}
	out := []view.ModsJSON{}
	var rows [][]string
	for _, b := range list {
		in, err := transfer.LaidIn(ctx, home.State, b)
		if err != nil {
			return err
		}
		out = append(out, view.ToModsJSON(b, in))
		rows = append(rows, []string{b.Label, view.Comma(b.Files), view.Size(b.Bytes), strings.Join(in, ", "), strings.Join(b.Fits, ", "), view.Day(b.Made), b.Note})
	}
	if c.Bool("json") {
		return a.Emit(struct {
			Schema string          `json:"schema"`
			Game   string          `json:"game"`
			Mods   []view.ModsJSON `json:"mods"`
		}{"morvant-mods/1", name, out})
	}
	if len(rows) == 0 {
		a.Say("No mods are recorded yet: morvant mods record NAME PATTERN")
		return nil
	}
	a.Table([]view.Column{
		{Head: "Mods", Cut: view.CutMiddle},
		{Head: "Files", Right: true},
		{Head: "Size", Right: true},
		{Head: "Laid in"},
		{Head: "For", Spare: 1, Cut: view.CutEnd},
		{Head: "Recorded", Spare: 3},
		{Head: "Note", Spare: 2, Cut: view.CutEnd},
	}, rows)
	return nil
}

// conflicts lists the files that several sets of mods or overlays of the pin give with different content.
func (a commands) conflicts(ctx context.Context, c *cli.Command, l *lane.Lane, _ []string) error {
	list, err := why.Conflicts(ctx, l)
	if err != nil {
		return err
	}
	type conflictJSON struct {
		Path string   `json:"path"`
		By   []string `json:"by"` // the one that counts first
	}
	out := []conflictJSON{}
	var rows [][]string
	for _, k := range list {
		out = append(out, conflictJSON{k.Path, k.By})
		rows = append(rows, []string{k.Path, k.By[0], strings.Join(k.By[1:], ", ")})
	}
	if c.Bool("json") {
		return a.Emit(struct {
			Schema    string         `json:"schema"`
			Game      string         `json:"game"`
			Lane      string         `json:"lane"`
			Conflicts []conflictJSON `json:"conflicts"`
		}{"morvant-conflicts/1", l.Game.Name, l.Name, out})
	}
	if len(rows) == 0 {
		a.Say("No two of the laid sets of mods and overlays give the same file.")
		return nil
	}
	a.Table([]view.Column{{Head: "File", Cut: view.CutStart}, {Head: "Counts", Cut: view.CutEnd}, {Head: "Lies beneath", Cut: view.CutEnd, Spare: 1}}, rows)
	return nil
}

func (a commands) show(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
	b, err := transfer.FindMods(ctx, l.Home.State, l.Game.Name, args[0])
	if err != nil {
		return err
	}
	in, err := transfer.LaidIn(ctx, l.Home.State, b)
	if err != nil {
		return err
	}
	m, err := b.ReadManifest(ctx, l.Store)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		j := view.ToModsJSON(b, in)
		for _, f := range m.Files {
			j.List = append(j.List, view.ModFileJSON{Path: f.Path, Bytes: f.Size, Digest: f.Digest.String()})
		}
		return a.Emit(struct {
			Schema string          `json:"schema"`
			Game   string          `json:"game"`
			Mods   []view.ModsJSON `json:"mods"`
		}{"morvant-mods/1", l.Game.Name, []view.ModsJSON{j}})
	}
	a.Say("%s", view.Fields("mods", view.Strong(b.Label), "holds", view.Count(b.Files, "file")+", "+view.Size(b.Bytes), "recorded", view.Day(b.Made), "for", strings.Join(b.Fits, ", "), "laid in", strings.Join(in, ", "), "note", b.Note))
	var rows [][]string
	for _, f := range m.Files {
		rows = append(rows, []string{view.Size(f.Size), f.Path})
	}
	a.Say("")
	a.Table([]view.Column{{Head: "Size", Right: true}, {Head: "File", Cut: view.CutStart}}, rows)
	return nil
}

func (a commands) rename(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
	b, err := transfer.FindMods(ctx, l.Home.State, l.Game.Name, args[0])
	if err != nil {
		return err
	}
	if in, err := transfer.LaidIn(ctx, l.Home.State, b); err != nil || len(in) > 0 {
		return errors.Join(err, laid(b, in))
	}
	if err := record.Rename(ctx, l.Home, b, args[1]); err != nil {
		return err
	}
	return a.Done(c, fmt.Sprintf("The mods %s are called %s now.", b.Label, args[1]))
}

// laid is the error where a set is laid; nil: it is not.
func laid(b *state.Build, in []string) error {
	if len(in) == 0 {
		return nil
	}
	return fmt.Errorf("%s, in lane %s: %w", b.Label, strings.Join(in, ", "), transfer.ErrModsLaid)
}

func (a commands) remove(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
	b, err := transfer.FindMods(ctx, l.Home.State, l.Game.Name, args[0])
	if err != nil {
		return err
	}
	if in, err := transfer.LaidIn(ctx, l.Home.State, b); err != nil || len(in) > 0 {
		return errors.Join(err, laid(b, in))
	}
	if err := a.Ask(c, fmt.Sprintf("Forget the mods %s (%s, %s)?", b.Label, view.Count(b.Files, "file"), view.Size(b.Bytes))); err != nil {
		return err
	}
	if err := l.Home.ForgetBuild(ctx, b); err != nil {
		return err
	}
	return a.Done(c, fmt.Sprintf("The mods %s are forgotten. morvant store trim frees their space.", b.Label))
}

var errNotHeld = problem.New("mods are laid over a build that the game is held at, and it is not held", "Hold it where it is: morvant pin here --mods NAME, or at a build: morvant pin BUILD --mods NAME")

// held returns what the lane is held to, which it must be.
func held(ctx context.Context, l *lane.Lane) (state.Pin, *state.Build, error) {
	pin, b, err := l.Pin(ctx)
	if err == nil && b == nil {
		err = errNotHeld
	}
	return pin, b, err
}

func (a commands) lay(ctx context.Context, c *cli.Command, l *lane.Lane, names []string) error {
	pin, build, err := held(ctx, l)
	if err != nil {
		return err
	}
	o := propose.Again(pin)
	for _, name := range names {
		b, err := transfer.FindMods(ctx, l.Home.State, l.Game.Name, name)
		if err != nil {
			return err
		}
		o.Add.Overlays = append(o.Add.Overlays, transfer.ModsOverlay(b))
	}
	return a.pin(ctx, c, l, build, o)
}

func (a commands) lift(ctx context.Context, c *cli.Command, l *lane.Lane, names []string) error {
	pin, build, err := held(ctx, l)
	if err != nil {
		return err
	}
	o := propose.Again(pin)
	for _, name := range names {
		name = state.ModsLine + "/" + strings.TrimPrefix(name, state.ModsLine+"/")
		if !slices.ContainsFunc(pin.Overlays, func(o state.Overlay) bool { return o.Mod && o.Name == name }) {
			return app.Refusef("%s is not laid here; morvant mods list says what is", strings.TrimPrefix(name, state.ModsLine+"/"))
		}
		o.Without = append(o.Without, name)
	}
	return a.pin(ctx, c, l, build, o)
}

// pin holds the lane to its build with what is laid over it from now on.
func (a commands) pin(ctx context.Context, c *cli.Command, l *lane.Lane, held *state.Build, o propose.PinOptions) error {
	if err := game.FindOffers(l.Home, held); err != nil {
		return err
	}
	p, err := propose.Pin(ctx, l, held, o)
	if err != nil {
		return err
	}
	return proposal.CarryOut(ctx, a.App, c, l, p)
}
