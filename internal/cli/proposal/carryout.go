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
	"morvant/internal/lane/change"
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
	if asJSON {
		return errors.Join(a.Emit(view.ToPlanJSON(l.Game.Name, p, !dry)), unblocked(p))
	}
	if dry {
		a.Say("\nThis was a dry run; nothing was changed.")
		return nil
	}
	a.Say("%s", view.Outcome(l, p))
	return unblocked(p)
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
