package find

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/catalogue"
	"morvant/internal/cli/app"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/status"
	"morvant/internal/modlist"
	"morvant/internal/ref"
	"morvant/internal/transfer"
)

// ModsLine is what the name of a set of mods begins with where builds can be named as well.
const ModsLine = "mods/"

// Side finds one side of a comparison: a build, the folder as it is now, that of another lane, one elsewhere,
// a set of mods, or a list of one. Folders and files elsewhere begin with a dot, a slash or a drive.
func Side(ctx context.Context, a *app.App, c *cli.Command, l *lane.Lane, home *game.Home, text string) (*status.Side, error) {
	if name, is := strings.CutPrefix(text, catalogue.LaneLine+"/"); is {
		return status.LaneSide(ctx, l, name)
	}
	if name, is := strings.CutPrefix(text, ModsLine); is {
		b, err := transfer.FindMods(ctx, l.Home.State, l.Game.Name, name)
		if err != nil {
			return nil, err
		}
		return status.RecordedMods(ctx, l, b)
	}
	if text = app.Home(text); Elsewhere(text) {
		return folderOrMods(ctx, a, l, text)
	}
	r, err := ref.Parse(text)
	if err != nil {
		return nil, err
	}
	if r.Kind == ref.Here {
		return status.HereSide(ctx, l)
	}
	b, err := Fresh(ctx, a, c, home, l.Game.Name, r)
	if err != nil {
		return nil, err
	}
	if b.Components == nil {
		return status.BuildSide(ctx, l, b, nil)
	}
	return status.BuildSide(ctx, l, b, c.StringSlice("component"))
}

// Elsewhere reports whether what was typed is the path of something outside of Morvant.
func Elsewhere(text string) bool {
	return filepath.IsAbs(text) || strings.HasPrefix(text, "./") || strings.HasPrefix(text, "../") || strings.HasPrefix(text, `.\`) || strings.HasPrefix(text, `..\`)
}

func folderOrMods(ctx context.Context, a *app.App, l *lane.Lane, name string) (*status.Side, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return status.FolderSide(ctx, l, name)
	}
	raw, err := a.ReadNamed(name, modlist.MaxSize)
	if err != nil {
		return nil, err
	}
	return ModList(name, raw)
}

// ModList reads a list of mods as one side of a comparison.
func ModList(name string, raw []byte) (*status.Side, error) {
	list, err := modlist.Decode(raw)
	if err != nil {
		return nil, err
	}
	return status.ModsSide(name, list.Manifest()), nil
}
