package lane

import (
	"context"
	"path"
	"regexp"
	"time"

	"morvant/internal/scan"
	"morvant/internal/state"
)

// noteGone notes which files that may be the player's were there at the last look and are not any more, and
// which are back. Morvant's own changes are remembered without a look, and take nothing away here.
func (l *Lane) noteGone(ctx context.Context, t *scan.Tree) error {
	noted, err := l.Home.Player.Gone(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	var back []string
	for _, g := range noted {
		if t.Entry(g.Path) != nil {
			back = append(back, g.Path)
		}
	}
	lost := l.Cache.Lost(l.CacheKey(), t)
	if len(lost) == 0 && len(back) == 0 {
		return nil
	}
	settled, err := l.settled(ctx)
	if err != nil {
		return err
	}
	match := l.Game.Rules().Matcher()
	var gone []state.Gone
	for _, f := range lost {
		if !match.Scratch(f.Path) && !passing.MatchString(path.Base(f.Path)) && (match.Kept(f.Path) || f.Touched.Before(settled)) {
			gone = append(gone, state.Gone{Path: f.Path, Bytes: f.Bytes, Noticed: l.Now()})
		}
	}
	return l.Home.Player.SetGone(ctx, l.Game.Name, l.Name, gone, back)
}

// passing is how files are called that programs make for a moment: an editor that saves, a download.
var passing = regexp.MustCompile(`(?i)^(~\$|\.#|\.~)|(~|\.(tmp|temp|swp|swx|part|partial|crdownload|download|lock))$`)

// settled is when the game's folder was last changed by Morvant. A file without a rule that is newer may have been brought by
// the launcher, and taken again.
func (l *Lane) settled(ctx context.Context) (time.Time, error) {
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil || len(history) == 0 {
		return time.Time{}, err
	}
	return history[0].Made, nil
}
