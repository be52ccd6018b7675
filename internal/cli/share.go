package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"morvant/internal/lane/change"
	"morvant/internal/lane/record"

	"github.com/urfave/cli/v3"

	"morvant/internal/exchange"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/pinfile"
)

func (a *app) pinfileCommand() *cli.Command {
	return &cli.Command{
		Name: "pinfile", Usage: "a pin as a file, to keep or to share: write, show, apply", Category: groupShare,
		Commands: []*cli.Command{
			{
				Name: "write", Usage: "write down what the game is held to", ArgsUsage: "[FILE]",
				Description: "Example: morvant pinfile write race-night.pin.toml\n\nWithout FILE it is written to stdout.",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "force", Usage: "replace a file that is there"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := arguments(c, 0, 1)
					if err != nil {
						return err
					}
					return a.withLane(ctx, c, func(l *lane.Lane, _ *game.Home) error { return a.pinfileWrite(ctx, c, l, args) })
				},
			},
			{
				Name: "show", Usage: "say what a pin file would do here; nothing is changed", ArgsUsage: "FILE",
				Description: "Example: morvant pinfile show race-night.pin.toml",
				Flags:       lineFlags(),
				Action:      a.pinfileAction(true),
			},
			{
				Name: "apply", Usage: "bring the game to what a pin file says, and hold it there", ArgsUsage: "FILE",
				Description: "Example: morvant pinfile apply race-night.pin.toml\n\nThe build is found by its content, not by its label alone. A pin file can run nothing.",
				Flags:       append(changeFlags(), lineFlags()...),
				Action:      a.pinfileAction(false),
			},
		},
	}
}

func (a *app) pinfileWrite(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
	f, err := change.PinFile(ctx, l)
	if err != nil {
		return err
	}
	text, err := f.Encode()
	if err != nil {
		return err
	}
	if len(args) == 0 {
		_, err := a.stdout.Write(text)
		return err
	}
	flags := os.O_WRONLY | os.O_CREATE | os.O_EXCL
	if c.Bool("force") {
		flags = os.O_WRONLY | os.O_CREATE | os.O_TRUNC
	}
	out, err := os.OpenFile(args[0], flags, 0o644)
	if err != nil {
		return err
	}
	_, err = out.Write(text)
	if err := errors.Join(err, out.Close()); err != nil {
		return err
	}
	if len(f.Feeds) == 0 && f.Channel != "" {
		a.note("Note: the feed that has it is a folder on this computer; others need one of their own.")
	}
	return a.done(c, fmt.Sprintf("%s says how %s is held at %s.", args[0], l.Game.Display(), f.Build))
}

// readPinfile reads a pin file, "-" for stdin.
func (a *app) readPinfile(name string) (*pinfile.File, error) {
	in := a.in
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	}
	b, err := io.ReadAll(io.LimitReader(in, pinfile.MaxSize+1))
	if err != nil {
		return nil, err
	}
	f, err := pinfile.Decode(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return f, nil
}

func (a *app) pinfileAction(show bool) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := arguments(c, 1, 1)
		if err != nil {
			return err
		}
		f, err := a.readPinfile(args[0])
		if err != nil {
			return err
		}
		with := a.withChange
		if show {
			with = a.withLane
		}
		return with(ctx, c, func(l *lane.Lane, home *game.Home) error {
			if !c.Bool("json") && !c.Bool("quiet") {
				a.showPinfile(l, f)
			}
			b, o, err := change.FromPinFile(ctx, l, f)
			if errors.Is(err, record.ErrNotKnown) {
				a.refreshQuietly(ctx, c, home, l.Game.Name)
				b, o, err = change.FromPinFile(ctx, l, f)
			}
			if err != nil {
				return &pinfileError{err, f}
			}
			p, err := change.ProposePin(ctx, l, b, o)
			if err != nil {
				return err
			}
			if !show {
				return a.carry(ctx, c, l, p)
			}
			if c.Bool("json") {
				return a.emit(toPlanJSON(l.Game.Name, p, false))
			}
			a.showPlan(c, l, p)
			return nil
		})
	}
}

// pinfileError is what keeps a pin file from being applied here.
type pinfileError struct {
	error
	file *pinfile.File
}

func (e *pinfileError) Unwrap() error { return e.error }

