package hold

import (
	"context"
	"errors"
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
	"morvant/internal/lane/record"
	"morvant/internal/ref"
	"morvant/internal/resolve"
	"morvant/internal/state"
)

func (a commands) pinCommand() *cli.Command {
	return &cli.Command{
		Name: "pin", Usage: "bring the game to a build and hold it there", ArgsUsage: "BUILD", Category: app.GroupPin,
		Description: "Example: morvant pin 1.1.1\n\n" +
			"Only what differs is replaced. Files under keep rules are never touched. Other files that the build does\n" +
			"not have stay and are listed, except those of the build held before. Everything that is replaced or\n" +
			"removed goes into the store first, and morvant undo restores it. Morvant downloads what is missing from\n" +
			"the game's feeds, after the plan has shown how much that is. BUILD may be a folder or an archive, written\n" +
			"as a path (./download): it is recorded first.\n\n" +
			"Overlays, companions, edits, keep rules and what is left out stay when you pin another build, until --without NAME or\n" +
			"--plain takes them off. An edit that is taken off restores the value that it replaced.\n\n" +
			"With --follow the launcher may go on updating the game. After each update (let-update, watch, status, launch) the\n" +
			"overlays are laid over the new build, if it still has the files that they replace.",
		Flags: append(append(append(app.ChangeFlags(), app.FetchFlags()...), additionFlags()...), app.ComponentFlag(),
			&cli.BoolFlag{Name: "clean", Usage: "also remove files that belong neither to the build nor to you"},
			&cli.BoolFlag{Name: "exact", Usage: "restore the whole snapshot, your own files included"},
			&cli.StringFlag{Name: "for", Usage: "the build that was current when this `FILE` was made: a replay, a save"},
			&cli.StringFlag{Name: "date", Usage: "with --for: when the file was made, if its own date is wrong: `DATE`"},
			&cli.BoolFlag{Name: "left-overs", Usage: "also remove files that are just as in other snapshots"},
			&cli.BoolFlag{Name: "with-tied", Usage: "bring the games that this one is tied to (game set --with) to the same label, all or none"},
			&cli.BoolFlag{Name: "follow", Usage: "let updates in, and lay the overlays over each new build"},
			&cli.BoolFlag{Name: "no-block", Usage: "do not keep the launcher from updating it"},
		),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			name, err := pinned(ctx, a.App, c)
			if err != nil {
				return err
			}
			r, err := ref.Parse(name)
			here := err == nil && r.Kind == ref.Here
			if here && !slices.ContainsFunc([]string{"overlay", "mods", "companion", "edit", "leave-out"}, c.IsSet) {
				return app.Usagef("the folder as it is now is not recorded yet; run morvant snapshot LABEL, then morvant pin LABEL")
			}
			return a.WithLane(ctx, c, app.ToChange, func(l *lane.Lane) error {
				var b *state.Build
				var recorded []*state.Build
				if here {
					b, recorded, err = recordHere(ctx, l)
				} else {
					b, recorded, err = find.FolderOrBuild(ctx, a.App, c, l, name)
				}
				if err != nil {
					return err
				}
				add, err := a.additions(ctx, c, l, l.Home)
				if err != nil {
					return err
				}
				o := propose.PinOptions{
					Clean: c.Bool("clean"), Whole: c.Bool("exact"), Hold: true, Components: c.StringSlice("component"), Open: c.Bool("no-block"), Follow: c.Bool("follow"), Add: add.Pin,
					Inherit: true, Without: c.StringSlice("without"), LeftOvers: c.Bool("left-overs"),
				}
				if c.Bool("plain") {
					o.Without = propose.Everything
				}
				p, err := propose.Pin(ctx, l, b, o)
				if err == nil && leftOversToo(a.App, c, p) {
					o.LeftOvers = true
					p, err = propose.Pin(ctx, l, b, o)
				}
				switch {
				case err != nil:
				case c.Bool("with-tied"):
					err = pinTied(ctx, a.App, c, l.Home, l, p)
				default:
					err = proposal.CarryOut(ctx, a.App, c, l, p)
				}
				return errors.Join(err, find.Forget(ctx, c, l, append(recorded, add.recorded...), err))
			})
		},
	}
}

// pinned names the build that is asked for.
func pinned(ctx context.Context, a *app.App, c *cli.Command) (string, error) {
	if c.String("for") != "" {
		return buildFor(ctx, a, c)
	}
	args, err := app.Arguments(c, 1, 1)
	if err != nil {
		return "", err
	}
	return args[0], nil
}

// buildFor names the build that was current when a file was made.
func buildFor(ctx context.Context, a *app.App, c *cli.Command) (string, error) {
	if _, err := app.Arguments(c, 0, 0); err != nil {
		return "", err
	}
	file := c.String("for")
	when, how, err := find.MadeAt(c, file)
	if err != nil {
		return "", err
	}
	home, name, err := a.OpenGame(ctx, c)
	if err != nil {
		return "", err
	}
	find.RefreshQuietly(ctx, a, c, home, name)
	found, err := resolve.At(ctx, home, name, "", when)
	if err := errors.Join(err, home.Close()); err != nil {
		return "", err
	}
	a.Note("%s was made %s (%s): the build of that time is %s of %s.", filepath.Base(file), view.Day(when), how, found.Label, view.Day(found.Made))
	if near := found.Close(when); near != nil {
		a.Note("That is close to %s of %s; it may be of that build.", near.Label, view.Day(near.Made))
	}
	return found.Name(), nil
}

