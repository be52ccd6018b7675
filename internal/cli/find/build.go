package find

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/ref"
	"morvant/internal/resolve"
	"morvant/internal/state"
)

// Offered finds the build that was typed; see Fresh.
func Offered(ctx context.Context, a *app.App, c *cli.Command, home *game.Home, name, text string) (*state.Build, error) {
	r, err := ref.Parse(text)
	if err != nil {
		return nil, err
	}
	return Fresh(ctx, a, c, home, name, r)
}

// Fresh finds a build, asking the feeds what is new first where the answer may depend
// on it: for what needs fresh catalogues, and for what is not known.
func Fresh(ctx context.Context, a *app.App, c *cli.Command, home *game.Home, name string, r ref.Ref) (*state.Build, error) {
	if !r.NeedsFresh() {
		if found, err := resolve.Build(ctx, home, name, r); err == nil {
			tellFound(a, r, found)
			return found.Build, nil
		}
	}
	RefreshQuietly(ctx, a, c, home, name)
	return Build(ctx, a, home, name, r)
}

// refreshAfter is how old a catalogue may be before it is asked for again in passing.
const refreshAfter = 10 * 60 // seconds

// RefreshQuietly asks the feeds of a game what is new, unless that has just been done; a feed that cannot be asked is noted.
func RefreshQuietly(ctx context.Context, a *app.App, c *cli.Command, home *game.Home, name string) {
	feeds, err := home.Feeds(name)
	if err != nil {
		return // said where it matters
	}
	for _, f := range feeds {
		if a.Now().Sub(f.Refreshed).Seconds() < refreshAfter {
			continue
		}
		if err := f.Refresh(ctx, a.FeedOptions(c)); err != nil && ctx.Err() == nil {
			a.Note("Note: the feed %s could not be reached, so newer builds may be missing here (%s).", f.Name, view.OneLine(err))
		}
	}
}

// Named finds the build that was typed, among those that are known: no feed is asked.
func Named(ctx context.Context, a *app.App, home *game.Home, name, text string) (*state.Build, error) {
	r, err := ref.Parse(text)
	if err != nil {
		return nil, err
	}
	return Build(ctx, a, home, name, r)
}

// Build finds a build, and says what its name led to where that may surprise.
func Build(ctx context.Context, a *app.App, home *game.Home, name string, r ref.Ref) (*state.Build, error) {
	found, err := resolve.Build(ctx, home, name, r)
	if err != nil {
		return nil, err
	}
	tellFound(a, r, found)
	return found.Build, nil
}

func tellFound(a *app.App, r ref.Ref, found resolve.Found) {
	if r.Kind == ref.Day {
		in := ""
		if len(found.Elsewhere) > 0 {
			in = ", in channel " + found.Line()
		}
		a.Note("%s is %s of %s%s.", r, found.Label, view.Day(found.Made), in)
		if len(found.SameDay) > 0 {
			var others []string
			for _, b := range found.SameDay {
				others = append(others, b.Label+" ("+view.Day(b.Made)+")")
			}
			a.Note("Also of that day: %s.", strings.Join(others, ", "))
		}
		if len(found.Elsewhere) > 0 {
			var others []string
			for _, b := range found.Elsewhere {
				others = append(others, b.Name()+" ("+view.Day(b.Made)+")")
			}
			a.Note("Other channels had: %s. Write %s/%s to choose one.", strings.Join(others, ", "), found.Elsewhere[0].Line(), r)
		}
	}
	if found.Of != "" {
		a.Note("More than one feed has a channel %s; here %s means that of the feed %s.", found.Line(), r, found.Of)
	}
	if n := len(found.Early); n > 0 {
		more := ""
		if n > 1 {
			more = fmt.Sprintf(" (%s more)", view.Comma(n-1))
		}
		b := found.Early[0]
		a.Note("%s has the date %s, which lies in the future, so it is skipped%s. Name it by its label to use it all the same.", b.Name(), view.Day(b.Made), more)
	}
	for _, other := range found.Others {
		if found.Channel == "" && other.Digest() != found.Digest() {
			a.Note("%s is your snapshot; %s is the feed's build of that name.", r, other.Name())
		}
	}
}