// advice says where the build can be downloaded.
func (e *pinfileError) advice() string {
	switch {
	case errors.Is(e.error, record.ErrOtherContent):
		return "Nothing was changed; ask who wrote the file where the build is from"
	case !errors.Is(e.error, record.ErrNotKnown):
		return ""
	case len(e.file.Feeds) > 0:
		s := e.file.Feeds[0]
		return fmt.Sprintf("Who wrote the file has it from a feed: morvant feed add %s --key %s", quoted(s.Address), quoted(s.Key))
	}
	return "Add a feed that has it (morvant feed add ADDRESS), or import it (morvant import FILE)"
}

func (a *app) showPinfile(l *lane.Lane, f *pinfile.File) {
	name := f.Title
	if name == "" {
		name = f.Game
	}
	p := game.Pin{Companions: f.Companions, Edits: f.Edits, Keep: f.Keep}
	for _, o := range f.Overlays {
		p.Overlays = append(p.Overlays, game.Overlay{Name: o.Build, Pattern: o.Files})
	}
	a.say("The file pins %s to %s (=%s).", strong(name), strong(f.Build), f.Digest.String()[:8])
	if text := fields(append([]string{"components", strings.Join(f.Components, ", ")}, additionLines(p)...)...); text != "" {
		a.say("%s", text)
	}
	a.showTexts(f)
	if f.Game != l.Game.Name {
		a.note("Note: it calls the game %s; here it is %s.", f.Game, l.Game.Name)
	}
}

// showTexts shows what a pin file would have written, whole: who goes ahead has seen it.
func (a *app) showTexts(f *pinfile.File) {
	for _, k := range f.Companions {
		a.say("\n  It writes %s, %s:", k.Path, size(int64(len(k.Text))))
		for line := range strings.Lines(k.Text) {
			a.say("    | %s", strings.TrimRight(line, "\r\n"))
		}
	}
	for _, e := range f.Edits {
		a.say("\n  In %s, it sets what this finds, to %q:\n    | %s", e.File, e.Set, e.Find)
	}
	if len(f.Companions)+len(f.Edits) > 0 {
		a.say("")
	}
}

func (a *app) exportCommand() *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "write a build in an open format", ArgsUsage: "BUILD FILE", Category: groupShare,
		Description: "Example: morvant export 1.1.1 quay-1.1.1.zip\n         morvant export 1.1.1 sums.txt --format b3sums\n\n" +
			"Formats: " + strings.Join(exchange.Formats(), ", ") + ". Without --format the end of FILE says which. A bag (RFC 8493) is a folder, and goes\n" +
			"on where it was cut off. Lists of checksums fit b3sum --check and sha256sum --check.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "the `FORMAT`", Validator: oneOf(exchange.Formats()...)},
			componentFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, 2, 2)
			if err != nil {
				return err
			}
			format, err := formatOf(c.String("format"), args[1])
			if err != nil {
				return err
			}
			return a.withLane(ctx, c, func(l *lane.Lane, home *game.Home) error {
				b, err := a.namedBuild(ctx, home, l.Game.Name, args[0])
				if err != nil {
					return err
				}
				if err := record.Export(ctx, l, b, c.StringSlice("component"), format, args[1]); err != nil {
					return err
				}
				return a.done(c, fmt.Sprintf("%s has %s of %s.", args[1], b.Label, l.Game.Display()))
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
	return "", usagef("say in which format: --format %s", strings.Join(exchange.Formats(), "|"))
}

func (a *app) importCommand() *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "record a build from a zip, a tar.zst or a BagIt folder", ArgsUsage: "SOURCE [LABEL]", Category: groupShare,
		Description: "Example: morvant import quay-1.1.1.zip 1.1.1 --note \"from Ada\"\n\nNothing in the game's folder is changed; morvant pin LABEL goes there.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "note", Usage: "a `NOTE` on it"},
			&cli.StringFlag{Name: "inside", Usage: "only what is in this `FOLDER` of it"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, 1, 2)
			if err != nil {
				return err
			}
			from := record.Imports{Source: args[0], Inside: c.String("inside"), Note: c.String("note")}
			if len(args) == 2 {
				from.Label = args[1]
			}
			return a.withLane(ctx, c, func(l *lane.Lane, _ *game.Home) error {
				b, err := record.Import(ctx, l, from)
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return a.emit(struct {
						Schema string `json:"schema"`
						Game   string `json:"game"`
						buildJSON
					}{"morvant-snapshot/1", l.Game.Name, toBuildJSON(b, game.Pin{})})
				}
				a.say("%s of %s is recorded: %s, %s. Go there: morvant pin snapshot/%s", strong(b.Label), l.Game.Display(), count(b.Files, "file"), size(b.Bytes), b.Label)
				return nil
			})
		},
	}
}
