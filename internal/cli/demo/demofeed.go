package demo

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/publish"
	"morvant/internal/standin"
)

func (a commands) demoFeedCommand() *cli.Command {
	return &cli.Command{
		Name: "feed", Usage: "publish the builds of Cinder Quay and serve them on this computer, until Ctrl-C", ArgsUsage: "FOLDER",
		Description: "Example: morvant demo feed /tmp/quay-feed\n         morvant demo feed /tmp/quay-feed --fault slow=500000 --fault flip=3\n\n" +
			"A stand-in for a distributor: it wants an account, a password and a one-time code, does not hand out what the\n" +
			"account does not own, and has a locked channel. It misbehaves as --fault says: slow=BYTES_PER_SECOND, cut=BYTES,\n" +
			"resets=N, busy=N, down=N, flip=N, wrong-length, no-ranges, unsigned, catalogue=FOLDER.",
		Flags: serviceFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := app.Arguments(c, 1, 1)
			if err != nil {
				return err
			}
			return a.demoFeed(ctx, c, args[0])
		},
	}
}

func (a commands) demoFeed(ctx context.Context, c *cli.Command, dir string) error {
	bytes, faults, err := sizeAndFaults(c)
	if err != nil {
		return err
	}
	address := net.JoinHostPort("127.0.0.1", fmt.Sprint(c.Int("port")))
	s := harbourService(filepath.Join(dir, "feed"), address, a.Now)
	if c.Bool("open") {
		s.Accounts = nil
	}
	where, err := s.Start()
	if err != nil {
		return err
	}
	defer s.Close()
	if err := publishHarbour(ctx, dir, where+"/token", standin.Quay{Bytes: bytes}, a.Now); err != nil {
		return err
	}
	s.Misbehave(faults)
	a.Say("The stand-in feed of Cinder Quay is at %s", view.Strong(where))
	a.Say("  morvant feed add %s", view.Quoted(where))
	if s.Accounts != nil {
		a.Say("  account %s, password %s; its one-time code now: morvant demo code", standin.Harbour, view.Quoted(standin.HarbourAccount().Password))
	}
	a.Say("  the key of the channel preview: %s", standin.PreviewKey)
	a.Say("Ctrl-C ends it.")
	<-ctx.Done()
	return nil
}

// serviceFlags are those of both stand-in distributors.
func serviceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "size", Usage: "about how large a build is: `SIZE`", Value: demoSize},
		&cli.IntFlag{Name: "port", Usage: "the `PORT` to listen on; 0: any that is free"},
		&cli.BoolFlag{Name: "open", Usage: "ask nobody who they are"},
		&cli.StringSliceFlag{Name: "fault", Usage: "what goes wrong, as `NAME=VALUE`"},
	}
}

// sizeAndFaults reads --size and --fault.
func sizeAndFaults(c *cli.Command) (bytes int64, faults standin.Faults, err error) {
	if bytes, err = parseSize(c.String("size")); err != nil {
		return 0, faults, err
	}
	for _, text := range c.StringSlice("fault") {
		if err := faults.ParseFault(text); err != nil {
			return 0, faults, app.AsUsage(err)
		}
	}
	return bytes, faults, nil
}

// harbourService is the stand-in feed service with its one account.
func harbourService(dir, address string, now func() time.Time) *standin.Service {
	return &standin.Service{
		Dir: dir, Address: address, Now: now,
		Accounts: map[string]standin.Account{standin.Harbour: standin.HarbourAccount()},
		Keys:     map[string]string{"preview": standin.PreviewKey},
	}
}

// publishHarbour publishes all builds of Cinder Quay in the folder feed of dir.
func publishHarbour(ctx context.Context, dir, signIn string, q standin.Quay, now func() time.Time) error {
	file := filepath.Join(dir, "publish.key")
	key, err := publish.LoadKey(file, func() (string, error) { return "", publish.ErrKeyFile })
	if errors.Is(err, os.ErrNotExist) {
		key, err = publish.NewKey(file)
	}
	if err != nil {
		return err
	}
	work, err := os.MkdirTemp("", "morvant-publish-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	f := standin.Feed{Quay: q, Key: key, SignIn: signIn, Locked: true, Valid: 365 * 24 * time.Hour, Now: now}
	_, err = f.Publish(ctx, filepath.Join(dir, "feed"), work)
	return err
}

func (a commands) demoCodeCommand() *cli.Command {
	return &cli.Command{
		Name: "code", Usage: "show the one-time code that the stand-in feed wants now",
		Description: "Example: morvant demo code",
		Action: func(_ context.Context, c *cli.Command) error {
			if _, err := app.Arguments(c, 0, 0); err != nil {
				return err
			}
			code, err := standin.HarbourAccount().Code(a.Now())
			if err != nil {
				return err
			}
			a.Say("%s", code)
			return nil
		},
	}
}
