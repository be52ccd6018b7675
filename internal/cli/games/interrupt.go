package games

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/game"
	"morvant/internal/lane/entry"
	"morvant/internal/process"
	"morvant/internal/state"
)

func (a commands) interruptCommand() *cli.Command {
	return &cli.Command{
		Name: "interrupt", Usage: "end another Morvant that works on the game and does not go on",
		Description: "Example: morvant game interrupt -g cinder-quay\n\n" +
			"Names who holds the game, and asks. That process is ended at once, as by a power cut; what it had begun is then\n" +
			"finished or taken back, and nothing is lost. One that is only slow is better left alone: morvant status says how far it is.\n\n" +
			"What another computer has begun, of a home on a stick or a share, is taken over.",
		Flags:  app.ChangeFlags(),
		Action: a.OnGameAlone(a.interrupt),
	}
}

func (a commands) interrupt(ctx context.Context, c *cli.Command, home *game.Home, name string) (err error) {
	lock, err := home.Lock(ctx, name, "morvant game interrupt", 0)
	if err == nil {
		return errors.Join(lock.Unlock(), a.takeOver(ctx, c, home, name))
	}
	if !errors.Is(err, game.ErrBusy) {
		return err
	}
	who, pid := game.HolderOf(home, name)
	if pid == 0 {
		return err
	}
	a.Note("%s holds %s. It is ended at once, as by a power cut; what it has begun is then finished or taken back.", who, name)
	if err := a.Ask(c, "End it?"); err != nil {
		return err
	}
	if err := process.EndOther(pid); err != nil {
		return err
	}
	return a.endWhatHasBegun(ctx, c, home, name, fmt.Sprintf("Process %d is ended; nothing holds %s any more.", pid, name))
}

// takeOver lets what has begun on another computer go on here.
func (a commands) takeOver(ctx context.Context, c *cli.Command, home *game.Home, name string) error {
	list, err := home.Begun(ctx, name)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(b state.Begun) bool { return b.Elsewhere(home.State) })
	if i < 0 {
		return a.Done(c, "No other Morvant is working on "+name+".")
	}
	a.Note("Something that changes %s has begun on the computer %s and is not over. It is ended best there: here its folders and saves may be others. If that computer will not come back, it can be finished or taken back here.", name, list[i].Computer)
	if err := a.Ask(c, "Take it over?"); err != nil {
		return err
	}
	if err := home.TakeOver(ctx, name); err != nil {
		return err
	}
	return a.endWhatHasBegun(ctx, c, home, name, "What has begun with "+name+" goes on here.")
}

// endWhatHasBegun opens a game as each command does, which ends what is unfinished.
func (a commands) endWhatHasBegun(ctx context.Context, c *cli.Command, home *game.Home, name, done string) error {
	l, err := entry.Open(ctx, home, name, a.LaneOptions(c))
	if err != nil {
		return err
	}
	for _, text := range l.Recovered {
		a.Note("%s", text)
	}
	if l.Unfinished != nil {
		a.Note("Note: %v.", l.Unfinished)
	}
	return errors.Join(l.Close(), a.Done(c, done))
}
