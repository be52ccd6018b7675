package saves

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/plan"
	"morvant/internal/saves"
)

func (a commands) savesCommand() *cli.Command {
	return &cli.Command{
		Name: "saves", Usage: "your saved games: list, backup, restore, stash", Category: app.GroupSaves,
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the backups, and where the saves are",
				Description: "Example: morvant game set --saves \"~/Saved Games/Cinder Quay/*\"\n         morvant saves list",
				Action:      a.OnGameAlone(a.savesList),
			},
			{
				Name: "backup", Usage: "back up the saves now; pins and switches do so by themselves", ArgsUsage: "[NOTE]",
				Description: "Example: morvant saves backup \"before the race\"",
				Action: a.OnLane(app.TheLiveOne, 0, 1, func(ctx context.Context, c *cli.Command, l *lane.Lane, args []string) error {
					return a.savesBackup(ctx, c, l, view.FirstNonEmpty(append(args, "by hand")...))
				}),
			},
			{
				Name: "restore", Usage: "restore a backup, after backing up the saves of now", ArgsUsage: "[NUMBER]",
				Description: "Example: morvant saves restore 4\n         morvant saves restore --of 1.1.1\n\nWithout a number: the newest whole one that differs from the saves of now.",
				Flags:       append(app.ChangeFlags(), &cli.StringFlag{Name: "of", Usage: "the newest whole one that was written by this `BUILD`"}),
				Action: func(ctx context.Context, c *cli.Command) (err error) {
					id, err := app.OptionalNumber(c, "backup", "saves list")
					if err != nil {
						return err
					}
					return a.WithLane(ctx, c, app.TheLiveOne, func(l *lane.Lane) error {
						return a.savesRestore(ctx, c, l, l.Home, id)
					})
				},
			},
			{
				Name: "stash", Usage: "move the saves into a backup, for a clean start", Description: "Example: morvant saves stash\n         morvant saves restore",
				Flags: app.ChangeFlags(),
				Action: a.OnLane(app.TheLiveOne, 0, 0, func(ctx context.Context, c *cli.Command, l *lane.Lane, _ []string) error {
					change, err := backup.Propose(ctx, l, nil)
					if err != nil {
						return err
					}
					led, err := backup.Led(ctx, l)
					if err != nil {
						return err
					}
					for _, p := range led {
						a.Note("Note: %s leads to %s by a link: that folder is emptied.", view.Quoted(p.Named), view.Quoted(p.Real))
					}
					return a.carrySaves(ctx, c, l, change, "stashed", "The saves are in a backup")
				}),
			},
			{
				Name: "forget", Usage: "forget a backup", ArgsUsage: "NUMBER", Description: "Example: morvant saves forget 2",
				Flags: app.ChangeFlags(),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := app.Arguments(c, 1, 1)
					if err != nil {
						return err
					}
					id, err := app.Number(args[0], "backup", "saves list")
					if err != nil {
						return err
					}
					return a.WithGame(ctx, c, func(home *game.Home, name string) error {
						return a.savesForget(ctx, c, home, name, id)
					})
				},
			},
		},
	}
}

func (a commands) savesList(ctx context.Context, c *cli.Command, home *game.Home, name string) (err error) {
	session, err := a.OpenLaneOf(ctx, c, home, name, app.Looking)
	if err != nil {
		return err
	}
	defer session.Close(&err)
	l := session.Lane
	places, none, err := backup.Find(ctx, l)
	if err != nil {
		return err
	}
	list, err := home.Backups(ctx, name)
	if err != nil {
		return err
	}
	var now []string
	for _, p := range places {
		now = append(now, p.In(l.Dir))
	}
	if c.Bool("json") {
		out := []view.BackupJSON{}
		for _, b := range list {
			out = append(out, view.ToBackupJSON(b))
		}
		return a.Emit(struct {
			Schema  string            `json:"schema"`
			Game    string            `json:"game"`
			PerLane bool              `json:"per_lane"`
			Places  []string          `json:"places"`
			None    []string          `json:"not_found"`
			Backups []view.BackupJSON `json:"backups"`
		}{"morvant-saves/1", name, l.Game.SavesPerLane, append([]string{}, now...), append([]string{}, none...), out})
	}
	vanished, err := backup.Vanished(ctx, l)
	if err != nil {
		return err
	}
	a.showSaves(l, now, none, list, vanished)
	return nil
}

func (a commands) showSaves(l *lane.Lane, now, none []string, list []*saves.Backup, vanished *saves.Backup) {
	whose := "all lanes share them"
	if l.Game.SavesPerLane {
		whose = "each lane has its own"
	}
	switch {
	case len(l.Game.Saves) == 0:
		a.Say("Morvant does not know where %s keeps its saves: morvant game set --saves \"~/Saved Games/...\"", l.Game.Display())
	case vanished != nil:
		a.Say("%s", view.Paint(view.Bad, view.NoSavesLine(vanished)))
	case len(now) == 0:
		a.Say("There are no saves of %s now.", l.Game.Display())
	default:
		a.Say("Saves of %s (%s): %s", view.Strong(l.Game.Display()), whose, strings.Join(now, ", "))
	}
	for _, p := range none {
		a.Note("Note: nothing matches %s yet.", p)
	}
	if len(list) == 0 {
		return
	}
	var rows [][]string
	for _, b := range list {
		why := b.Why
		if b.Doubt != "" {
			why = view.Paint(view.Bad, "suspect") + ", " + why
		}
		rows = append(rows, []string{fmt.Sprint(b.ID), view.Day(b.Made), b.Lane, b.Build, view.Comma(b.Files), view.Size(b.Bytes), why})
	}
	a.Say("")
	a.Table([]view.Column{
		{Head: "No", Right: true},
		{Head: "Date"},
		{Head: "Lane", Spare: 2, Cut: view.CutMiddle},
		{Head: "Build", Spare: 1, Cut: view.CutMiddle},
		{Head: "Files", Right: true, Spare: 3},
		{Head: "Size", Right: true},
		{Head: "Why", Cut: view.CutEnd, Least: 24},
	}, rows)
}

