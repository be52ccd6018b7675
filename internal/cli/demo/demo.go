package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/standin"
)

// demoSize is how large a build of the demo is unless told otherwise, in bytes.
const demoSize = "24MB"

func (a commands) demoCommand() *cli.Command {
	sizeFlag := &cli.StringFlag{Name: "size", Usage: "about how large a build is: `SIZE`", Value: demoSize}
	return &cli.Command{
		Name: "demo", Usage: "the whole story on made-up data, in a scratch folder", Category: app.GroupHelp,
		Description: "Example: morvant demo --dir ~/quay\n\n" +
			"Plays with Cinder Quay, a game that does not exist. Every command line is shown with its true output.\n" +
			"The folder stays, to try more.",
		Flags: []cli.Flag{&cli.StringFlag{Name: "dir", Usage: "the `FOLDER` to use; it must be empty or not there yet"}, sizeFlag},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := app.Arguments(c, 0, 0); err != nil {
				return err
			}
			bytes, err := parseSize(c.String("size"))
			if err != nil {
				return err
			}
			return a.demo(ctx, c.String("dir"), bytes)
		},
		Commands: []*cli.Command{a.demoFeedCommand(), a.demoOfficeCommand(), a.demoCodeCommand(), a.demoLauncherCommand(), a.demoGameCommand(), {
			Name: "write", Usage: "write one build of Cinder Quay into a folder, as an update would", ArgsUsage: "FOLDER BUILD",
			Description: "Example: morvant demo write /tmp/quay 1.2.0 --size 1GB --player",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "size", Usage: "about how large a build is: `SIZE`", Value: demoSize},
				&cli.BoolFlag{Name: "player", Usage: "add mods, maps and settings of a player"},
			},
			Action: func(ctx context.Context, c *cli.Command) error {
				args, err := app.Arguments(c, 2, 2)
				if err != nil {
					return err
				}
				bytes, err := parseSize(c.String("size"))
				if err != nil {
					return err
				}
				q := standin.Quay{Bytes: bytes}
				if err := q.Write(args[0], args[1]); err != nil {
					return err
				}
				if c.Bool("player") {
					return q.AddPlayerFiles(args[0])
				}
				return nil
			},
		}},
	}
}

// smallest is the smallest build that still has something in every file.
const smallest = 1_000_000

func parseSize(s string) (int64, error) {
	n, err := humanize.ParseBytes(s)
	if err != nil || n < smallest || n > 1<<40 {
		return 0, app.Usagef("\"%s\" is not a size between 1MB and 1TB; write it like 24MB", s)
	}
	return int64(n), nil
}

// story is a run of the demo.
type story struct {
	app    *app.App
	ctx    context.Context
	self   string // this program
	dir    string
	live   string
	quay   standin.Quay
	failed error
}

func (a commands) demo(ctx context.Context, dir string, bytes int64) error {
	dir, err := demoDir(dir)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	s := &story{app: a.App, ctx: ctx, self: self, dir: dir, live: filepath.Join(dir, "Cinder Quay"), quay: standin.Quay{Bytes: bytes}}
	// An earlier demo in this folder has been removed, as it said.
	for _, home := range []string{s.home(), filepath.Join(s.friend(), "home")} {
		game.ForgetHome(app.HomesFile(), home)
	}
	s.play()
	if s.failed != nil {
		return fmt.Errorf("the demo in %s: %w", dir, s.failed)
	}
	return nil
}

