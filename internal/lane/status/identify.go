package status

import (
	"context"

	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/scan"
)

// Identify compares the lane's folder with every known build. It reads what changed since the last
// look, but for files of the player's that can be none of any build, and remembers it for the lane.
func Identify(ctx context.Context, l *lane.Lane) (*identify.Answer, error) {
	tree, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	unread, err := compose.AskLikely(ctx, l.Home, l.Game.Name, sizeOf(tree), l.Feed)
	if err != nil {
		return nil, err
	}
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return nil, err
	}
	match, impossible := l.Game.Rules().Matcher(), identify.Impossible(known, l.Game.Rules().Fold)
	err = l.Read(ctx, tree, scan.Request{Sink: scan.Hash(), Task: "Reading", Skip: func(e *scan.Entry) bool { return e.Known || match.Kept(e.Path) && impossible(e) }})
	if err != nil {
		return nil, err
	}
	// What was read may have told what a distributor's digests mean.
	if len(lane.Adapted(l)) > 0 {
		if known, err = compose.Known(ctx, l.Home, l.Store, l.Game); err != nil {
			return nil, err
		}
	}
	answer := identify.Tree(tree, l.Game.Rules(), known)
	answer.Unread = unread
	return answer, nil
}

func sizeOf(t *scan.Tree) (n int64) {
	for i := range t.Entries {
		n += t.Entries[i].Stamp.Size
	}
	return n
}
