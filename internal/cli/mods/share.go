package mods

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/lane"
	"morvant/internal/modlist"
	"morvant/internal/state"
	"morvant/internal/transfer"
	"morvant/internal/volume"
)

func (a commands) shareCommand() *cli.Command {
	return &cli.Command{
		Name: "share", Usage: "write which files a set has, without their content, for a friend", ArgsUsage: "NAME FILE",
		Description: "Example: morvant mods share trees trees.mods.toml\n\nThe file has names, sizes and digests. A friend who has the mods puts the set together with morvant mods take.",
		Flags:       []cli.Flag{app.ForceFlag()},
		Action:      a.OnLane(app.ToLook, 2, 2, a.share),
	}
}

func (a commands) takeCommand() *cli.Command {
	return &cli.Command{
		Name: "take", Usage: "put a friend's set of mods together from files that are here", ArgsUsage: "FILE",
		Description: "Example: morvant mods take trees.mods.toml --from ~/Downloads\n\n" +
			"Looks for each file by its content: in the store, in the game's folder, and in the folders and archives that you name,\n" +
			"whatever it is called there. Names what is missing; then nothing is recorded.",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "from", Usage: "a folder or an archive to look in: `SOURCE`"},
			&cli.StringFlag{Name: "name", Usage: "call the set this `NAME` here"},
		},
		Action: a.OnLane(app.ToLook, 1, 1, a.take),
	}
}

func (a commands) share(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
	b, err := transfer.FindMods(ctx, l.Home.State, l.Game.Name, args[0])
	if err != nil {
		return err
	}
	m, err := b.ReadManifest(ctx, l.Store)
	if err != nil {
		return err
	}
	text, err := modlist.Of(l.Game.Name, b.Label, b.Note, b.Fits, m).Encode()
	if err != nil {
		return err
	}
	if err := volume.WriteNamed(args[1], text, c.Bool("force")); err != nil {
		return err
	}
	return a.Done(c, fmt.Sprintf("%s says which files the mods %s have.", args[1], b.Label))
}

func (a commands) take(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
	b, err := a.ReadNamed(args[0], modlist.MaxSize)
	if err != nil {
		return err
	}
	list, err := modlist.Decode(b)
	if err != nil {
		return fmt.Errorf("%s: %w", args[0], err)
	}
	name := view.FirstNonEmpty(c.String("name"), list.Name)
	if _, err := transfer.FindMods(ctx, l.Home.State, l.Game.Name, name); err == nil {
		return fmt.Errorf("a set of mods called %s is %w; give this one another name with --name", name, state.ErrExists)
	}
	var sources []string
	for _, src := range c.StringSlice("from") {
		sources = append(sources, app.Home(src))
	}
	taken, err := transfer.TakeMods(ctx, l, list, name, sources)
	if taken != nil && len(taken.Over) > 0 {
		a.Note("Note: the set lies over %s of the game: %s.", view.Count(len(taken.Over), "file"), view.Some(taken.Over, view.Few))
	}
	if err != nil {
		if taken != nil {
			for i, p := range taken.Missing {
				if i == view.Few && !c.Bool("verbose") {
					a.Note("  and %s more; --verbose lists all", view.Comma(len(taken.Missing)-i))
					break
				}
				a.Note("  missing: %s", p)
			}
		}
		return err
	}
	return a.Done(c, fmt.Sprintf("The mods %s are put together: %s, %s. Lay them over a build: morvant mods lay %s", name, view.Count(taken.Files, "file"), view.Size(taken.Bytes), view.Quoted(name)))
}
