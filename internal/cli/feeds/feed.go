package feeds

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/feed"
	"morvant/internal/feed/listing"
	"morvant/internal/game"
	"morvant/internal/state"
)

func (a commands) feedCommand() *cli.Command {
	return &cli.Command{
		Name: "feed", Usage: "where builds come from", Category: app.GroupFeeds,
		Description: "Example: morvant feed add https://feeds.example/cinder-quay",
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add a feed: a web address or a folder", ArgsUsage: "ADDRESS [MIRROR...]",
				Description: "Example: morvant feed add https://feeds.example/cinder-quay --key RWQ...\n\n" +
					"Shows the key that signs the feed, and remembers it: from then on Morvant accepts no other key.\n" +
					"Further addresses are mirrors; Morvant uses them when the first one fails.\n\n" +
					"A distributor with a format of its own is spoken for by an adapter, a program of yours:\n" +
					"morvant feed add --adapter PROGRAM ADDRESS. PROGRAM is a path, or the NAME of morvant-adapter-NAME\n" +
					"on PATH or in the folder adapters of Morvant's home. It runs with your rights, as any program does.",
				Flags: append(app.LineFlags(),
					&cli.StringFlag{Name: "name", Usage: "what to call it here: `NAME`; default: what it calls itself"},
					&cli.StringFlag{Name: "key", Usage: "accept the feed only if this `KEY` signed it"},
					&cli.StringFlag{Name: "adapter", Usage: "the `PROGRAM` that speaks for the distributor at ADDRESS"}),
				Action: a.OnGame(1, 16, func(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
					return a.feedAdd(ctx, c, home, name, args)
				}),
			},
			{
				Name: "list", Usage: "list the feeds of a game", Description: "Example: morvant feed list",
				Action: a.OnGameAlone(func(_ context.Context, c *cli.Command, home *game.Home, name string) error {
					return a.feedList(c, home, name)
				}),
			},
			{
				Name: "refresh", Usage: "ask the feeds what is new", ArgsUsage: "[FEED]",
				Flags: append(app.LineFlags(), &cli.BoolFlag{Name: "all", Usage: "read every manifest that a distributor lists, which may take long"}),
				Description: "Example: morvant feed refresh\n\n" +
					"Of a distributor that an adapter speaks for, the list is read, and the manifests of the newest builds; those of\n" +
					"others come when they are needed.",
				Action: a.OnGame(0, 1, func(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
					return a.feedRefresh(ctx, c, home, name, args)
				}),
			},
			{
				Name: "remove", Usage: "forget a feed; everything fetched from it stays", ArgsUsage: "FEED",
				Description: "Example: morvant feed remove quay-archive",
				Flags:       app.ChangeFlags(),
				Action: a.onFeed(1, func(_ context.Context, c *cli.Command, f *feed.Feed) error {
					if err := a.Ask(c, "Forget the feed "+f.Name+"?"); err != nil {
						return err
					}
					if err := f.Remove(); err != nil {
						return err
					}
					return a.Done(c, "The feed "+f.Name+" is forgotten.")
				}),
			},
			{
				Name: "distrust", Usage: "drop what only this feed vouches for, by weak digests or none", ArgsUsage: "FEED",
				Description: "Example: morvant feed distrust shelf\n\n" +
					"MD5 and SHA-1 name content that can be forged, and some distributors tell no digest at all (morvant builds\n" +
					"lists it under \"Known by\"). Morvant forgets which content such files of the feed have, no longer finds them among\n" +
					"your files, and fetches them again only with --unchecked. Files with strong digests stay as they are.",
				Flags:  app.ChangeFlags(),
				Action: a.onFeedOf(1, a.distrust),
			},
			{
				Name: "sign-in", Usage: "sign in to a feed", ArgsUsage: "[FEED]",
				Description: "Example: morvant feed sign-in --user ada\n\n" +
					"Asks for the password, and for a one-time code if the service needs one; neither is shown. For scripts\n" +
					"it reads them from stdin (first line, second line) or from variables that you name.",
				Flags: append(app.LineFlags(),
					&cli.StringFlag{Name: "user", Usage: "the account's `NAME`"},
					&cli.BoolFlag{Name: "password-stdin", Usage: "read password and code from stdin, a line each"},
					&cli.StringFlag{Name: "password-env", Usage: "the `VARIABLE` that holds the password"},
					&cli.StringFlag{Name: "code-env", Usage: "the `VARIABLE` that holds the one-time code"},
					app.AnswersFlag()),
				Action: a.onFeed(0, a.signIn),
			},
			{
				Name: "sign-out", Usage: "sign out, and lock the channels again", ArgsUsage: "[FEED]",
				Description: "Example: morvant feed sign-out", Flags: app.LineFlags(),
				Action: a.onFeed(0, func(ctx context.Context, c *cli.Command, f *feed.Feed) error {
					if err := f.SignOut(ctx, a.FeedOptions(c)); err != nil {
						return err
					}
					return a.Done(c, "Signed out of "+f.Name+".")
				}),
			},
			{
				Name: "unlock", Usage: "open a locked channel with its key", ArgsUsage: "CHANNEL",
				Description: "Example: morvant feed unlock preview",
				Flags: append(app.LineFlags(),
					&cli.StringFlag{Name: "feed", Usage: "the `FEED` that has the channel"},
					&cli.BoolFlag{Name: "key-stdin", Usage: "read the key from stdin"},
					&cli.StringFlag{Name: "key-env", Usage: "the `VARIABLE` that holds the key"},
					app.AnswersFlag()),
				Action: a.OnGame(1, 1, func(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
					return a.unlock(ctx, c, home, name, args[0])
				}),
			},
		},
	}
}

