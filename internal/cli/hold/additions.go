package hold

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/record"
	"morvant/internal/rules"
	"morvant/internal/state"
	"morvant/internal/transfer"
)

// additionFlags are what a pin can have beside its build.
func additionFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "overlay", Usage: "lay files of another build, folder or archive over the build: `BUILD:PATTERN`; later ones win"},
		&cli.StringSliceFlag{Name: "mods", Usage: "lay a set of mods over it: `NAME` (morvant mods list)"},
		&cli.StringSliceFlag{Name: "companion", Usage: "a small file that the build needs beside it: `PATH=TEXT`, \\n for a new line"},
		&cli.StringSliceFlag{Name: "edit", Usage: "set one value in a text file: `FILE:PATTERN=VALUE`; parentheses in PATTERN mark the old value"},
		&cli.StringSliceFlag{Name: "leave-out", Usage: "do not have these files of the build: a `PATTERN`"},
		&cli.StringSliceFlag{Name: "without", Usage: "take off what an earlier pin has beside its build: `NAME`, its pattern or file"},
		&cli.BoolFlag{Name: "plain", Usage: "take off all that an earlier pin has beside its build"},
		&cli.StringSliceFlag{Name: "keep", Usage: "a `PATTERN` for files that are yours while this pin holds"},
	}
}

// additions is what a pin is to have beside its build.
type additions struct {
	state.Pin
	recorded []*state.Build // of folders, to be laid over it
}

// additions reads what the command line wants beside the build.
func (a commands) additions(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home) (*additions, error) {
	add := &additions{Pin: state.Pin{Keep: app.Patterns(c, "keep", l.Dir, l.Game.Live), LeaveOut: app.Patterns(c, "leave-out", l.Dir, l.Game.Live)}}
	if l.Root != nil {
		a.NoteIdle(ctx, l.Dir, l.Game.Rules(), "keep", add.Keep)
	}
	for _, text := range c.StringSlice("overlay") {
		o, b, err := a.parseOverlay(ctx, c, l, home, text)
		if err != nil {
			return add, err
		}
		if b.Fragment {
			add.recorded = append(add.recorded, b)
		}
		add.Overlays = append(add.Overlays, o)
	}
	for _, name := range c.StringSlice("mods") {
		b, err := transfer.FindMods(ctx, home.State, l.Game.Name, name)
		if err != nil {
			return add, err
		}
		add.Overlays = append(add.Overlays, transfer.ModsOverlay(b))
	}
	for _, text := range c.StringSlice("companion") {
		path, content, ok := strings.Cut(text, "=")
		if !ok {
			return add, app.Usagef("\"%s\" is not PATH=TEXT", text)
		}
		add.Companions = append(add.Companions, state.Companion{Path: filepath.ToSlash(path), Text: strings.ReplaceAll(content, `\n`, "\n")})
	}
	for _, text := range c.StringSlice("edit") {
		file, rest, ok := strings.Cut(text, ":")
		at := strings.LastIndexByte(rest, '=')
		if !ok || at < 0 {
			return add, app.Usagef("\"%s\" is not FILE:PATTERN=VALUE", text)
		}
		add.Edits = append(add.Edits, state.Edit{File: filepath.ToSlash(file), Find: rest[:at], Set: rest[at+1:]})
	}
	return add, nil
}

// parseOverlay reads BUILD:PATTERN. A folder is recorded as a snapshot first, so that
// what is laid over can be restored later.
func (a commands) parseOverlay(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, text string) (state.Overlay, *state.Build, error) {
	at := strings.LastIndexByte(text, ':')
	if at <= 0 || at == len(text)-1 {
		return state.Overlay{}, nil, app.Usagef("\"%s\" is not BUILD:PATTERN", text)
	}
	ref, pattern := text[:at], text[at+1:]
	if err := (rules.Rules{Keep: []string{pattern}}).Check(); err != nil {
		return state.Overlay{}, nil, app.AsUsage(err)
	}
	b, err := a.overlayBuild(ctx, c, l, home, ref, pattern)
	if err != nil {
		return state.Overlay{}, nil, err
	}
	o := state.Overlay{Name: b.Name(), Digest: b.Digest(), Pattern: pattern, Named: true}
	if b.Components != nil {
		choice, err := compose.Choose(ctx, l, b, nil)
		if err != nil {
			return o, nil, err
		}
		o.Components = choice.Names
		b = b.With(choice.Names)
	}
	o.Build = b.UID
	return o, b, nil
}

func (a commands) overlayBuild(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, text, pattern string) (*state.Build, error) {
	info, err := os.Stat(text)
	if err != nil || !strings.ContainsAny(text, `/\`) {
		return find.Offered(ctx, a.App, c, home, l.Game.Name, text)
	}
	if text, err = filepath.Abs(text); err != nil {
		return nil, err
	}
	var b *state.Build
	if info.IsDir() {
		b, err = record.RecordFolder(ctx, l, text, "overlay", record.OverlayNote(text), l.Game.Rules().Set([]string{pattern}))
	} else {
		b, err = overlayArchive(ctx, a.App, c, l, text, pattern)
	}
	if err != nil {
		return nil, err
	}
	a.Note("%s of %s recorded as snapshot/%s.", view.Count(b.Files, "file"), text, b.Label)
	return b, nil
}

// overlayArchive records files of an archive, to be laid over a build.
func overlayArchive(ctx context.Context, a *app.App, c *cli.Command, l *lane.Lane, file, pattern string) (*state.Build, error) {
	label, err := record.NextLabel(ctx, l, "overlay")
	if err != nil {
		return nil, err
	}
	in, err := transfer.ImportBuild(ctx, l, transfer.Imports{
		Sources: []transfer.Source{{Path: file}}, Only: []string{pattern}, Overlay: true, Label: label, Note: record.OverlayNote(file), Ask: find.Asked(a, c, l),
	})
	if err != nil {
		return nil, err
	}
	a.NoteOdd(in.Odd)
	return in.Build, nil
}
