package hold

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/state"
)

func (a commands) historyCommand() *cli.Command {
	return &cli.Command{
		Name: "history", Usage: "list the changes of the game's folder", Category: app.GroupPin,
		Description: "Example: morvant history",
		Action:      a.OnGameAlone(a.history),
		Commands: []*cli.Command{{
			Name: "output", Usage: "show the output of the steps after a pin", ArgsUsage: "NUMBER",
			Description: "Example: morvant history output 3",
			Action: func(ctx context.Context, c *cli.Command) error {
				args, err := app.Arguments(c, 1, 1)
				if err != nil {
					return err
				}
				id, err := app.Number(args[0], "change", "history")
				if err != nil {
					return err
				}
				return a.WithGame(ctx, c, func(home *game.Home, name string) error {
					text, err := home.Output(ctx, name, id)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return a.Emit(struct {
							Schema string `json:"schema"`
							Change int64  `json:"change"`
							Output string `json:"output"`
						}{"morvant-output/1", id, text})
					}
					fmt.Fprint(a.Out, text)
					return nil
				})
			},
		}, {
			Name: "forget", Usage: "forget changes made before a date; you can no longer undo them", ArgsUsage: "DATE",
			Description: "Example: morvant history forget 2031-08-01\n\nmorvant store trim then frees the content that only they needed.",
			Flags:       app.ChangeFlags(),
			Action: func(ctx context.Context, c *cli.Command) error {
				args, err := app.Arguments(c, 1, 1)
				if err != nil {
					return err
				}
				before, err := time.ParseInLocation(time.DateOnly, args[0], time.Local)
				if err != nil {
					return app.Usagef("\"%s\" is not a date; write it like 2031-08-01", args[0])
				}
				return a.WithGame(ctx, c, func(home *game.Home, name string) error {
					if err := a.Ask(c, "Forget every change of "+name+" before "+args[0]+"?"); err != nil {
						return err
					}
					n, err := home.ForgetChanges(ctx, name, before)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return a.Emit(struct {
							Schema  string `json:"schema"`
							Changes int64  `json:"changes"`
						}{"morvant-forgotten/1", n})
					}
					a.Say("%s forgotten.", view.Count(int(n), "change"))
					return nil
				})
			},
		}},
	}
}

func (a commands) history(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	is, err := home.Lane(ctx, name, "")
	if err != nil {
		return err
	}
	list, err := home.History(ctx, name, is.Name)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.Emit(view.ToHistoryJSON(name, list))
	}
	if len(list) == 0 {
		a.Say("Morvant has not changed anything in the folder of %s yet.", g.Display())
		return nil
	}
	var rows [][]string
	for _, h := range list {
		standing := "stands"
		if h.Undone != 0 {
			standing = fmt.Sprintf("undone by %d", h.Undone)
		} else if h.What == state.ChangeUndo {
			standing = ""
		}
		t := h.Totals
		rows = append(rows, []string{
			fmt.Sprint(h.ID), view.Day(h.Made), view.Change(h),
			view.Comma(t.Replaced), view.Comma(t.Added), view.Comma(t.Removed), view.Comma(t.Moved), view.Size(t.Written), standing,
		})
	}
	a.Table([]view.Column{
		{Head: "No", Right: true},
		{Head: "Date"},
		{Head: "Change", Cut: view.CutMiddle, Least: 24},
		{Head: "Replaced", Right: true, Spare: 3},
		{Head: "Added", Right: true, Spare: 4},
		{Head: "Removed", Right: true, Spare: 5},
		{Head: "Moved", Right: true, Spare: 6},
		{Head: "Written", Right: true, Spare: 2},
		{Head: "State", Cut: view.CutEnd},
	}, rows)
	for _, h := range list {
		if h.Notes != "" {
			a.Say("Change %d: %s.", h.ID, h.Notes)
		}
	}
	return nil
}
