package games

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/game"
	"morvant/internal/lane/entry"
	"morvant/internal/process"
)

func (a commands) interruptCommand() *cli.Command {
	return &cli.Command{
		Name: "interrupt", Usage: "end another Morvant that works on the game and does not go on",
		Description: "Example: morvant game interrupt -g cinder-quay\n\n" +
			"Names who holds the game, and asks. That process is ended at once, as by a power cut; what it had begun is then\n" +
			"finished or taken back, and nothing is lost. One that is only slow is better left alone: morvant status says how far it is.",
		Flags:  app.ChangeFlags(),
		Action: a.OnGameAlone(a.interrupt),
	}
}

func (a commands) interrupt(ctx context.Context, c *cli.Command, home *game.Home, name string) (err error) {
	lock, err := home.Lock(ctx, name, "morvant game interrupt", 0)
	if err == nil {
		return errors.Join(lock.Unlock(), a.Done(c, "No other Morvant is working on "+name+"."))
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
	return errors.Join(l.Close(), a.Done(c, fmt.Sprintf("Process %d is ended; nothing holds %s any more.", pid, name)))
}
