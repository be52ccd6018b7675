package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"morvant/internal/catalogue"
	"morvant/internal/feed"
	"morvant/internal/game"
)

// lineFlags are those of every command that may use a line.
func lineFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "limit", Usage: "fetch no faster than this `SPEED` (5MB/s)", Validator: func(s string) error { _, err := parseSpeed(s); return err }},
		&cli.DurationFlag{Name: "timeout", Usage: "give up on a server that has been silent for this long", Value: 30 * time.Second},
	}
}

// parseSpeed reads "5MB/s"; an empty text means no limit.
func parseSpeed(s string) (int64, error) {
	if s == "" {
		return 0, nil
	}
	n, err := humanize.ParseBytes(strings.TrimSuffix(s, "/s"))
	if err != nil || n < 1000 || n > 1<<40 {
		return 0, fmt.Errorf("%q is not a speed; write it like 5MB/s", s)
	}
	return int64(n), nil
}

func (a *app) feedOptions(c *cli.Command) feed.Options {
	limit, _ := parseSpeed(c.String("limit")) // checked when the flag was read
	return feed.Options{Limit: limit, Silence: c.Duration("timeout"), Meter: a.meter, Now: a.now}
}

func (a *app) feedCommand() *cli.Command {
	return &cli.Command{
		Name: "feed", Usage: "where builds come from", Category: groupFeeds,
		Description: "Example: morvant feed add https://feeds.example/cinder-quay",
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add a feed: a web address or a folder", ArgsUsage: "ADDRESS [MIRROR...]",
				Description: "Example: morvant feed add https://feeds.example/cinder-quay --key RWQ...\n\n" +
					"Shows the key that signs the feed and keeps it: from then on nothing signed by another key is taken.\n" +
					"Further addresses are mirrors, asked when the first fails.",
				Flags: append(lineFlags(),
					&cli.StringFlag{Name: "name", Usage: "what to call it here; else as it calls itself"},
					&cli.StringFlag{Name: "key", Usage: "take it only if signed by this `KEY`"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := arguments(c, 1, 16)
					if err != nil {
						return err
					}
					return a.withGame(ctx, c, func(home *game.Home, name string) error { return a.feedAdd(ctx, c, home, name, args) })
				},
			},
			{
				Name: "list", Usage: "list the feeds of a game", Description: "Example: morvant feed list",
				Action: a.onGame(func(_ context.Context, c *cli.Command, home *game.Home, name string) error {
					return a.feedList(c, home, name)
				}),
			},
			{
				Name: "refresh", Usage: "ask the feeds what is new", ArgsUsage: "[FEED]", Flags: lineFlags(),
				Description: "Example: morvant feed refresh",
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := arguments(c, 0, 1)
					if err != nil {
						return err
					}
					return a.withGame(ctx, c, func(home *game.Home, name string) error { return a.feedRefresh(ctx, c, home, name, args) })
				},
			},
			{
				Name: "remove", Usage: "forget a feed; what was fetched from it stays", ArgsUsage: "FEED",
				Description: "Example: morvant feed remove quay-archive",
				Action: a.onFeed(1, func(_ context.Context, c *cli.Command, f *feed.Feed) error {
					if err := a.ask(c, "Forget the feed "+f.Name+"?"); err != nil {
						return err
					}
					if err := f.Remove(); err != nil {
						return err
					}
					return a.done(c, "The feed "+f.Name+" is forgotten.")
				}),
			},
			{
				Name: "sign-in", Usage: "tell a feed who you are", ArgsUsage: "[FEED]",
				Description: "Example: morvant feed sign-in --user ada\n\n" +
					"The password, and a one-time code if the service wants one, are asked for without showing them. For scripts\n" +
					"they are read from stdin (first line, second line) or from variables that you name.",
				Flags: append(lineFlags(),
					&cli.StringFlag{Name: "user", Usage: "the account's `NAME`"},
					&cli.BoolFlag{Name: "password-stdin", Usage: "read password and code from stdin, a line each"},
					&cli.StringFlag{Name: "password-env", Usage: "the `VARIABLE` that holds the password"},
					&cli.StringFlag{Name: "code-env", Usage: "the `VARIABLE` that holds the one-time code"}),
				Action: a.onFeed(0, a.signIn),
			},
			{
				Name: "sign-out", Usage: "forget who you are, and what was unlocked", ArgsUsage: "[FEED]",
				Description: "Example: morvant feed sign-out",
				Action: a.onFeed(0, func(_ context.Context, c *cli.Command, f *feed.Feed) error {
					if err := f.SignOut(); err != nil {
						return err
					}
					return a.done(c, "Signed out of "+f.Name+".")
				}),
			},
			{
				Name: "unlock", Usage: "give the key of a locked channel", ArgsUsage: "CHANNEL",
				Description: "Example: morvant feed unlock preview",
				Flags: append(lineFlags(),
					&cli.StringFlag{Name: "feed", Usage: "the `FEED` whose channel it is"},
					&cli.BoolFlag{Name: "key-stdin", Usage: "read the key from stdin"},
					&cli.StringFlag{Name: "key-env", Usage: "the `VARIABLE` that holds the key"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := arguments(c, 1, 1)
					if err != nil {
						return err
					}
					return a.withGame(ctx, c, func(home *game.Home, name string) error { return a.unlock(ctx, c, home, name, args[0]) })
				},
			},
		},
	}
}

