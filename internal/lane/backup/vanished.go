package backup

import (
	"context"
	"io/fs"
	"path/filepath"

	"morvant/internal/lane"
	"morvant/internal/saves"
)

// emptiedFact names the fact that the saves of a game are gone on purpose: stashed, or seen to be gone.
func emptiedFact(l *lane.Lane) string { return "saves emptied " + l.Game.Name }

// SeenGone remembers, where there are no saves, that this is on purpose, until there are some.
func SeenGone(ctx context.Context, l *lane.Lane) error {
	if gone, err := Vanished(ctx, l); err != nil || gone == nil {
		return err
	}
	return l.Home.SetFact(ctx, emptiedFact(l), "1")
}

// Vanished returns the newest backup that has saves of the lane, where there are none now although nobody has put them away;
// nil: they are there, there never were any, or that is known.
func Vanished(ctx context.Context, l *lane.Lane) (*saves.Backup, error) {
	if !l.Live || len(l.Game.Saves) == 0 {
		return nil, nil
	}
	list, err := l.Home.Backups(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	last := newestOf(l, list, func(*saves.Backup) bool { return true })
	if last == nil {
		return nil, nil
	}
	known, err := l.Home.Fact(ctx, emptiedFact(l))
	if err != nil {
		return nil, err
	}
	places, _, err := Find(ctx, l)
	if err != nil {
		return nil, err
	}
	for _, p := range places {
		if holdsFile(p.In(l.Dir)) {
			if known != "" && !l.Passive {
				err = l.Home.SetFact(ctx, emptiedFact(l), "")
			}
			return nil, err
		}
	}
	if known != "" {
		return nil, nil
	}
	return last, nil
}

// holdsFile reports whether anything but folders is in a folder; so does one that cannot be looked into.
func holdsFile(dir string) bool {
	holds := false
	_ = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			return nil
		}
		holds = true
		return fs.SkipAll
	})
	return holds
}
