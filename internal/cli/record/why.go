package record

import (
	"context"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/lane"
	"morvant/internal/lane/why"
	"morvant/internal/manifest"
	"morvant/internal/rules"
)

func (a commands) whyCommand() *cli.Command {
	return &cli.Command{
		Name: "why", Usage: "tell whose a file is, and why", ArgsUsage: "FILE...", Category: app.GroupRecord,
		Description: "Example: morvant why data/cargo.pak\n\n" +
			"Tells by which rule, build, overlay or set of mods a file is there, what would be there without it, which known\n" +
			"builds have exactly these bytes, and which change by Morvant last touched it.",
		Action: a.OnLane(app.Looking, 1, 100, a.why),
	}
}

// why explains files of a lane.
func (a commands) why(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
	for i, p := range args {
		if args[i] = rules.Typed(p, l.Dir, l.Game.Live); manifest.CheckPath(args[i]) != nil {
			return app.Usagef("%s is not a path in the game's folder", p)
		}
	}
	list, err := why.Of(ctx, l, args)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		out := []whyJSON{}
		for _, f := range list {
			out = append(out, toWhyJSON(f))
		}
		return a.Emit(struct {
			Schema string    `json:"schema"`
			Game   string    `json:"game"`
			Lane   string    `json:"lane"`
			Files  []whyJSON `json:"files"`
		}{"morvant-why/1", l.Game.Name, l.Name, out})
	}
	for _, f := range list {
		for _, line := range whyLines(f) {
			a.Say("%s", line)
		}
	}
	return nil
}
