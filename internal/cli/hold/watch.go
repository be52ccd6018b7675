package hold

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/watch"
)

func (a commands) watchCommand() *cli.Command {
	return &cli.Command{
		Name: "watch", Usage: "keep watching, and tell when something touches the held game", Category: app.GroupPin,
		Description: "Example: morvant watch --repair\n         morvant watch --once --quiet; echo $?\n\n" +
			"Waits until the folder has been quiet for a moment, then tells in one line what has changed. Ctrl-C ends it. --install\n" +
			"prints how to run it in the background (a systemd user unit, a Windows task); it installs nothing.",
		Flags: append(app.FetchFlags(),
			&cli.BoolFlag{Name: "repair", Usage: "restore the held build, and set the block again"},
			&cli.BoolFlag{Name: "once", Usage: "look once and end, with exit code 3 if something differs: for schedulers"},
			&cli.StringFlag{Name: "notice", Usage: "a `COMMAND` that shows a message, given as its last argument"},
			&cli.DurationFlag{Name: "calm", Usage: "how long the folder must be quiet before Morvant looks: `TIME`", Value: 2 * time.Second},
			&cli.DurationFlag{Name: "every", Usage: "look at least this often: `TIME`", Value: 5 * time.Minute},
			&cli.BoolFlag{Name: "install", Usage: "print how to run it in the background"},
		),
		Action: a.OnHome(func(ctx context.Context, c *cli.Command, home *game.Home) error {
			names, err := watchedGames(ctx, a.App, c, home)
			if err != nil {
				return err
			}
			if c.Bool("install") {
				return a.showInstall(c, home, names[0])
			}
			return a.watch(ctx, c, home, names)
		}),
	}
}

// watchedGames lists the games to watch: the one that is meant, or all where none is.
func watchedGames(ctx context.Context, a *app.App, c *cli.Command, home *game.Home) ([]string, error) {
	name, err := a.ChooseGame(ctx, home, c)
	var which *app.WhichGame
	if errors.As(err, &which) && !c.Bool("install") {
		return which.Names, nil
	}
	return []string{name}, err
}

// watcher is one run of the watch command.
type watcher struct {
	app     *app.App
	c       *cli.Command
	differs bool // at the last look
}

func (a commands) watch(ctx context.Context, c *cli.Command, home *game.Home, names []string) error {
	if !c.Bool("once") && !c.Bool("json") {
		a.Note("Watching %s; Ctrl-C ends it.", strings.Join(names, ", "))
	}
	var turn sync.Mutex
	differs := false
	g, ctx := errgroup.WithContext(ctx)
	for _, name := range names {
		w := &watcher{app: a.App, c: c}
		watch := &watch.Watch{
			Quiet: c.Duration("calm"), Every: c.Duration("every"), Once: c.Bool("once"), Repair: c.Bool("repair"), See: w.see, Turn: &turn,
			Limit: func(problem string) { a.Note("Note: %s", problem) },
			Kept:  func(what string) { a.Note("%s: %s.", name, what) },
		}
		o := a.LaneOptions(c)
		o.Remake = func(gone *lane.GoneError) error {
			if gone.Empty && c.Bool("repair") {
				return nil
			}
			return gone // a folder that is not there is waited for
		}
		g.Go(func() error {
			err := watch.Run(ctx, home, name, o)
			turn.Lock()
			defer turn.Unlock()
			differs = differs || w.differs
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if c.Bool("once") && differs {
		return app.ErrDifferent
	}
	return nil
}

// see tells of one event.
func (w *watcher) see(ctx context.Context, l *lane.Lane, e watch.Event) error {
	s, m := e.Status, e.Mending
	message, trouble := view.DescribeEvent(s), s.Trouble()
	for _, line := range view.FollowedLines(l, e.Followed) {
		w.app.Note("%s", line)
	}
	w.differs = (trouble || !s.Sure()) && (m == nil || !m.Done || len(m.Left) > 0 || m.LeftBlock)
	if e.Before == nil && !w.differs && m == nil && !w.c.Bool("json") {
		w.app.Note("%s", message)
		return nil
	}
	message += view.DescribeMending(s, m, w.c.Bool("once"))
	if command := w.c.String("notice"); command != "" && trouble {
		words := strings.Fields(command)
		if err := exec.CommandContext(ctx, words[0], append(words[1:], message)...).Run(); err != nil {
			w.app.Note("Note: %s: %v", words[0], err)
		}
	}
	if !w.c.Bool("json") {
		w.app.Say("%s  %s", e.Time.Local().Format("15:04:05"), message)
		return nil
	}
	return json.NewEncoder(w.app.Stdout).Encode(view.ToEventJSON(e, message))
}

// showInstall prints what a system needs to run the watch by itself.
func (a commands) showInstall(c *cli.Command, home *game.Home, name string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	var lines []string
	say := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	done := func() error { return a.Done(c, strings.Join(lines, "\n")) }
	args := fmt.Sprintf("--home %q -g %s watch --repair", home.Dir(), name)
	if runtime.GOOS == "windows" {
		say("In a command prompt, as yourself:")
		say(`  schtasks /Create /TN "Morvant %s" /SC ONLOGON /TR "\"%s\" %s"`, name, self, strings.ReplaceAll(args, `"`, `\"`))
		say("Take it away again:")
		say(`  schtasks /Delete /TN "Morvant %s"`, name)
		return done()
	}
	unit := "morvant-" + name + ".service"
	say("Put this into ~/.config/systemd/user/%s:", unit)
	say("\n[Unit]\nDescription=Keeps %s on its build\n\n[Service]\nExecStart=%q %s\nRestart=on-failure\n\n[Install]\nWantedBy=default.target\n", name, filepath.ToSlash(self), args)
	say("Then: systemctl --user enable --now %s", unit)
	say("Take it away again: systemctl --user disable --now %s", unit)
	return done()
}
