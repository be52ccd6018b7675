package proposal

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/change"
	"morvant/internal/saves"
	"morvant/internal/state"
)

// CarryOut shows a plan, asks, carries it out and says what came of it. It is the
// end of every command that changes a lane.
func CarryOut(ctx context.Context, a *app.App, c *cli.Command, l *lane.Lane, p *change.Proposal) error {
	dry := c.Bool("dry-run")
	asJSON := c.Bool("json")
	if !asJSON && !c.Bool("quiet") {
		ShowPlan(a, c, l, p)
	}
	if dry {
		if err := change.Ready(l, p); err != nil {
			a.Note("Note: right now this would fail: %s.", view.OneLine(err))
		}
	}
	if !dry {
		if err := acceptStranger(ctx, a, l); err != nil {
			return err
		}
		if err := change.Ready(l, p); err != nil {
			return err
		}
		if !p.Plan.Empty() {
			if err := a.Ask(c, "Go ahead?"); err != nil {
				return err
			}
		}
		if err := change.CarryOut(ctx, l, p); err != nil {
			return err
		}
	}
	written, err := savesOf(ctx, l, p)
	if err != nil {
		a.Note("Note: whether there are other saves of %s is not known: %s", p.Change.Build, view.OneLine(err))
	}
	if asJSON {
		j := view.ToPlanJSON(l.Game.Name, p, !dry)
		j.Saves = view.NumberOf(written)
		return errors.Join(a.Emit(j), unblocked(p))
	}
	if dry {
		a.Say("\nThis was a dry run; nothing was changed.")
		return nil
	}
	a.Say("%s", view.Outcome(l, p))
	if written != nil {
		a.Note("The newest saves that %s wrote are in backup %d (%s, %s): morvant saves restore %d brings them, morvant saves stash begins anew; those of now stay in their backup.",
			p.Change.Build, written.ID, view.Day(written.Made), view.Count(written.Files, "file"), written.ID)
	}
	return unblocked(p)
}

// savesOf returns the newest whole backup of the saves that the build wrote to which a change has led from another one; nil: there is
// none, or they are there.
func savesOf(ctx context.Context, l *lane.Lane, p *change.Proposal) (*saves.Backup, error) {
	if !l.Live || p.Change.Build == "" || p.Change.After.Build == p.Change.Before.Build {
		return nil, nil
	}
	b, _, err := backup.Newest(ctx, l, p.Change.Build)
	return b, err
}

// unblocked makes a pin whose block could not be set end with another exit code: updates may come. Why has been said.
func unblocked(p *change.Proposal) error {
	if p.Block == nil || !p.Change.After.Held() || p.Change.What != state.ChangePin {
		return nil
	}
	return app.ErrDifferent
}

// acceptStranger asks whether a folder that may not be the game's is to be taken for it.
// No option says so: it takes somebody who has read what is there.
func acceptStranger(ctx context.Context, a *app.App, l *lane.Lane) error {
	why := l.Stranger()
	if why == "" {
		return nil
	}
	n, bytes := contentOf(l.Dir)
	a.Note("%s may not be the folder of %s: %s. It holds %s, %s.", l.Dir, l.Title(), why, view.Count(n, "file"), view.Size(bytes))
	if !term.IsTerminal(int(a.In.Fd())) {
		return fmt.Errorf("%w: %s; if it is the right one: morvant game set -g %s --live %s", lane.ErrStranger, why, l.Game.Name, view.Quoted(l.Dir))
	}
	if err := a.Question("Change it anyway?"); err != nil {
		return err
	}
	return l.Accept(ctx)
}

// contentOf counts what a folder holds.
func contentOf(dir string) (n int, bytes int64) {
	_ = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		if info, err := d.Info(); err == nil {
			n++
			bytes += info.Size()
		}
		return nil
	})
	return n, bytes
}
