package share

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/proposal"
	"morvant/internal/cli/view"
	"morvant/internal/lane"
	"morvant/internal/lane/propose"
	"morvant/internal/pinfile"
	"morvant/internal/state"
	"morvant/internal/volume"
)

func (a commands) pinfileCommand() *cli.Command {
	return &cli.Command{
		Name: "pinfile", Usage: "a pin as a file, to keep or to share: write, show, apply", Category: app.GroupShare,
		Commands: []*cli.Command{
			{
				Name: "write", Usage: "write down what the game is held to", ArgsUsage: "[FILE]",
				Description: "Example: morvant pinfile write race-night.pin.toml\n\nWithout FILE it is written to stdout.",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "force", Usage: "replace a file that is there"}},
				Action: a.OnLane(app.Looking, 0, 1, func(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
					return a.pinfileWrite(ctx, c, l, args)
				}),
			},
			{
				Name: "show", Usage: "say what a pin file would do here; nothing is changed", ArgsUsage: "FILE",
				Description: "Example: morvant pinfile show race-night.pin.toml",
				Flags:       app.FetchFlags(),
				Action:      a.pinfileAction(true),
			},
			{
				Name: "apply", Usage: "bring the game to what a pin file says, and hold it there", ArgsUsage: "FILE",
				Description: "Example: morvant pinfile apply race-night.pin.toml\n\nThe build is found by its content, not by its label alone. A pin file can run nothing.",
				Flags:       append(app.ChangeFlags(), app.FetchFlags()...),
				Action:      a.pinfileAction(false),
			},
		},
	}
}

func (a commands) pinfileWrite(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
	f, err := propose.PinFile(ctx, l)
	if err != nil {
		return err
	}
	text, err := f.Encode()
	if err != nil {
		return err
	}
	if len(args) == 0 {
		_, err := a.Stdout.Write(text)
		return err
	}
	if err := volume.WriteNamed(args[0], text, c.Bool("force")); err != nil {
		return err
	}
	if len(f.Feeds) == 0 && f.Channel != "" && f.Distributor == "" {
		a.Note("Note: the feed that has it is a folder on this computer; others need one of their own.")
	}
	return a.Done(c, fmt.Sprintf("%s says how %s is held at %s.", args[0], l.Game.Display(), f.Build))
}

// readPinfile reads a pin file, "-" for stdin.
func (a commands) readPinfile(name string) (*pinfile.File, error) {
	b, err := a.ReadNamed(name, pinfile.MaxSize)
	if err != nil {
		return nil, err
	}
	f, err := pinfile.Decode(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return f, nil
}

func (a commands) pinfileAction(show bool) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) (err error) {
		args, err := app.Arguments(c, 1, 1)
		if err != nil {
			return err
		}
		f, err := a.readPinfile(args[0])
		if err != nil {
			return err
		}
		why := app.ToChange
		if show {
			why = app.Looking
		}
		return a.WithLane(ctx, c, why, func(l *lane.Lane) error {
			if !c.Bool("json") && !c.Bool("quiet") {
				a.showPinfile(l, f)
			}
			b, o, err := propose.FromPinFile(ctx, l, f)
			if errors.Is(err, propose.ErrNotKnown) {
				find.RefreshQuietly(ctx, a.App, c, l.Home, l.Game.Name)
				b, o, err = propose.FromPinFile(ctx, l, f)
			}
			if err != nil {
				return &PinfileError{err, f}
			}
			p, err := propose.Pin(ctx, l, b, o)
			if err != nil {
				return err
			}
			if !show {
				return proposal.CarryOut(ctx, a.App, c, l, p)
			}
			if c.Bool("json") {
				return a.Emit(view.ToPlanJSON(l.Game.Name, p, false))
			}
			proposal.ShowPlan(a.App, c, l, p)
			return nil
		})
	}
}

// PinfileError is what keeps a pin file from being applied here.
type PinfileError struct {
	error
	file *pinfile.File
}

func (e *PinfileError) Unwrap() error { return e.error }

// Advice says where the build can be downloaded.
func (e *PinfileError) Advice() string {
	switch {
	case errors.Is(e.error, propose.ErrOtherContent):
		return "Nothing was changed; ask who wrote the file where the build is from"
	case !errors.Is(e.error, propose.ErrNotKnown):
		return ""
	case e.file.Distributor != "":
		return fmt.Sprintf("Who wrote the file has it from the distributor %s, where it is called \"%s\": add that with its adapter (morvant feed add --adapter PROGRAM ADDRESS)", e.file.Distributor, e.file.ID)
	case len(e.file.Feeds) > 0:
		s := e.file.Feeds[0]
		return fmt.Sprintf("Who wrote the file has it from a feed: morvant feed add %s --key %s", view.Quoted(s.Address), view.Quoted(s.Key))
	}
	return "Add a feed that has it (morvant feed add ADDRESS), or import it (morvant import FILE)"
}

func (a commands) showPinfile(l *lane.Lane, f *pinfile.File) {
	name := f.Title
	if name == "" {
		name = f.Game
	}
	p := state.Pin{Companions: f.Companions, Edits: f.Edits, Keep: f.Keep, LeaveOut: f.LeaveOut}
	for _, o := range f.Overlays {
		p.Overlays = append(p.Overlays, state.Overlay{Name: o.Build, Pattern: o.Files})
	}
	a.Say("The file pins %s to %s (=%s).", view.Strong(name), view.Strong(f.Build), f.Digest.String()[:8])
	if text := view.Fields(append([]string{"components", strings.Join(f.Components, ", ")}, view.AdditionLines(p)...)...); text != "" {
		a.Say("%s", text)
	}
	a.showTexts(f)
	if f.Game != l.Game.Name {
		a.Note("Note: it calls the game %s; here it is %s.", f.Game, l.Game.Name)
	}
}

// showTexts shows what a pin file would have written, whole: who goes ahead has seen it.
func (a commands) showTexts(f *pinfile.File) {
	for _, k := range f.Companions {
		a.Say("\n  It writes %s, %s:", k.Path, view.Size(int64(len(k.Text))))
		for line := range strings.Lines(k.Text) {
			a.Say("    | %s", strings.TrimRight(line, "\r\n"))
		}
	}
	for _, e := range f.Edits {
		a.Say("\n  In %s, it sets what this finds, to \"%s\":\n    | %s", e.File, e.Set, e.Find)
	}
	if len(f.Companions)+len(f.Edits) > 0 {
		a.Say("")
	}
}