func (a commands) savesBackup(ctx context.Context, c *cli.Command, l *lane.Lane, why string) error {
	b, fresh, err := backup.Make(ctx, l, why)
	switch {
	case err != nil:
		return err
	case b == nil:
		return backup.ErrNone
	case c.Bool("json"):
		return a.Emit(struct {
			Schema string `json:"schema"`
			view.BackupJSON
			Fresh bool `json:"fresh"`
		}{"morvant-backup/1", view.ToBackupJSON(b), fresh})
	case !fresh:
		a.Say("Nothing has changed since backup %d.", b.ID)
	default:
		a.Say("Backup %d: %s, %s.", b.ID, view.Count(b.Files, "file"), view.Size(b.Bytes))
	}
	return nil
}

func (a commands) savesRestore(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, id int64) error {
	if id != 0 {
		b, err := home.Backup(ctx, l.Game.Name, id)
		if err != nil {
			return err
		}
		change, err := backup.Propose(ctx, l, b)
		if err != nil {
			return err
		}
		return a.carrySaves(ctx, c, l, change, fmt.Sprintf("before backup %d was brought back", id), fmt.Sprintf("The saves are those of backup %d", id))
	}
	b, change, err := backup.Newest(ctx, l, c.String("of"))
	switch {
	case err != nil:
		return err
	case b == nil && c.String("of") != "":
		return fmt.Errorf("no whole backup of %s differs from the saves of now: %w", c.String("of"), lane.ErrNothing)
	case b == nil:
		return fmt.Errorf("no whole backup differs from the saves of now: %w", lane.ErrNothing)
	}
	return a.carrySaves(ctx, c, l, change, fmt.Sprintf("before backup %d was brought back", b.ID), fmt.Sprintf("The saves are those of backup %d", b.ID))
}

// carrySaves shows a change of the saves, asks, and carries it out.
func (a commands) carrySaves(ctx context.Context, c *cli.Command, l *lane.Lane, change *backup.Change, why, done string) error {
	p := &plan.Plan{Steps: change.Steps(l.Dir)}
	if !c.Bool("json") && !c.Bool("quiet") {
		if change.Empty() {
			a.Say("Nothing would change.")
		} else {
			t := p.Totals()
			a.Say("%s replaced, %s added, %s removed:", view.Comma(t.Replaced), view.Comma(t.Added), view.Comma(t.Removed))
			if n := change.Copies(); n > 0 {
				a.Say("  %s", view.BecomeCopies(n, len(l.Game.ModsFrom) > 0))
			}
			a.Say("")
			a.Table(view.FileColumns("Action"), view.PlanRows(p, nil, c.Bool("verbose")))
			a.Say("")
		}
	}
	question := "Go ahead?"
	if len(change.Elsewhere) > 0 && !change.Empty() {
		a.Note("The saves of that backup lay in %s; those of now are in %s, and stay as they are.", strings.Join(change.Places(l.Dir), ", "), strings.Join(change.Elsewhere, ", "))
		question = "Bring the old ones back to where they lay?"
	}
	if !c.Bool("dry-run") && !change.Empty() {
		if err := a.Ask(c, question); err != nil {
			return err
		}
		if err := backup.CarryOut(ctx, l, change, why); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		t := p.Totals()
		return a.Emit(struct {
			Schema   string `json:"schema"`
			Done     bool   `json:"done"`
			Replaced int    `json:"replaced"`
			Added    int    `json:"added"`
			Removed  int    `json:"removed"`
			Before   int64  `json:"backup_before,omitempty"`
		}{"morvant-saves-change/1", !c.Bool("dry-run"), t.Replaced, t.Added, t.Removed, view.NumberOf(change.Now)})
	}
	switch {
	case c.Bool("dry-run"):
		a.Say("This was a dry run; nothing was changed.")
	case !change.Empty() && change.Now != nil:
		a.Say("%s. %s", done, view.Faint(fmt.Sprintf("Take it back: morvant saves restore %d", change.Now.ID)))
	}
	return nil
}

func (a commands) savesForget(ctx context.Context, c *cli.Command, home *game.Home, name string, id int64) error {
	b, err := home.Backup(ctx, name, id)
	if err != nil {
		return err
	}
	if err := a.Ask(c, fmt.Sprintf("Forget backup %d (%s, %s)?", id, view.Day(b.Made), b.Why)); err != nil {
		return err
	}
	if err := home.ForgetBackup(ctx, name, id); err != nil {
		return err
	}
	return a.Done(c, fmt.Sprintf("Backup %d is forgotten; morvant store trim frees what only it needed.", id))
}