// onFeed runs f on the feed that the only argument names; least is how many must
// be given.
func (a *app) onFeed(least int, f func(context.Context, *cli.Command, *feed.Feed) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := arguments(c, least, 1)
		if err != nil {
			return err
		}
		return a.withGame(ctx, c, func(home *game.Home, name string) error {
			one, err := feed.Find(home.FeedsDir(name), strings.Join(args, ""))
			if err != nil {
				return err
			}
			return f(ctx, c, one)
		})
	}
}

// done says that something small is done.
func (a *app) done(c *cli.Command, text string) error {
	if c.Bool("json") {
		return a.emit(struct {
			Schema string `json:"schema"`
			Done   string `json:"done"`
		}{"morvant-done/1", text})
	}
	a.say("%s", text)
	return nil
}

func (a *app) feedAdd(ctx context.Context, c *cli.Command, home *game.Home, name string, addresses []string) error {
	f, err := feed.Add(ctx, feed.Adding{Base: home.FeedsDir(name), Name: c.String("name"), Addresses: addresses, Key: c.String("key")}, a.feedOptions(c))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		j, err := toFeedJSON(f)
		if err != nil {
			return err
		}
		return a.emit(struct {
			Schema string `json:"schema"`
			feedJSON
		}{"morvant-feed-added/1", j})
	}
	a.say("The feed %s is added. It is signed by the key", strong(f.Name))
	a.say("  %s", f.Key)
	if c.String("key") == "" {
		a.say("  %s", faint("Compare it with what its publisher says; only this key counts from now on."))
	}
	return a.describeFeed(f)
}

// describeFeed lists channels and says what is needed to get at them.
func (a *app) describeFeed(f *feed.Feed) error {
	d, err := f.Described()
	if err != nil {
		return err
	}
	channels, err := f.Channels()
	if err != nil {
		return err
	}
	for _, line := range d.Channels {
		text := faint("locked; its key opens it: morvant feed unlock " + line.Name)
		for _, ch := range channels {
			if ch.Channel == line.Name {
				text = count(len(ch.Builds), "build")
			}
		}
		a.say("  channel %s: %s", line.Name, text)
	}
	if _, in := f.SignedIn(); d.SignIn != nil && !in {
		a.say("It wants to know who you are before it hands out content: morvant feed sign-in")
	}
	return nil
}

type channelJSON struct {
	Channel string `json:"channel"`
	Locked  bool   `json:"locked"`
	Open    bool   `json:"open"` // it can be read
	Builds  int    `json:"builds"`
}

type feedJSON struct {
	Feed      string        `json:"feed"`
	Addresses []string      `json:"addresses"`
	Key       string        `json:"key"`
	Serial    int64         `json:"serial"`
	Expires   time.Time     `json:"expires"`
	Refreshed time.Time     `json:"refreshed"`
	SignIn    bool          `json:"sign_in"` // it asks for it
	SignedIn  bool          `json:"signed_in"`
	User      string        `json:"user,omitempty"`
	Channels  []channelJSON `json:"channels"`
}

func toFeedJSON(f *feed.Feed) (feedJSON, error) {
	j := feedJSON{Feed: f.Name, Addresses: f.Addresses, Key: f.Key, Refreshed: f.Refreshed, Channels: []channelJSON{}}
	d, err := f.Described()
	if err != nil {
		return j, err
	}
	j.Serial, j.Expires, j.SignIn = d.Serial, d.Expires, d.SignIn != nil
	j.User, j.SignedIn = f.SignedIn()
	channels, err := f.Channels()
	if err != nil {
		return j, err
	}
	for _, line := range d.Channels {
		out := channelJSON{Channel: line.Name, Locked: line.Locked}
		for _, ch := range channels {
			if ch.Channel == line.Name {
				out.Open, out.Builds = true, len(ch.Builds)
			}
		}
		j.Channels = append(j.Channels, out)
	}
	return j, nil
}