// onFeed is onFeedOf for what needs nothing but the feed.
func (a commands) onFeed(least int, f func(context.Context, *cli.Command, *feed.Feed) error) cli.ActionFunc {
	return a.onFeedOf(least, func(ctx context.Context, c *cli.Command, _ *game.Home, _ string, one *feed.Feed) error {
		return f(ctx, c, one)
	})
}

// onFeedOf runs f on the feed of a game that the only argument names; least is how many must
// be given.
func (a commands) onFeedOf(least int, f func(ctx context.Context, c *cli.Command, home *game.Home, name string, one *feed.Feed) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := app.Arguments(c, least, 1)
		if err != nil {
			return err
		}
		return a.WithGame(ctx, c, func(home *game.Home, name string) error {
			one, err := game.Feed(home, name, strings.Join(args, ""))
			if err != nil {
				return err
			}
			return f(ctx, c, home, name, one)
		})
	}
}

func (a commands) feedAdd(ctx context.Context, c *cli.Command, home *game.Home, name string, addresses []string) error {
	adding := feed.Adding{Base: home.FeedsDir(name), Name: c.String("name"), Addresses: addresses, Key: c.String("key")}
	var f *feed.Feed
	var err error
	if program := c.String("adapter"); program != "" {
		if len(addresses) > 1 || adding.Key != "" {
			return app.Usagef("a feed by adapter has one address, and no key: nothing of it is signed")
		}
		f, err = feed.AddByAdapter(ctx, adding, program, game.AdaptersDir(home), name, a.FeedOptions(c))
	} else {
		f, err = feed.Add(ctx, adding, a.FeedOptions(c))
	}
	if err != nil {
		return err
	}
	if c.Bool("json") {
		j, err := view.ToFeedJSON(f)
		if err != nil {
			return err
		}
		return a.Emit(struct {
			Schema string `json:"schema"`
			view.FeedJSON
		}{"morvant-feed-added/1", j})
	}
	if f.Adapter != "" {
		a.Say("The feed %s is added. The adapter %s speaks for it.", view.Strong(f.Name), f.Adapter)
		return a.describeFeed(f)
	}
	a.Say("The feed %s is added. It is signed by the key", view.Strong(f.Name))
	a.Say("  %s", f.Key)
	if c.String("key") == "" {
		a.Say("  %s", view.Faint("Compare it with the key that the publisher shows; from now on Morvant accepts only this one."))
	}
	return a.describeFeed(f)
}

// distrust drops what rests on a feed's weak digests alone.
func (a commands) distrust(ctx context.Context, c *cli.Command, home *game.Home, name string, f *feed.Feed) error {
	if f.Adapter == "" {
		return app.Refusef("%s is signed and names content by strong digests: nothing rests on it alone; morvant feed remove forgets it", f.Name)
	}
	builds, err := home.Builds(ctx, name)
	if err != nil {
		return err
	}
	lanes, err := home.Lanes(ctx, name)
	if err != nil {
		return err
	}
	files, of := 0, []*state.Build{}
	for _, b := range builds {
		if e := b.Established(); len(b.Feeds) == 1 && b.Feeds[0].Name == f.Name && e.Weak+e.Unchecked > 0 {
			files, of = files+e.Weak+e.Unchecked, append(of, b)
		}
	}
	recorded, err := home.Recorded(ctx, name)
	if err != nil {
		return err
	}
	recorded = slices.DeleteFunc(recorded, func(r *state.Build) bool { return !slices.ContainsFunc(of, r.Same) })
	for _, l := range lanes {
		for _, r := range recorded {
			if r.Is(l.Pin) || l.Pin.Lays(r) {
				return app.Refusef("lane %s is held at %s, and some of its files rest on %s alone; morvant unpin it, or pin another build first", l.Name, r.Label, f.Name)
			}
		}
	}
	if err := a.Ask(c, fmt.Sprintf("Drop what rests on %s alone: %s of %s?", f.Name, view.Count(files, "file"), view.Count(len(of), "build"))); err != nil {
		return err
	}
	if err := f.Distrust(ctx); err != nil {
		return err
	}
	for _, r := range recorded {
		if err := home.ForgetBuild(ctx, r); err != nil {
			return err
		}
	}
	return a.Done(c, fmt.Sprintf("%s of %s no longer count%s as seen. To fetch them again: --unchecked. To free their space: morvant store trim.",
		view.Count(files, "file"), view.Count(len(of), "build"), map[bool]string{true: "s"}[files == 1]))
}

