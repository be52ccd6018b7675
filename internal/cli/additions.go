package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"morvant/internal/lane/compose"
	"morvant/internal/lane/record"

	"github.com/urfave/cli/v3"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/rules"
)

// additionFlags are what a pin can have beside its build.
func additionFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "overlay", Usage: "lay files of another build or folder over it: `BUILD:PATTERN`; later ones win"},
		&cli.StringSliceFlag{Name: "companion", Usage: "a small file that the build needs beside it: `PATH=TEXT`, \\n for a new line"},
		&cli.StringSliceFlag{Name: "edit", Usage: "set one value in a text file: `FILE:PATTERN=VALUE`, the value to set captured in parentheses"},
		&cli.StringSliceFlag{Name: "keep", Usage: "files that are yours as long as this pin holds: `PATTERN`"},
	}
}

// additions reads what the command line wants beside the build.
func (a *app) additions(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home) (game.Pin, error) {
	add := game.Pin{Keep: c.StringSlice("keep")}
	for _, text := range c.StringSlice("overlay") {
		o, err := a.parseOverlay(ctx, c, l, home, text)
		if err != nil {
			return add, err
		}
		add.Overlays = append(add.Overlays, o)
	}
	for _, text := range c.StringSlice("companion") {
		path, content, ok := strings.Cut(text, "=")
		if !ok {
			return add, usagef("%q is not PATH=TEXT", text)
		}
		add.Companions = append(add.Companions, game.Companion{Path: filepath.ToSlash(path), Text: strings.ReplaceAll(content, `\n`, "\n")})
	}
	for _, text := range c.StringSlice("edit") {
		file, rest, ok := strings.Cut(text, ":")
		at := strings.LastIndexByte(rest, '=')
		if !ok || at < 0 {
			return add, usagef("%q is not FILE:PATTERN=VALUE", text)
		}
		add.Edits = append(add.Edits, game.Edit{File: filepath.ToSlash(file), Find: rest[:at], Set: rest[at+1:]})
	}
	return add, nil
}

// parseOverlay reads BUILD:PATTERN. A folder is recorded as a snapshot first, so that
// what is laid over can be restored later.
func (a *app) parseOverlay(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, text string) (game.Overlay, error) {
	at := strings.LastIndexByte(text, ':')
	if at <= 0 || at == len(text)-1 {
		return game.Overlay{}, usagef("%q is not BUILD:PATTERN", text)
	}
	ref, pattern := text[:at], text[at+1:]
	if err := (rules.Rules{Keep: []string{pattern}}).Check(); err != nil {
		return game.Overlay{}, usage{err}
	}
	b, err := a.overlayBuild(ctx, c, l, home, ref, pattern)
	if err != nil {
		return game.Overlay{}, err
	}
	o := game.Overlay{Name: b.Name(), Digest: b.Digest(), Pattern: pattern}
	if b.Components != nil {
		choice, err := compose.Choose(ctx, l, b, nil)
		if err != nil {
			return o, err
		}
		o.Components = choice.Names
		b = b.With(choice.Names)
	}
	o.Build = b.UID
	return o, nil
}

func (a *app) overlayBuild(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, text, pattern string) (*game.Build, error) {
	if info, err := os.Stat(text); err == nil && info.IsDir() && strings.ContainsAny(text, `/\`) {
		if text, err = filepath.Abs(text); err != nil {
			return nil, err
		}
		b, err := record.RecordFolder(ctx, l, text, "overlay", "files of "+text, rules.NewSet([]string{pattern}))
		if err != nil {
			return nil, err
		}
		a.note("%s of %s recorded as snapshot/%s.", count(b.Files, "file"), text, b.Label)
		return b, nil
	}
	return a.findOffered(ctx, c, home, l.Game.Name, text)
}

// additionLines describes what a pin has beside its build.
func additionLines(p game.Pin) []string {
	var overlays, companions, edits []string
	for _, o := range p.Overlays {
		overlays = append(overlays, o.Pattern+" of "+o.Name)
	}
	for _, k := range p.Companions {
		companions = append(companions, k.Path)
	}
	for _, e := range p.Edits {
		edits = append(edits, fmt.Sprintf("%q in %s", e.Set, e.File))
	}
	return []string{
		"overlays", strings.Join(overlays, ", then "), "companions", strings.Join(companions, ", "),
		"sets", strings.Join(edits, ", "), "also keeps", strings.Join(p.Keep, "  "),
	}
}