func (a *app) feedList(c *cli.Command, home *game.Home, name string) error {
	feeds, err := home.Feeds(name)
	if err != nil {
		return err
	}
	list := []feedJSON{}
	for _, f := range feeds {
		j, err := toFeedJSON(f)
		if err != nil {
			home.Tell(game.BrokenFeed(f, err))
			continue
		}
		list = append(list, j)
	}
	if c.Bool("json") {
		return a.emit(struct {
			Schema string     `json:"schema"`
			Game   string     `json:"game"`
			Feeds  []feedJSON `json:"feeds"`
		}{"morvant-feeds/1", name, list})
	}
	if len(list) == 0 {
		a.say("No feed is known for %s. Add one: morvant feed add ADDRESS", name)
		return nil
	}
	var rows [][]string
	for _, j := range list {
		var channels []string
		for _, ch := range j.Channels {
			text := fmt.Sprintf("%s (%d)", ch.Channel, ch.Builds)
			if !ch.Open {
				text = ch.Channel + " (locked)"
			}
			channels = append(channels, text)
		}
		who := "no need"
		switch {
		case j.SignedIn && j.User != "":
			who = "as " + printableName(j.User)
		case j.SignedIn:
			who = "unlocked"
		case j.SignIn:
			who = "not yet"
		}
		expires := j.Expires.Local().Format(time.DateOnly)
		if !j.Expires.After(a.now()) {
			expires = paint(bad, expires+" expired")
		}
		rows = append(rows, []string{j.Feed, strings.Join(channels, ", "), who, day(j.Refreshed), expires, strings.Join(j.Addresses, "\n")})
	}
	a.say("%s", a.fitted([]string{"Feed", "Channels", "Signed in", "Last answer", "Valid until", "Address"}, rows))
	return nil
}

func printableName(s string) string {
	if catalogue.CheckText(s) != nil {
		return "?"
	}
	return s
}

func (a *app) feedRefresh(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
	feeds, err := home.Feeds(name)
	if err != nil {
		return err
	}
	if len(args) == 1 {
		one, err := feed.Find(home.FeedsDir(name), args[0])
		if err != nil {
			return err
		}
		feeds = []*feed.Feed{one}
	}
	if len(feeds) == 0 {
		return feed.ErrNone
	}
	before, err := home.Offered(name)
	if err != nil {
		before = nil // a copy that cannot be read is replaced
	}
	known := make(map[string]bool)
	for _, b := range before {
		known[b.Name()+b.Digest().String()] = true
	}
	var errs []error
	for _, f := range feeds {
		if err := f.Refresh(ctx, a.feedOptions(c)); err != nil {
			errs = append(errs, fmt.Errorf("feed %s: %w", f.Name, err))
		}
	}
	after, err := home.Offered(name)
	if err != nil {
		return errors.Join(append(errs, err)...)
	}
	fresh := []string{}
	for _, b := range after {
		if !known[b.Name()+b.Digest().String()] {
			fresh = append(fresh, b.Name())
		}
	}
	if c.Bool("json") {
		errs = append(errs, a.emit(struct {
			Schema string   `json:"schema"`
			Game   string   `json:"game"`
			New    []string `json:"new"`
			Builds int      `json:"builds"`
		}{"morvant-refreshed/1", name, fresh, len(after)}))
	} else if len(fresh) > 0 {
		a.say("%s new: %s.", count(len(fresh), "build"), strings.Join(fresh, ", "))
	} else if len(errs) == 0 {
		a.say("Nothing new; %s known.", count(len(after), "build"))
	}
	return errors.Join(errs...)
}

// secrets reads what must not be seen: from lines of stdin, a variable, or a
// terminal that does not show it.
type secrets struct {
	app   *app
	lines *bufio.Reader // nil: not from stdin
}

// maxSecret bounds a password, a code or a key, in bytes.
const maxSecret = 4096

// read returns a secret. variable names an environment variable that may hold it.
func (s *secrets) read(what, variable string) (string, error) {
	switch {
	case variable != "":
		v := os.Getenv(variable)
		if v == "" {
			return "", usagef("the variable %s is empty", variable)
		}
		return v, nil
	case s.lines != nil:
		line, err := s.lines.ReadString('\n')
		line = strings.TrimRight(line, "\r\n")
		if line == "" {
			if err != nil {
				return "", usagef("there is no line with the %s on stdin", what)
			}
			return "", usagef("the line with the %s on stdin is empty", what)
		}
		return line[:min(len(line), maxSecret)], nil
	case !term.IsTerminal(int(s.app.in.Fd())):
		return "", fmt.Errorf("the %s is asked for at a terminal: %w", what, errUnanswered)
	}
	s.app.meter.pause()
	return s.app.readUnseen(strings.ToUpper(what[:1]) + what[1:] + ": ")
}