// describeFeed lists channels and says what is needed to get at them.
func (a commands) describeFeed(f *feed.Feed) error {
	d, err := f.Described()
	if err != nil {
		return err
	}
	channels, err := f.Channels()
	if err != nil {
		return err
	}
	for _, line := range d.Channels {
		text := view.Faint("not read yet")
		if line.Locked {
			text = view.Faint("locked; open it with its key: morvant feed unlock " + line.Name)
		}
		for _, ch := range channels {
			if ch.Channel == line.Name {
				text = view.Count(len(ch.Builds), "build")
			}
		}
		a.Say("  channel %s: %s", line.Name, text)
	}
	if _, in := f.SignedIn(); d.SignIn != nil && !in {
		a.Say("Sign in before you fetch from it: morvant feed sign-in")
	}
	return nil
}

func (a commands) feedList(c *cli.Command, home *game.Home, name string) error {
	feeds, err := home.Feeds(name)
	if err != nil {
		return err
	}
	list := []view.FeedJSON{}
	for _, f := range feeds {
		j, err := view.ToFeedJSON(f)
		if err != nil {
			home.Tell(game.BrokenFeed(f, err))
			continue
		}
		list = append(list, j)
	}
	if c.Bool("json") {
		return a.Emit(struct {
			Schema string          `json:"schema"`
			Game   string          `json:"game"`
			Feeds  []view.FeedJSON `json:"feeds"`
		}{"morvant-feeds/1", name, list})
	}
	switch {
	case len(feeds) == 0:
		a.Say("%s has no feed. Add one: morvant feed add ADDRESS", name)
		return nil
	case len(list) == 0:
		return nil // why has been said
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
			who = "as " + view.PrintableName(j.User)
		case j.SignedIn:
			who = "unlocked"
		case j.SignIn:
			who = "not yet"
		}
		expires := j.Expires.Local().Format(time.DateOnly)
		if j.Adapter != "" {
			expires = "by adapter"
		} else if !j.Expires.After(a.Now()) {
			expires = view.Paint(view.Bad, expires+" expired")
		}
		rows = append(rows, []string{j.Feed, strings.Join(channels, ", "), who, view.Day(j.Refreshed), expires, strings.Join(j.Addresses, ", ")})
	}
	a.Table([]view.Column{
		{Head: "Feed", Cut: view.CutMiddle},
		{Head: "Channels", Cut: view.CutEnd},
		{Head: "Signed in", Cut: view.CutEnd},
		{Head: "Last answer", Spare: 2},
		{Head: "Valid until", Spare: 1},
		{Head: "Address", Spare: 3, Cut: view.CutStart},
	}, rows)
	return nil
}

func (a commands) feedRefresh(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
	feeds, err := home.Feeds(name)
	if err != nil {
		return err
	}
	if len(args) == 1 {
		one, err := game.Feed(home, name, args[0])
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
		o := a.FeedOptions(c)
		if c.Bool("all") {
			o.Reading = listing.Every
		}
		if err := f.Refresh(ctx, o); err != nil {
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
		errs = append(errs, a.Emit(struct {
			Schema string   `json:"schema"`
			Game   string   `json:"game"`
			New    []string `json:"new"`
			Builds int      `json:"builds"`
		}{"morvant-refreshed/1", name, fresh, len(after)}))
	} else if len(fresh) > 0 {
		a.Say("%s new: %s.", view.Count(len(fresh), "build"), strings.Join(fresh, ", "))
	} else if len(errs) == 0 {
		a.Say("Nothing new; %s known.", view.Count(len(after), "build"))
	}
	return errors.Join(errs...)
}
