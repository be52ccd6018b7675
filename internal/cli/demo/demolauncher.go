package demo

import (
	"context"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/standin"
)

func (a commands) demoLauncherCommand() *cli.Command {
	sizes := []cli.Flag{&cli.StringFlag{Name: "size", Usage: "about how large a build is: `SIZE`", Value: demoSize}}
	action := func(most int, f func(ctx context.Context, l *standin.Launcher, c *cli.Command, args []string) error) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error {
			args, err := app.Arguments(c, 1, most)
			if err != nil {
				return err
			}
			bytes, err := parseSize(c.String("size"))
			if err != nil {
				return err
			}
			l := &standin.Launcher{Quay: standin.Quay{Bytes: bytes}, State: args[0], StopAfter: c.Int("stop-after"), Pause: c.Duration("pause")}
			for _, h := range c.StringSlice("habit") {
				l.Habits = append(l.Habits, standin.Habit(h))
			}
			return f(ctx, l, c, args[1:])
		}
	}
	var habits []string
	for _, h := range standin.Habits() {
		habits = append(habits, string(h))
	}
	ways := append(sizes,
		&cli.IntFlag{Name: "stop-after", Usage: "break the update off after this many `FILES`"},
		&cli.StringSliceFlag{Name: "habit", Usage: "behave as some launchers do: " + strings.Join(habits, ", "), Validator: func(given []string) error {
			for _, h := range given {
				if err := app.OneOf(habits...)(h); err != nil {
					return err
				}
			}
			return nil
		}},
		&cli.DurationFlag{Name: "pause", Usage: "how long it takes its time over what a habit says, and stays before it ends"},
	)
	return &cli.Command{
		Name: "launcher", Usage: "play the launcher of Cinder Quay, which updates the game by itself",
		Description: "Example: morvant demo launcher install /tmp/launcher.cfg /tmp/quay 1.1.1\n         morvant demo launcher idle /tmp/launcher.cfg\n\n" +
			"STATE is its state file: lines of key and value, that a block rule can set.",
		Commands: []*cli.Command{
			{Name: "install", Usage: "install a build and begin a state file", ArgsUsage: "STATE FOLDER BUILD",
				Flags:       append(sizes, &cli.StringFlag{Name: "from", Usage: "the `FEED` that updates come from; else it has every build with itself"}),
				Description: "Example: morvant demo launcher install /tmp/launcher.cfg /tmp/quay 1.1.1 --from http://127.0.0.1:8080",
				Action: action(3, func(_ context.Context, l *standin.Launcher, c *cli.Command, args []string) error {
					if len(args) < 2 {
						return app.Usagef("STATE, FOLDER and BUILD are needed")
					}
					dir, err := filepath.Abs(args[0])
					if err != nil {
						return err
					}
					return l.Install(dir, args[1], c.String("from"))
				})},
			{Name: "offer", Usage: "tell it that there is a newer build", ArgsUsage: "STATE BUILD", Flags: sizes,
				Description: "Example: morvant demo launcher offer /tmp/launcher.cfg 1.3.0",
				Action: action(2, func(_ context.Context, l *standin.Launcher, _ *cli.Command, args []string) error {
					if len(args) < 1 {
						return app.Usagef("STATE and BUILD are needed")
					}
					return l.Offer(args[0])
				})},
			{Name: "idle", Usage: "what it does by itself: update, if it may at once", ArgsUsage: "STATE", Flags: ways,
				Description: "Example: morvant demo launcher idle /tmp/launcher.cfg --stop-after 10",
				Action:      action(1, func(ctx context.Context, l *standin.Launcher, _ *cli.Command, _ []string) error { return l.Idle(ctx) })},
			{Name: "start", Usage: "start the game, after an update if it may", ArgsUsage: "STATE", Flags: ways,
				Description: "Example: morvant demo launcher start /tmp/launcher.cfg",
				Action: action(1, func(ctx context.Context, l *standin.Launcher, _ *cli.Command, _ []string) error {
					build, err := l.Start(ctx)
					if err == nil {
						a.Say("Cinder Quay %s", build)
					}
					return err
				})},
		},
	}
}

func (a commands) demoGameCommand() *cli.Command {
	return &cli.Command{
		Name: "game", Usage: "play the game Cinder Quay itself, started without its launcher", ArgsUsage: "[FOLDER]",
		Description: "Example: morvant demo game /tmp/quay",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "size", Usage: "about how large a build is: `SIZE`", Value: demoSize}},
		Action: func(_ context.Context, c *cli.Command) error {
			args, err := app.Arguments(c, 0, 1)
			if err != nil {
				return err
			}
			bytes, err := parseSize(c.String("size"))
			if err != nil {
				return err
			}
			dir := "."
			if len(args) == 1 {
				dir = args[0]
			}
			build, err := standin.Play(standin.Quay{Bytes: bytes}, dir, false)
			if err == nil {
				a.Say("Cinder Quay %s", build)
			}
			return err
		},
	}
}