// readUnseen asks at the terminal and shows nothing of the answer, not even of what
// is typed before the question is there.
func (a *app) readUnseen(prompt string) (string, error) {
	fd := int(a.in.Fd())
	was, err := term.MakeRaw(fd)
	if err != nil {
		return "", err
	}
	defer term.Restore(fd, was)
	text, err := term.NewTerminal(struct {
		io.Reader
		io.Writer
	}{a.in, a.stderr}, "").ReadPassword(prompt)
	if errors.Is(err, io.EOF) {
		return "", context.Canceled // Ctrl-C and Ctrl-D
	}
	return text, err
}

func (a *app) secrets(c *cli.Command, fromStdin string) *secrets {
	s := &secrets{app: a}
	if c.Bool(fromStdin) {
		s.lines = bufio.NewReader(a.in)
	}
	return s
}

func (a *app) signIn(ctx context.Context, c *cli.Command, f *feed.Feed) error {
	where, err := a.secretsGo(c, f)
	if err != nil {
		return err
	}
	who := feed.Credentials{User: c.String("user")}
	s := a.secrets(c, "password-stdin")
	if who.User == "" {
		if !term.IsTerminal(int(a.in.Fd())) {
			return usagef("say who signs in with --user NAME")
		}
		fmt.Fprintf(a.err, "Name at %s: ", where)
		line, _ := bufio.NewReader(a.in).ReadString('\n')
		who.User = strings.TrimSpace(line)
	}
	if who.Password, err = s.read(fmt.Sprintf("password for %s at %s", printableName(who.User), where), c.String("password-env")); err != nil {
		return err
	}
	variable := c.String("code-env")
	for {
		kept, err := f.SignIn(ctx, who, a.feedOptions(c))
		var refused *feed.RefusedError
		switch {
		case err == nil:
			return a.done(c, fmt.Sprintf("Signed in to %s as %s; the token is in %s.", f.Name, printableName(who.User), kept))
		case !errors.As(err, &refused) || refused.Code != feed.CodeRequired && refused.Code != feed.CodeExpired:
			return err
		case refused.Code == feed.CodeExpired && variable != "":
			return err // the same variable would give the same code
		case refused.Code == feed.CodeExpired:
			a.note("That code has expired; give the next one.")
		}
		if who.Code, err = s.read("one-time code", variable); err != nil {
			return err
		}
	}
}

// secretsGo returns the server that passwords and keys of a feed are sent to. Where that is
// another one than the last time, it is asked whether it may have them.
func (a *app) secretsGo(c *cli.Command, f *feed.Feed) (string, error) {
	where, was, err := f.TokenHost()
	if err != nil {
		return "", err
	}
	if was != "" && was != where {
		a.note("Until now the feed %s had its passwords and keys sent to %s. It wants them sent to %s now.", f.Name, was, where)
		return where, a.ask(c, "Send them to "+where+"?")
	}
	if c.Bool("password-stdin") || c.Bool("key-stdin") || c.IsSet("password-env") || c.IsSet("key-env") {
		a.note("It goes to %s.", where)
	}
	return where, nil
}

func (a *app) unlock(ctx context.Context, c *cli.Command, home *game.Home, name, channel string) error {
	f, err := feed.Find(home.FeedsDir(name), c.String("feed"))
	if err != nil {
		return err
	}
	d, err := f.Described()
	if err != nil {
		return err
	}
	var names []string
	locked := false
	for _, line := range d.Channels {
		names = append(names, line.Name)
		locked = locked || line.Name == channel && line.Locked
	}
	if !locked {
		return usagef("%q is not a locked channel of %s; it has %s", channel, f.Name, strings.Join(names, ", "))
	}
	where, err := a.secretsGo(c, f)
	if err != nil {
		return err
	}
	key, err := a.secrets(c, "key-stdin").read(fmt.Sprintf("key of the channel %s, for %s", channel, where), c.String("key-env"))
	if err != nil {
		return err
	}
	if err := f.Unlock(ctx, channel, key, a.feedOptions(c)); err != nil {
		return err
	}
	if err := f.Refresh(ctx, a.feedOptions(c)); err != nil {
		return err
	}
	if c.Bool("json") {
		return a.done(c, "unlocked "+channel)
	}
	a.say("The channel %s of %s is open now.", channel, f.Name)
	return a.describeFeed(f)
}
