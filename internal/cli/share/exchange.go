package share

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/exchange"
	"morvant/internal/lane"
	"morvant/internal/transfer"
)

func (a commands) exportCommand() *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "write a build in an open format", ArgsUsage: "BUILD FILE", Category: app.GroupShare,
		Description: "Example: morvant export 1.1.1 quay-1.1.1.zip\n         morvant export 1.1.1 sums.txt --format b3sums\n         morvant export public/1.1.1 ~/voices --component voices-en --only\n\n" +
			"Formats: " + strings.Join(exchange.Formats(), ", ") + ". Without --format the end of FILE says which; a name without\n" +
			"one is a folder, which gets the files as they are. A bag (RFC 8493) is a folder, too. Both go on where they were cut off.\n" +
			"Lists of checksums fit b3sum --check and sha256sum --check.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "the `FORMAT`", Validator: app.OneOf(exchange.Formats()...)},
			app.ComponentFlag(), app.OnlyFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			args, err := app.Arguments(c, 2, 2)
			if err != nil {
				return err
			}
			if err := app.CheckOnly(c); err != nil {
				return err
			}
			format, err := formatOf(c.String("format"), args[1])
			if err != nil {
				return err
			}
			return a.WithLane(ctx, c, app.ToLook, func(l *lane.Lane) error {
				b, err := find.Offered(ctx, a.App, c, l.Home, l.Game.Name, args[0])
				if err != nil {
					return err
				}
				if err := transfer.Export(ctx, l, b, transfer.Exports{Components: c.StringSlice("component"), Only: c.Bool("only"), Format: format, Dest: args[1]}); err != nil {
					return err
				}
				return a.Done(c, fmt.Sprintf("%s has %s of %s.", args[1], b.Label, l.Game.Display()))
			})
		},
	}
}

func formatOf(named, file string) (string, error) {
	if named != "" {
		return named, nil
	}
	for _, format := range exchange.Formats() {
		if strings.HasSuffix(strings.ToLower(file), "."+format) {
			return format, nil
		}
	}
	if info, err := os.Stat(file); err == nil && info.IsDir() || filepath.Ext(file) == "" || strings.HasSuffix(file, "/") {
		return exchange.Folder, nil
	}
	return "", app.Usagef("say in which format: --format %s", strings.Join(exchange.Formats(), "|"))
}