func demoDir(dir string) (string, error) {
	if dir == "" {
		return os.MkdirTemp("", "morvant-demo-")
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	list, err := os.ReadDir(dir)
	if err == nil && len(list) > 0 {
		return "", app.Usagef("%s is not empty; choose another folder for the demo", dir)
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	return dir, os.MkdirAll(dir, 0o755)
}

func (s *story) play() {
	s.tell("Cinder Quay 1.1.1 is installed, with two mods, two maps and settings of your own.")
	s.world("1.1.1")
	s.do(s.quay.AddPlayerFiles(s.live))
	s.run(0, "add", "cinder-quay", s.live, "--title", "Cinder Quay", "--program", "bin/quay.exe",
		"--keep", "Mods/**", "--keep", "Harbours/**", "--keep", "settings.ini", "--scratch", "logs/**")
	s.run(0, "snapshot", "1.1.1", "--note", "mods load, everything works")
	s.run(0, "pin", "1.1.1", "--yes")

	s.tell("Overnight the game updates itself to 1.3.0. The mods do not load any more.")
	s.world("1.3.0")
	s.run(app.ExitDifferent, "status")
	s.run(0, "diff", "1.1.1")
	s.run(0, "diff", "1.1.1", "--text", "readme.txt")

	s.tell("Keep the new build for later, then go back. The plan comes first.")
	s.run(0, "snapshot", "1.3.0", "--note", "new cargo system; mods do not load")
	s.run(0, "pin", "1.1.1", "--clean", "--yes")
	s.run(0, "verify")
	s.run(0, "status")

	s.tell("Was that right? Take it back, and change your mind again.")
	s.run(0, "undo", "--yes")
	s.run(app.ExitDifferent, "status")
	s.run(0, "undo", "3", "--yes")
	s.run(0, "history")

	s.tell("Two whole builds, and how little room they take.")
	s.run(0, "builds")
	s.run(0, "store", "show")
	s.fromAFeed()
	if s.failed == nil {
		s.app.Say("\n%s", view.Strong("Now you. The folder stays as it is:"))
		enter, set, then, remove := "cd %s", "export MORVANT_HOME="+view.Quoted(s.home()), ";", "rm -r %s"
		if runtime.GOOS == "windows" {
			enter, set, then, remove = "cd /d %s", `set "MORVANT_HOME=`+s.home()+`"`, " &", "rmdir /s %s"
		}
		s.app.Say("  "+enter, view.Quoted(s.live))
		s.app.Say("  %s", set)
		for _, try := range [][2]string{
			{"morvant status", "how it stands"},
			{"morvant diff snapshot/1.1.1 snapshot/1.3.0 --all", "every file that the update touched"},
			{"echo broken > " + filepath.FromSlash("data/harbour.pak") + then + " morvant verify --repair", "break something, and mend it"},
			{"morvant unpin", "go back to how it was before the first pin"},
			{"morvant lane switch current", "play the current build; lane switch main comes back"},
			{"morvant demo feed " + view.Quoted(filepath.Join(s.dir, "distributor")), "start the distributor again, to fetch more"},
		} {
			s.app.Say("  %-60s  %s", try[0], view.Faint(try[1]))
		}
		s.app.Say("morvant is this program; go build, in its source folder, makes it.")
		s.app.Say("Remove it all: "+remove, view.Quoted(s.dir))
	}
}

// fromAFeed is the part of the story in which a build comes from a distributor, a
// stand-in that runs within this program.
func (s *story) fromAFeed() {
	if s.failed != nil {
		return
	}
	s.tell("Your friends race on 1.1.0, which you never had. A distributor has all builds (a stand-in, on this computer).")
	dir := filepath.Join(s.dir, "distributor")
	service := harbourService(filepath.Join(dir, "feed"), "", s.app.Now)
	address, err := service.Start()
	if s.do(err); err != nil {
		return
	}
	defer service.Close()
	s.do(publishHarbour(s.ctx, dir, address+"/token", s.quay, s.app.Now))
	s.run(0, "feed", "add", address)

	s.tell("Which was it? The hotfix came out on the same day.")
	s.run(0, "builds", "--on", "2031-08-05")
	s.run(0, "identify")

	s.tell("The distributor wants to know who you are, with a one-time code. Both come from stdin here, and are never shown.")
	account := standin.HarbourAccount()
	code, err := account.Code(s.app.Now())
	s.do(err)
	s.runWith(account.Password+"\n"+code+"\n", 0, "feed", "sign-in", "--user", standin.Harbour, "--password-stdin")

	s.tell("Now the line is bad: it is cut half-way, and then the server is busy. Only what differs is fetched, and nothing twice.")
	service.Misbehave(standin.Faults{Cut: s.quay.Bytes / 150, Cuts: 2, Down: 3})
	s.run(0, "pin", "1.1.0", "--yes")
	s.run(0, "status")
	if s.failed == nil {
		s.app.Say("\nThe distributor sent %s in %s.", view.Size(service.Stats().Bytes), view.Count(service.Stats().Packs, "request"))
	}
	service.Accounts = nil // the launcher's own way in
	s.keepUpdatesAway(address)
}

// keepUpdatesAway is the part of the story in which a launcher tries to update the
// game behind the player's back.
func (s *story) keepUpdatesAway(address string) {
	s.tell("Cinder Quay has a launcher (a stand-in too). Left alone, it updates the game by itself.")
	state := filepath.Join(s.dir, "launcher.cfg")
	launcher := &standin.Launcher{Quay: s.quay, State: state}
	s.do(launcher.Adopt(s.live, "1.1.0", address))
	s.do(launcher.Offer("1.3.0"))
	s.run(0, "block", "add", "key-value-setting", "file="+state, "key=updates", "value=by-hand")
	s.run(0, "block", "add", "staging-folder", "path="+state+".staging")
	s.run(0, "game", "set", "--version-rule", `logs/last.txt=^Cinder Quay (\S+) started`)

	s.tell("A pin sets the block as well. This build also wants a small file beside it, to start without its launcher.")
	s.run(0, "pin", "public/1.1.0", "--companion", `bin/standalone.txt=240117\n`, "--yes")
	s.run(0, "demo", "launcher", "idle", state)
	s.run(0, "status")
	s.run(0, "launch", "--through", morvant, "--", "demo", "game", ".", "--size", fmt.Sprint(s.quay.Bytes))

	s.tell("An update got through all the same, and broke off half-way. It is noticed, and undone.")
	s.run(0, "unblock")
	s.run(app.ExitFailed, "demo", "launcher", "idle", state, "--stop-after", "12")
	s.run(app.ExitDifferent, "watch", "--once")
	s.run(0, "watch", "--once", "--repair")
	s.run(0, "block")

	s.tell("And when you do want the update: let it in, record it, and go back for today's race.")
	s.run(0, "let-update", "--after", view.Quoted(s.self)+" demo launcher idle "+view.Quoted(state), "--calm", "1s", "--then", "back")
	s.run(0, "block", "--show")
	s.sideBySide()
	s.withAFriend()
	s.fromADistributor()
}

// sideBySide is the part of the story about lanes and saves.
func (s *story) sideBySide() {
	s.tell("You want the current build as well, beside the one for races. Saves are backed up before anything is changed.")
	saves := filepath.Join(s.dir, "Saved Games", "Cinder Quay")
	s.do(s.quay.AddSaves(saves, 1))
	s.run(0, "game", "set", "--saves", filepath.Join(saves, "*"))
	s.run(0, "lane", "new", "current", "--from", "snapshot/1.3.0", "--like", "main", "--yes")
	s.run(0, "lane", "list")
	s.run(0, "lane", "switch", "current")
	s.do(s.quay.AddSaves(saves, 2))
	s.run(0, "-g", "cinder-quay", "lane", "switch", "main")
	s.run(0, "saves", "list")
	s.run(0, "saves", "restore", "1", "--yes")
}

// withAFriend is the part of the story about sharing a pin.
func (s *story) withAFriend() {
	s.tell("A pin of your own: the race build with the new readme. A friend gets it as a file, and reaches the same, byte for byte.")
	file, theirs := filepath.Join(s.dir, "race-night.pin.toml"), s.friend()
	s.run(0, "pin", "public/1.1.0", "--overlay", "public/1.3.0:readme.txt", "--companion", `bin/standalone.txt=240117\n`, "--yes")
	s.run(0, "pinfile", "write", file)
	live := filepath.Join(theirs, "Cinder Quay")
	if s.failed == nil {
		s.do(s.quay.Write(live, "1.3.0"))
	}
	home := filepath.Join(theirs, "home")
	s.run(0, "--home", home, "add", "quay", live)
	s.run(0, "--home", home, "feed", "add", filepath.Join(s.dir, "distributor", "feed"))
	s.run(0, "--home", home, "pinfile", "apply", file, "--yes")
	s.run(0, "--home", home, "compare-with", file)

	s.tell("What did the big update change? A page to read and to pass on.")
	s.run(0, "diff", "snapshot/1.1.1", "snapshot/1.3.0", "--report", filepath.Join(s.dir, "update.html"))
	s.run(0, "builds", "--channel", "public", "--plot", filepath.Join(s.dir, "history.png"))
}

// morvant stands for this program in a command line that is shown.
const morvant = "morvant"

func (s *story) home() string { return filepath.Join(s.dir, "home") }

func (s *story) friend() string { return filepath.Join(s.dir, "friend") }

func (s *story) do(err error) {
	if s.failed == nil {
		s.failed = err
	}
}

func (s *story) tell(text string) {
	if s.failed == nil {
		s.app.Say("\n%s", view.Strong(text))
	}
}

// world makes the live folder hold a build, as the game's own updater would.
func (s *story) world(label string) {
	if s.failed == nil {
		s.do(s.quay.Write(s.live, label))
	}
}

// run shows a command line, runs it in the live folder and passes its output on.
func (s *story) run(wantCode int, args ...string) { s.runWith("", wantCode, args...) }

// runWith is run with lines on stdin.
func (s *story) runWith(lines string, wantCode int, args ...string) {
	if s.failed != nil {
		return
	}
	shown := make([]string, len(args))
	for i, arg := range args {
		shown[i] = view.Quoted(arg)
		if name := strings.TrimLeft(arg, "-"); name != arg && view.Quoted(name) == name {
			shown[i] = arg // an option
		}
	}
	s.app.Say("\n%s", view.Paint(view.Fresh, "$ "+strings.ReplaceAll("morvant "+strings.Join(shown, " "), s.self, morvant)))
	for i := range args {
		if args[i] == morvant {
			args[i] = s.self
		}
	}
	cmd := exec.CommandContext(s.ctx, s.self, args...)
	cmd.Dir = s.live
	cmd.Env = append(os.Environ(), "MORVANT_HOME="+s.home(), "MORVANT_GAME=", "MORVANT_KEYRING=file")
	cmd.Stdout, cmd.Stderr = s.app.Stdout, s.app.Stderr
	if lines != "" {
		cmd.Stdin = strings.NewReader(lines)
	}
	err := cmd.Run()
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit) && exit.ExitCode() == wantCode:
	case err != nil:
		s.do(fmt.Errorf("morvant %s: %w", args[0], err))
	case wantCode != 0:
		s.do(fmt.Errorf("morvant %s ended with 0 where %d was due", args[0], wantCode))
	}
}
