package compose

import (
	"context"
	"fmt"
	"slices"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/feed/listing"
	"morvant/internal/game"
)

// mostAsked is how many manifests of one distributor are asked for to compare a folder with them.
const mostAsked = 50

// AskLikely asks distributors for the manifests of builds that a folder of so many bytes could be (0: nobody knows how many), and that
// have not been read, the newest first. It returns how many builds are still unread: they cannot be compared. A distributor that does not
// answer, or only at the price of a download, is no obstacle.
func AskLikely(ctx context.Context, home *game.Home, name string, size int64, o feed.Options) (unread int, err error) {
	feeds, err := home.Feeds(name)
	if err != nil {
		return 0, err
	}
	for _, f := range feeds {
		if f.Adapter == "" || f.Broken != nil {
			continue
		}
		builds, err := newestFirst(f)
		if err != nil {
			continue // said where builds are listed
		}
		var likely []listing.Wanted
		for _, w := range f.Unread(builds) {
			if size == 0 || w.Part.Bytes <= 2*size {
				likely = append(likely, w)
			}
		}
		if likely = likely[:min(len(likely), mostAsked)]; !f.Dear && len(likely) > 0 {
			if err := f.Bring(ctx, likely, o); ctx.Err() != nil {
				return 0, ctx.Err()
			} else if err != nil {
				home.Tell(fmt.Sprintf("the feed %s does not tell all: %v", f.Name, err))
			}
			if builds, err = newestFirst(f); err != nil {
				return 0, err
			}
		}
		lacks := make(map[digest.Digest]bool)
		for _, w := range f.Unread(builds) {
			lacks[w.Part.Manifest] = true
		}
		for _, b := range builds {
			if slices.ContainsFunc(b.Components, func(p catalogue.Part) bool { return lacks[p.Manifest] }) {
				unread++
			}
		}
	}
	return unread, nil
}

func newestFirst(f *feed.Feed) ([]catalogue.Build, error) {
	channels, err := f.Channels()
	var list []catalogue.Build
	for _, c := range channels {
		for i := len(c.Builds) - 1; i >= 0; i-- {
			list = append(list, c.Builds[i])
		}
	}
	return list, err
}