// recordHere records the folder as it is, for something to be laid over it.
func recordHere(ctx context.Context, l *lane.Lane) (*state.Build, []*state.Build, error) {
	s, err := record.Snapshot(ctx, l, record.Wanted{Note: "as it was before files were laid over it"})
	if err != nil {
		return nil, nil, err
	}
	if s.Same != nil {
		return s.Same, nil, l.Home.ForgetBuild(context.WithoutCancel(ctx), s.Build)
	}
	return s.Build, []*state.Build{s.Build}, nil
}

// leftOversToo asks whether files go that only snapshots have.
func leftOversToo(a *app.App, c *cli.Command, p *change.Proposal) bool {
	if len(p.LeftOvers) == 0 || c.Bool("dry-run") || c.Bool("yes") || c.Bool("json") || !a.Interactive() {
		return false
	}
	for _, o := range p.LeftOvers {
		a.Note("Left over from %s: %s, %s (%s).", o.Build.Label, view.Count(len(o.Files), "file"), view.Size(o.Bytes()), view.Names(o.Files, view.Few))
	}
	return a.Question("Remove them, too?") == nil
}

func (a commands) unpinCommand() *cli.Command {
	return &cli.Command{
		Name: "unpin", Usage: "end the hold and restore the folder from before it", Category: app.GroupPin,
		Description: "Example: morvant unpin\n         morvant unpin --stay\n         morvant unpin --to newest",
		Flags: append(append(app.ChangeFlags(), app.FetchFlags()...),
			&cli.BoolFlag{Name: "stay", Usage: "leave every file as it is"},
			&cli.StringFlag{Name: "to", Usage: "go to this `BUILD` instead"},
			wholeFlag(), recordedFlag(),
		),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			if _, err := app.Arguments(c, 0, 0); err != nil {
				return err
			}
			why := app.ToChange
			if c.Bool("stay") {
				why = app.ToLook
			}
			return a.WithLane(ctx, c, why, func(l *lane.Lane) error {
				p, err := a.proposeUnpin(ctx, c, l, l.Home)
				if err != nil {
					return err
				}
				if p.Leaves() != nil && !c.IsSet("to") && !c.Bool("json") {
					if err := a.sayWhereUnpinLeads(ctx, l, p); err != nil {
						return err
					}
				}
				return proposal.CarryOut(ctx, a.App, c, l, p)
			})
		},
	}
}

// sayWhereUnpinLeads says what the folder will be, for it need not be what the player expects: what
// updates have brought between two pins comes back as well.
func (a commands) sayWhereUnpinLeads(ctx context.Context, l *lane.Lane, p *change.Proposal) error {
	b, err := propose.Leads(ctx, l, p)
	if err != nil {
		return err
	}
	leads := "a state that matches no known build"
	if b != nil {
		leads = view.Strong(b.Label) + " (" + b.Line() + ")"
	}
	a.Note("This undoes every change since the hold began, and leads to %s. To end the hold and leave every file as it is: morvant unpin --stay", leads)
	names, err := propose.UpdatesSince(ctx, l)
	switch n := len(names); {
	case n == 1:
		a.Note("Note: an update came since then: %s; morvant unpin --to %s leads to it.", names[0], names[0])
	case n > 1:
		a.Note("Note: updates came since then: %s; morvant unpin --to %s leads to the last.", strings.Join(names, ", "), names[0])
	}
	return err
}

func (a commands) proposeUnpin(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home) (*change.Proposal, error) {
	how, err := oneOf(c, "stay", "to", "whole", "recorded")
	if err != nil {
		return nil, err
	}
	switch how {
	case "stay":
		return propose.Lift(ctx, l)
	case "to":
		if pin, err := home.Pin(ctx, l.Game.Name, l.Name); err != nil || !pin.Held() {
			return nil, firstOf(err, lane.ErrNotHeld)
		}
		b, err := find.Offered(ctx, a.App, c, home, l.Game.Name, c.String("to"))
		if err != nil {
			return nil, err
		}
		return propose.Pin(ctx, l, b, propose.PinOptions{})
	}
	return propose.Unpin(ctx, l, rewindings[how])
}

// oneOf returns which of these options is given; empty: none. Two of them exclude each other.
func oneOf(c *cli.Command, options ...string) (given string, err error) {
	for _, o := range options {
		switch {
		case !c.IsSet(o):
		case given != "":
			return "", app.Usagef("--%s and --%s exclude each other; choose one", given, o)
		default:
			given = o
		}
	}
	return given, nil
}

func wholeFlag() cli.Flag {
	return &cli.BoolFlag{Name: "whole", Usage: "restore the whole folder, whatever has changed since"}
}

func recordedFlag() cli.Flag {
	return &cli.BoolFlag{Name: "recorded", Usage: "restore only the files that the change touched"}
}

// rewindings says how a change is taken back by the option that is given.
var rewindings = map[string]propose.Rewinding{"": propose.Ask, "whole": propose.Whole, "recorded": propose.Recorded}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func (a commands) undoCommand() *cli.Command {
	return &cli.Command{
		Name: "undo", Usage: "undo the last change of the game's folder", ArgsUsage: "[NUMBER]", Category: app.GroupPin,
		Description: "Example: morvant undo\n\n" +
			"Restores content, names, times and modes as they were. An undo is a change too: to undo it,\n" +
			"give its number from morvant history. Where the folder has become another build meanwhile, choose:\n" +
			"--whole or --recorded.",
		Flags: append(app.ChangeFlags(), wholeFlag(), recordedFlag()),
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			id, err := app.OptionalNumber(c, "change", "history")
			if err != nil {
				return err
			}
			return a.WithLane(ctx, c, app.ToChange, func(l *lane.Lane) error {
				how, err := oneOf(c, "whole", "recorded")
				if err != nil {
					return err
				}
				p, _, err := propose.Undo(ctx, l, id, rewindings[how])
				if err != nil {
					return err
				}
				return proposal.CarryOut(ctx, a.App, c, l, p)
			})
		},
	}
}
