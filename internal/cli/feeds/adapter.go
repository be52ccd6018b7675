package feeds

import (
	"context"
	"errors"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/adapter"
	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/feed/trial"
)

func (a commands) adapterCommand() *cli.Command {
	return &cli.Command{
		Name: "adapter", Usage: "for authors of adapters, programs that speak for distributors", Category: app.GroupFeeds,
		Description: "Example: morvant adapter try ./my-adapter https://distributor.example/quay",
		Commands: []*cli.Command{{
			Name: "try", Usage: "go through the protocol with an adapter, and say what is wrong", ArgsUsage: "PROGRAM ADDRESS",
			Description: "Example: morvant adapter try ./my-adapter https://distributor.example/quay\n         morvant adapter try --replay session.jsonl\n\n" +
				"Starts the program, goes through every request, holds each answer against the schemas and the rules, and fetches\n" +
				"one small file. Nothing of it is kept. --record keeps the session for a report of a fault, without secrets: answers,\n" +
				"headers, and what stands behind the question mark of addresses. --replay plays such a file in the program's place.",
			Flags: append(app.LineFlags(), app.AnswersFlag(),
				&cli.BoolFlag{Name: "all", Usage: "read every manifest, not only the newest, the oldest and ten between"},
				&cli.StringFlag{Name: "record", Usage: "keep the session in `FILE`"},
				&cli.StringFlag{Name: "replay", Usage: "play `FILE` in the place of a program"}),
			Action: a.adapterTry,
		}},
	}
}

func (a commands) adapterTry(ctx context.Context, c *cli.Command) error {
	q := trial.Request{Game: "trial", All: c.Bool("all")}
	if replay := c.String("replay"); replay != "" {
		if _, err := app.Arguments(c, 0, 0); err != nil {
			return err
		}
		q.Program, q.Address = adapter.Recording+replay, "recording"
	} else {
		args, err := app.Arguments(c, 2, 2)
		if err != nil {
			return err
		}
		q.Program, q.Address = args[0], args[1]
	}
	var kept *os.File
	if name := c.String("record"); name != "" {
		var err error
		if kept, err = os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600); err != nil {
			return err
		}
		q.Record = adapter.NewRecorder(kept)
	}
	r, err := trial.Run(ctx, q, a.FeedOptions(c))
	if kept != nil {
		err = errors.Join(err, kept.Close())
	}
	if err != nil {
		return err
	}
	if c.Bool("json") {
		if err := a.Emit(view.ToTrial(r)); err != nil {
			return err
		}
	} else {
		a.showTrial(r)
	}
	if !r.OK() {
		return app.ErrDifferent
	}
	return nil
}

func (a commands) showTrial(r *trial.Report) {
	var rows [][]string
	for _, s := range r.Steps {
		result, said := view.Paint(view.Good, "ok"), s.Said
		if s.Err != nil {
			result, said = view.Paint(view.Bad, "wrong"), ""
		}
		rows = append(rows, []string{s.Name, result, said})
	}
	a.Table([]view.Column{{Head: "Step"}, {Head: "Result"}, {Head: "What came of it", Cut: view.CutEnd}}, rows)
	for _, s := range r.Steps {
		if s.Err != nil {
			a.Say("\n%s: %s", s.Name, view.Plain(s.Err.Error()))
		}
	}
	if len(r.Wrong) > 0 {
		a.Say("\nAgainst the protocol:")
		for _, text := range r.Wrong {
			a.Say("  %s", view.Plain(text))
		}
	}
	if len(r.Odd) > 0 {
		a.Say("\nAllowed, and worth a look:")
		for _, text := range r.Odd {
			a.Say("  %s", view.Plain(text))
		}
	}
	if log := strings.TrimSpace(view.Plain(r.Log)); log != "" && !r.OK() {
		a.Say("\nThe end of what it writes to its standard error:")
		lines := strings.Split(log, "\n")
		for _, line := range lines[max(0, len(lines)-10):] {
			a.Say("  %s", line)
		}
	}
	if r.OK() {
		a.Say("\nThe adapter keeps to the protocol.")
	}
}
