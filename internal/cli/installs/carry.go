package installs

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/proposal"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/propose"
	"morvant/internal/lane/status"
	"morvant/internal/problem"
	"morvant/internal/ref"
	"morvant/internal/rules"
)

// takeAsk leaves it to the player which conflicts the other side wins.
const takeAsk = "ask"

func (a commands) carryCommand() *cli.Command {
	return &cli.Command{
		Name: "carry", Usage: "copy your own files from another lane, a snapshot or a folder", ArgsUsage: "FROM [PATTERN...]", Category: app.GroupLanes,
		Description: "Example: morvant carry lane/main\n         morvant carry snapshot/1.1.1 \"Mods/**\" --conflict newer\n         morvant carry \"/games/Quay (copy)\" \"Harbours/**\"\n         morvant carry own\n\n" +
			"Your own files are those under keep rules, and others that no known build has. Files here that differ stay, unless\n" +
			"--conflict decides otherwise: newer, theirs, mine, or ask. A PATTERN names your own files also where a build has\n" +
			"files of that name. Keep rules make what was copied yours: no repair undoes it. FROM own means what morvant watch has recorded of this lane.",
		Flags: append(app.ChangeFlags(), &cli.StringFlag{Name: "conflict", Usage: "which file to keep where both sides have one: `WHICH` of ask, newer, theirs, mine",
			Value: takeAsk, Validator: app.OneOf(takeAsk, string(propose.TakeNewer), string(propose.TakeTheirs), string(propose.TakeMine))}),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			args, err := app.Arguments(c, 1, 100)
			if err != nil {
				return err
			}
			if err := (rules.Rules{Keep: args[1:]}).Check(); err != nil {
				return err
			}
			return a.WithLane(ctx, c, app.ToChange, func(l *lane.Lane) error {
				from, err := a.carrySource(ctx, l.Home, l, args[0])
				if err != nil {
					return err
				}
				return errors.Join(a.carryOwn(ctx, c, l, from, args[1:]), from.Close())
			})
		},
	}
}

// ownFiles stands for what a watch has recorded of the player's own files.
const ownFiles = "own"

var errNoOwn = problem.New("no watch has recorded your own files yet", "A snapshot has them: morvant carry snapshot/LABEL")

// carrySource finds what is meant: own, lane/NAME, a folder, or a snapshot.
func (a commands) carrySource(ctx context.Context, home *game.Home, l *lane.Lane, text string) (*propose.Origin, error) {
	if text == ownFiles {
		s, err := status.Of(ctx, l, status.Glance)
		if err != nil {
			return nil, err
		}
		if s.Back != nil && s.Back.Own != nil {
			return propose.FromOwn(ctx, l, s.Back.Own)
		}
		list, err := home.Player.Owned(ctx, l.Game.Name, l.Name)
		if err != nil {
			return nil, err
		}
		if len(list) == 0 {
			return nil, errNoOwn
		}
		return propose.FromOwn(ctx, l, list[0])
	}
	r, err := ref.Parse(text)
	if err == nil && r.Kind == ref.Lane {
		return propose.FromLane(ctx, l, r.Name)
	}
	if info, err := os.Stat(text); err == nil && info.IsDir() && strings.ContainsAny(text, `/\.`) {
		dir, err := filepath.Abs(text)
		if err != nil {
			return nil, err
		}
		return propose.FromFolder(ctx, l, dir)
	}
	if err != nil {
		return nil, err
	}
	b, err := find.Build(ctx, a.App, home, l.Game.Name, r)
	if err != nil {
		return nil, err
	}
	return propose.FromBuild(ctx, l, b)
}

func (a commands) carryOwn(ctx context.Context, c *cli.Command, l *lane.Lane, from *propose.Origin, patterns []string) error {
	found, err := propose.CompareOwn(ctx, l, from, patterns)
	if err != nil {
		return err
	}
	a.noteNotCarried(found)
	a.askDoubtful(c, found)
	if len(found.New)+len(found.Conflicts)+found.Same == 0 {
		return fmt.Errorf("%s: %w", from.Name, errNothingOwn)
	}
	take := propose.Take(c.String("conflict"))
	if !c.Bool("json") && !c.Bool("quiet") {
		a.showConflicts(found)
	}
	if take == takeAsk {
		if take, err = a.chooseTake(c, found); err != nil {
			return err
		}
	}
	p, err := propose.Carry(ctx, l, found, take)
	if err != nil {
		return err
	}
	if len(p.Keep) > 0 && !c.Bool("json") {
		a.Note("What comes is yours from then on, by keep rules: %s", strings.Join(p.Keep, "  "))
	}
	err = proposal.CarryOut(ctx, a.App, c, l, p)
	if err == nil && !c.Bool("dry-run") && len(p.Keep) > 0 {
		err = a.keepCarried(ctx, c, l, p.Keep)
	}
	if err == nil && len(found.Links)+len(found.Odd) > 0 {
		err = app.AsRefusal(errNotAll)
	}
	return err
}

