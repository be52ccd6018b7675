package feeds

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/feed"
	"morvant/internal/game"
)

func (a commands) signIn(ctx context.Context, c *cli.Command, f *feed.Feed) error {
	if f.Adapter != "" {
		who, err := f.SignInByAdapter(ctx, c.String("user"), a.FeedOptions(c))
		if err != nil {
			return err
		}
		if c.Bool("json") {
			return a.Done(c, "signed in as "+who)
		}
		a.Say("Signed in to %s as %s.", f.Name, view.PrintableName(who))
		return a.describeFeed(f)
	}
	where, err := a.secretsGo(c, f)
	if err != nil {
		return err
	}
	who := feed.Credentials{User: c.String("user")}
	s := a.Secrets(c, "password-stdin")
	if who.User == "" {
		if !term.IsTerminal(int(a.In.Fd())) {
			return app.Usagef("name the account with --user NAME")
		}
		fmt.Fprintf(a.Err, "Name at %s: ", where)
		line, _ := bufio.NewReader(a.In).ReadString('\n')
		who.User = strings.TrimSpace(line)
	}
	if who.Password, err = s.Read(fmt.Sprintf("password for %s at %s", view.PrintableName(who.User), where), c.String("password-env")); err != nil {
		return err
	}
	variable := c.String("code-env")
	for {
		kept, err := f.SignIn(ctx, who, a.FeedOptions(c))
		var refused *feed.RefusedError
		switch {
		case err == nil:
			return a.Done(c, fmt.Sprintf("Signed in to %s as %s; the token is in %s.", f.Name, view.PrintableName(who.User), kept))
		case !errors.As(err, &refused) || refused.Code != feed.CodeRequired && refused.Code != feed.CodeExpired:
			return err
		case refused.Code == feed.CodeExpired && variable != "":
			return err // the same variable would give the same code
		case refused.Code == feed.CodeExpired:
			a.Note("That code has expired; enter the next one.")
		}
		if who.Code, err = s.Read("one-time code", variable); err != nil {
			return err
		}
	}
}

// secretsGo returns the server that passwords and keys of a feed are sent to. Where that is
// another one than the last time, it is asked whether it may have them.
func (a commands) secretsGo(c *cli.Command, f *feed.Feed) (string, error) {
	where, was, err := f.TokenHost()
	if err != nil {
		return "", err
	}
	if was != "" && was != where {
		a.Note("Until now the feed %s sent you to %s for passwords and keys. Now it sends you to %s.", f.Name, was, where)
		return where, a.Ask(c, "Send them to "+where+"?")
	}
	if c.Bool("password-stdin") || c.Bool("key-stdin") || c.IsSet("password-env") || c.IsSet("key-env") {
		a.Note("It will be sent to %s.", where)
	}
	return where, nil
}

func (a commands) unlock(ctx context.Context, c *cli.Command, home *game.Home, name, channel string) error {
	f, err := game.Feed(home, name, c.String("feed"))
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
		return app.Usagef("\"%s\" is not a locked channel of %s; it has %s", channel, f.Name, strings.Join(names, ", "))
	}
	if f.Adapter != "" {
		if err := f.UnlockByAdapter(ctx, channel, a.FeedOptions(c)); err != nil {
			return err
		}
		return a.unlocked(c, f, channel)
	}
	where, err := a.secretsGo(c, f)
	if err != nil {
		return err
	}
	key, err := a.Secrets(c, "key-stdin").Read(fmt.Sprintf("key of the channel %s, for %s", channel, where), c.String("key-env"))
	if err != nil {
		return err
	}
	if err := f.Unlock(ctx, channel, key, a.FeedOptions(c)); err != nil {
		return err
	}
	if err := f.Refresh(ctx, a.FeedOptions(c)); err != nil {
		return err
	}
	return a.unlocked(c, f, channel)
}

func (a commands) unlocked(c *cli.Command, f *feed.Feed, channel string) error {
	if c.Bool("json") {
		return a.Done(c, "unlocked "+channel)
	}
	a.Say("The channel %s of %s is open now.", channel, f.Name)
	return a.describeFeed(f)
}
