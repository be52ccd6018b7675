package share

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/view"
	"morvant/internal/lane"
	"morvant/internal/state"
	"morvant/internal/transfer"
)

func (a commands) importCommand() *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "record a build from folders and archives that you have", ArgsUsage: "SOURCE... [LABEL]", Category: app.GroupShare,
		Description: "Example: morvant import quay-1.1.1.zip 1.1.1 --note \"from Ada\"\n\n" +
			"Nothing in the game's folder is changed; morvant pin LABEL goes there. A SOURCE is a folder, or an archive: zip, 7z, rar,\n" +
			"tar (plain or with gzip, xz, zstd or bzip2), or a BagIt folder. Of several, the later one counts where both have a file.\n" +
			"--component makes parts of it: morvant import 1.2.0 --component base=./download --component voices-en=voices.zip",
		Flags: []cli.Flag{
			app.ChangeFlags()[0],
			&cli.StringFlag{Name: "label", Usage: "the `LABEL`, where the last word is a source too"},
			&cli.StringFlag{Name: "note", Usage: "a `NOTE` on it"},
			&cli.StringFlag{Name: "date", Usage: "when this build was released: `DATE` (2031-08-05)"},
			&cli.StringFlag{Name: "inside", Usage: "only what is in this folder of it: `PATH`, or . for all of it"},
			&cli.StringSliceFlag{Name: "component", Usage: "a component of the build, and where it is: `NAME=SOURCE`"},
			&cli.StringSliceFlag{Name: "exclude", Usage: "leave out files: a `PATTERN`; none: leave out nothing"},
			&cli.BoolFlag{Name: "move", Usage: "remove each file of a folder once its content is safe in the store"},
		},
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			from, err := importsOf(c)
			if err != nil {
				return err
			}
			return a.WithLane(ctx, c, app.ToLook, func(l *lane.Lane) error {
				from.Ask = find.Asked(a.App, c, l)
				if from.Move && !from.DryRun {
					a.Note("Each file of %s is removed once its content is in the store.", sourceNames(from.Sources))
					if err := a.Ask(c, "Move them into the store?"); err != nil {
						return err
					}
				}
				b, err := transfer.ImportBuild(ctx, l, from)
				if err != nil {
					return err
				}
				return a.showImport(c, l, from, b)
			})
		},
	}
}

// importsOf reads the command line of an import.
func importsOf(c *cli.Command) (from transfer.Imports, err error) {
	words := c.Args().Slice()
	from = transfer.Imports{Inside: c.String("inside"), Note: c.String("note"), DryRun: c.Bool("dry-run"), Move: c.Bool("move"), Label: c.String("label")}
	from.Exclude = slices.DeleteFunc(app.Patterns(c, "exclude"), func(p string) bool { return p == find.KeepHidden })
	if from.Date, err = app.Date(c.String("date")); err != nil {
		return from, err
	}
	parts := c.StringSlice("component")
	if n := len(words); from.Label == "" && (n > 1 || n == 1 && len(parts) > 0) {
		from.Label, words = words[n-1], words[:n-1]
		_, err := os.Stat(app.Home(from.Label))
		called := slices.ContainsFunc(words, func(w string) bool { return filepath.Base(w) == from.Label })
		if err == nil && !called || strings.ContainsAny(from.Label, `/\`) {
			if err := app.CheckThere(c.Args().Slice()); err != nil {
				return from, err
			}
			return from, app.Usagef("%s is a file or folder, and the last word is the build's label: morvant import %s LABEL. Where a label is the name of a folder, write --label %s", from.Label, strings.Join(c.Args().Slice(), " "), from.Label)
		}
	}
	for i := range words {
		words[i] = app.Home(words[i])
		from.Sources = append(from.Sources, transfer.Source{Path: words[i]})
	}
	for _, text := range parts {
		name, src, ok := strings.Cut(text, "=")
		if !ok || src == "" {
			return from, app.Usagef("\"%s\" is not NAME=SOURCE", text)
		}
		from.Sources = append(from.Sources, transfer.Source{Component: name, Path: app.Home(src)})
	}
	if len(from.Sources) == 0 {
		return from, app.Usagef("morvant import needs %s; see morvant import --help", c.ArgsUsage)
	}
	return from, app.CheckThere(words)
}

func sourceNames(list []transfer.Source) string {
	var names []string
	for _, s := range list {
		names = append(names, s.Path)
	}
	return strings.Join(names, ", ")
}

func (a commands) showImport(c *cli.Command, l *lane.Lane, from transfer.Imports, b *transfer.Import) error {
	if c.Bool("json") {
		return a.Emit(struct {
			Schema string `json:"schema"`
			Game   string `json:"game"`
			view.BuildJSON
			StoredBytes int64    `json:"stored_bytes"`
			LeftOut     []string `json:"left_out"`
			Overlaps    int      `json:"overlaps"`
			Replaced    []string `json:"replaced"`
			Excluded    int      `json:"excluded"`
			MovedBytes  int64    `json:"moved_bytes"`
		}{"morvant-snapshot/1", l.Game.Name, view.ToBuildJSON(b.Build, state.Pin{}), b.Stored, view.OddPaths(b.Odd), b.Overlaps, append([]string{}, b.Replaced...), b.Excluded, b.Moved})
	}
	if b.Overlaps > 0 {
		what := view.CountWere(b.Overlaps, "file") + " in several sources"
		if n := len(b.Replaced); n > 0 {
			what += fmt.Sprintf("; for %d that differ, the later source counts: %s", n, view.Some(b.Replaced, 3))
		}
		a.Say("%s.", what)
	}
	if b.Excluded > 0 {
		a.Say("%s left out by --exclude or your answers.", view.CountWere(b.Excluded, "file"))
	}
	a.NoteOdd(b.Odd)
	name := state.SnapshotLine + "/" + b.Label
	if b.Channel != "" {
		name = b.Name()
		a.Say("Its components: %s.", strings.Join(b.ComponentNames(), ", "))
	}
	if from.DryRun {
		a.Say("It would be recorded as %s: %s, %s. This was a dry run; nothing was recorded.", view.Strong(b.Label), view.Count(b.Files, "file"), view.Size(b.Bytes))
		return nil
	}
	if b.Moved > 0 {
		a.Say("%s of files were moved into the store, which grew by %s.", view.Size(b.Moved), view.Size(b.Stored))
	}
	a.Say("%s of %s is recorded: %s, %s. Use it: morvant pin %s", view.Strong(b.Label), l.Game.Display(), view.Count(b.Files, "file"), view.Size(b.Bytes), view.Quoted(name))
	return nil
}