// askDoubtful asks about files of which nobody can say whether they are the player's or the game's. Nobody says yes to that in
// advance.
func (a commands) askDoubtful(c *cli.Command, found *propose.Carrying) {
	n := len(found.Doubtful)
	if n == 0 {
		return
	}
	a.Note("%s in %s may be the game's rather than yours: %s.", view.Count(n, "file"), found.Source.Name, view.Names(found.Doubtful, view.Few))
	if a.Interactive() && !c.Bool("yes") && !c.Bool("json") && !c.Bool("dry-run") && a.Question("Are they yours, and to be copied, too?") == nil {
		found.WithDoubtful()
		return
	}
	a.Note("They are not copied. If they are yours, name them by a PATTERN.")
}

// keepCarried sets the keep rules by which what was carried is the player's: else the next repair
// would want it gone.
func (a commands) keepCarried(_ context.Context, c *cli.Command, l *lane.Lane, list []string) error {
	if !c.Bool("yes") {
		if err := a.Question("Set these keep rules?"); errors.Is(err, app.ErrDeclined) {
			a.Note("They are not set. A repair or a pin may undo what was brought.")
			return nil
		} else if err != nil {
			return err
		}
	}
	_, err := l.Home.Edit(l.Game.Name, map[string]any{"keep": slices.Concat(l.Base.Keep, list)})
	return err
}

// errNotAll is returned where something could not be copied, which has been named.
var errNotAll = problem.New("not everything could be copied", "What could not is named above")

// noteNotCarried names what a carry leaves behind.
func (a commands) noteNotCarried(found *propose.Carrying) {
	for _, e := range found.Links {
		a.Note("Note: %s is a link out of the folder, to %s, and is not carried.", e.Path, e.Target)
	}
	a.NoteOdd(found.Odd)
}

var errNothingOwn = errors.New("nothing there is yours and matches")

// chooseTake asks what is to become of conflicts.
func (a commands) chooseTake(c *cli.Command, found *propose.Carrying) (propose.Take, error) {
	newer := 0
	for _, k := range found.Conflicts {
		if k.Newer {
			newer++
		}
	}
	if newer == 0 || c.Bool("dry-run") {
		return propose.TakeMine, nil
	}
	switch err := a.Ask(c, fmt.Sprintf("Take the %s newer there?", view.ThatAre(newer))); {
	case err == nil:
		return propose.TakeNewer, nil
	case errors.Is(err, app.ErrDeclined):
		return propose.TakeMine, nil
	default:
		return "", err
	}
}

func (a commands) showConflicts(found *propose.Carrying) {
	a.Say("From %s: %s new here, %s the same, %s different.", found.Source.Name,
		view.Count(len(found.New), "file"), view.Comma(found.Same), view.Comma(len(found.Conflicts)))
	if len(found.Conflicts) == 0 {
		return
	}
	var rows [][]string
	for _, k := range found.Conflicts {
		which := "here"
		if k.Newer {
			which = "there"
		}
		rows = append(rows, []string{k.Path, view.Size(k.Here), view.Stamp(k.HereTime), view.Size(k.There), view.Stamp(k.ThereTime), which})
	}
	a.Say("")
	a.Table([]view.Column{
		{Head: "Different", Cut: view.CutStart},
		{Head: "Here", Right: true},
		{Head: "Changed here", Spare: 2},
		{Head: "There", Right: true},
		{Head: "Changed there", Spare: 1},
		{Head: "Newer"},
	}, rows)
	a.Say("")
}

// carryKept brings the files under keep rules of another lane.
func (a commands) carryKept(ctx context.Context, c *cli.Command, l *lane.Lane, name string) (err error) {
	if len(l.Game.Keep) == 0 {
		a.Note("No keep rule tells which files are yours; add one, then use morvant carry.")
		return nil
	}
	from, err := propose.FromLane(ctx, l, name)
	if err != nil {
		return err
	}
	defer from.Close()
	found, err := propose.CompareOwn(ctx, l, from, l.Game.Keep)
	if err != nil {
		return err
	}
	a.NoteOdd(found.Odd) // links are made apart from this
	if len(found.Odd) > 0 {
		defer func() {
			if err == nil {
				err = app.AsRefusal(errNotAll)
			}
		}()
	}
	if len(found.New) == 0 {
		return nil
	}
	p, err := propose.Carry(ctx, l, found, propose.TakeMine)
	if err != nil {
		return err
	}
	if err := change.CarryOut(ctx, l, p); err != nil {
		return err
	}
	var bytes int64
	for _, e := range found.New {
		bytes += e.Size
	}
	a.Note("%s of lane %s (keep rules) copied, %s.", view.Count(len(found.New), "file"), name, view.Size(bytes))
	return nil
}
