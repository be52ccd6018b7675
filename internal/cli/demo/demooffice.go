package demo

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/standin"
	"morvant/internal/standin/clerk"
)

func (a commands) demoOfficeCommand() *cli.Command {
	return &cli.Command{
		Name: "office", Usage: "serve the builds of Cinder Quay as a distributor that knows nothing of Morvant, until Ctrl-C", ArgsUsage: "FOLDER",
		Description: "Example: morvant demo office /tmp/quay-office\n         morvant demo office /tmp/quay-office --listed 2 --fault cut=300000\n\n" +
			"Builds have numbers and dates there, and no names; pieces have SHA-1 digests; it wants an account, a password\n" +
			"and a one-time code. An adapter speaks for it; its program is put into FOLDER. Faults are\n" +
			"those of morvant demo feed.",
		Flags: append(serviceFlags(),
			&cli.IntFlag{Name: "listed", Usage: "list only the newest `N` builds of a line"},
			&cli.StringFlag{Name: "upto", Usage: "the last `BUILD` that is out"},
			&cli.StringSliceFlag{Name: "build", Usage: "serve this `FOLDER` as a build in the place of Cinder Quay's (repeat it, the oldest first)"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := app.Arguments(c, 1, 1)
			if err != nil {
				return err
			}
			return a.demoOffice(ctx, c, args[0])
		},
	}
}

func (a commands) demoOffice(ctx context.Context, c *cli.Command, dir string) error {
	bytes, faults, err := sizeAndFaults(c)
	if err != nil {
		return err
	}
	program, err := clerk.Put(dir)
	if err != nil {
		return err
	}
	o := a.office(bytes, c.Bool("open"))
	o.Listed, o.Upto, o.Address = c.Int("listed"), c.String("upto"), net.JoinHostPort("127.0.0.1", fmt.Sprint(c.Int("port")))
	o.Folders = c.StringSlice("build")
	where, err := o.Start()
	if err != nil {
		return err
	}
	defer o.Close()
	o.Misbehave(faults)
	a.Say("The stand-in office of Cinder Quay is at %s", view.Strong(where))
	a.Say("  morvant feed add --adapter %s %s", view.Quoted(program), view.Quoted(where))
	if o.Accounts != nil {
		a.Say("  account %s, password %s; its one-time code now: morvant demo code", standin.Harbour, view.Quoted(standin.HarbourAccount().Password))
	}
	a.Say("  the key of the line preview: %s", standin.PreviewKey)
	a.Say("Ctrl-C ends it.")
	<-ctx.Done()
	return nil
}

// office is the stand-in distributor with its one account.
func (a commands) office(bytes int64, open bool) *standin.Office {
	o := &standin.Office{Quay: standin.Quay{Bytes: bytes}, Key: standin.PreviewKey, Now: a.Now, Accounts: map[string]standin.Account{standin.Harbour: standin.HarbourAccount()}}
	if open {
		o.Accounts = nil
	}
	return o
}

// table is a community's list of names for the builds of the office.
const table = `format = "morvant-names/1"

[[build]]
label = "1.1.0"
id = "8803959"
note = "tides and fog"

[[build]]
label = "1.1.1"
id = "8805330"
note = "hotfix, two hours before the race"
`

// fromADistributor is the part of the story in which the game comes from a distributor that knows nothing of Morvant.
func (s *story) fromADistributor() {
	s.tell("Another player's game is from a distributor that knows nothing of Morvant. An adapter speaks for it; builds have numbers and dates there, and no names.")
	if s.failed != nil {
		return
	}
	theirs := filepath.Join(s.dir, "another player")
	live, home, list := filepath.Join(theirs, "Cinder Quay"), filepath.Join(theirs, "home"), filepath.Join(theirs, "quay-builds.toml")
	o := commands{s.app}.office(s.quay.Bytes, false)
	o.Now = s.app.Now
	where, err := o.Start()
	if err != nil {
		s.do(err)
		return
	}
	defer o.Close()
	s.do(s.quay.Write(live, "1.3.0"))
	program, err := clerk.Put(theirs)
	s.do(err)
	s.do(os.WriteFile(list, []byte(table), 0o644))
	code, err := standin.HarbourAccount().Code(s.app.Now())
	s.do(err)
	s.run(0, "--home", home, "add", "quay", live)
	s.run(0, "--home", home, "feed", "add", "--adapter", program, where)
	s.runWith(standin.HarbourAccount().Password+"\n"+code+"\n", 0, "--home", home, "feed", "sign-in", "--user", standin.Harbour, "--answers-stdin")
	s.run(0, "--home", home, "builds")

	s.tell("A community's list gives them names; the hotfix of 5 August is told from the release of that morning. The connection drops on the way, and what has arrived counts.")
	s.run(0, "--home", home, "builds", "names", "add", list)
	s.run(0, "--home", home, "builds", "--on", "2031-08-05")
	o.Misbehave(standin.Faults{Cut: s.quay.Bytes / 10, Cuts: 2})
	s.run(0, "--home", home, "pin", "1.1.1", "--yes")
	s.run(0, "--home", home, "verify")
}
