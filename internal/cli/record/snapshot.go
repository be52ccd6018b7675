package record

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/lane"
	"morvant/internal/lane/record"
	"morvant/internal/state"
)

func (a commands) snapshotCommand() *cli.Command {
	return &cli.Command{
		Name: "snapshot", Usage: "record the live folder, content included", ArgsUsage: "[LABEL]", Category: app.GroupRecord,
		Description: "Example: morvant snapshot 1.1.1 --note \"with all mods, everything works\"\n\n" +
			"Without a label, the date and time become the label. The store keeps each piece of content only once.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "note", Usage: "a `NOTE` of your own, one line"},
			&cli.BoolFlag{Name: "flat", Usage: "record laid sets of mods as part of the folder, and not the build beneath them"},
			&cli.StringFlag{Name: "date", Usage: "when this build was released: `DATE` (2031-08-05; default: now)"},
		},
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			args, err := app.Arguments(c, 0, 1)
			if err != nil {
				return err
			}
			label := ""
			if len(args) > 0 {
				if label = args[0]; label == "" {
					return app.Usagef("the label is empty; leave it out for the date and time")
				}
			}
			released, err := app.Date(c.String("date"))
			if err != nil {
				return err
			}
			return a.WithLane(ctx, c, app.ToLook, func(l *lane.Lane) error {
				s, err := record.Snapshot(ctx, l, record.Wanted{Label: label, Note: c.String("note"), Released: released, Beneath: !c.Bool("flat"), Suspect: func(why string) error {
					a.Note("%s. That is what a sync program, a full disk or half an update leaves. A snapshot of it is marked as doubtful.", why)
					if !a.Interactive() {
						return nil
					}
					return a.Ask(c, "Record it all the same?")
				}})
				if err != nil {
					return err
				}
				// What is gone is not missed in what is recorded as it is.
				if _, err := record.Guard(ctx, l); err != nil {
					return err
				}
				if err := l.Home.Player.ForgetGone(ctx, l.Game.Name, l.Name); err != nil {
					return err
				}
				return a.showSnapshot(c, l, s)
			})
		},
	}
}

func (a commands) showSnapshot(c *cli.Command, l *lane.Lane, s *record.Taken) error {
	if c.Bool("json") {
		return a.Emit(struct {
			Schema string `json:"schema"`
			Game   string `json:"game"`
			view.BuildJSON
			StoredBytes int64    `json:"stored_bytes"`
			LeftOut     []string `json:"left_out"`
		}{"morvant-snapshot/1", l.Game.Name, view.ToBuildJSON(s.Build, state.Pin{}), s.Stored, view.OddPaths(s.Odd)})
	}
	a.Say("%s of %s is recorded: %s, %s; the store grew by %s.",
		view.Strong(s.Build.Label), l.Game.Display(), view.Count(s.Build.Files, "file"), view.Size(s.Build.Bytes), view.Size(s.Stored))
	if len(s.Sets) > 0 {
		a.Say("It is the build beneath the mods %s; --flat records them as part of it. Both again: morvant pin %s --mods %s", strings.Join(s.Sets, ", "), view.Quoted(s.Build.Label), strings.Join(s.Sets, " --mods "))
	}
	if s.Same != nil {
		a.Say("Its content is the same as that of %s.", s.Same.Label)
	}
	if n := s.Links; n > 0 {
		a.Say("%s out of the folder%s recorded for this computer alone.", view.Count(n, "link"), view.AreIs(n))
	}
	if text := view.DoublesLine(s.Doubles, l.Game.IgnoreCase); text != "" {
		a.Note("Note: %s.", text)
	}
	a.noteRestless(s.Restless)
	a.NoteOdd(s.Odd)
	return nil
}
