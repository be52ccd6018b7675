package guard

import (
	"context"
	"encoding/json"

	"morvant/internal/block"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// besideFile keeps in the lane's own folder what blocks it and what was found where that was set, for a home that has gone back
// in time.
const besideFile = manifest.PrivateDir + "/block.json"

type beside struct {
	state.Age
	Applied []*block.Applied `json:"applied"`
}

// setApplied remembers what blocks the lane: in its folder first, so that no block stands that only a newer home knows.
func setApplied(ctx context.Context, l *lane.Lane, list []*block.Applied) error {
	if err := writeBeside(ctx, l, list); err != nil {
		return err
	}
	return l.Home.SetApplied(ctx, l.Game.Name, l.Name, list)
}

// writeBeside is a help only where the folder cannot be written to.
func writeBeside(ctx context.Context, l *lane.Lane, list []*block.Applied) error {
	if l.Root == nil || l.Strange != "" {
		return nil
	}
	if len(list) == 0 {
		_ = volume.RemoveIn(l.Root, besideFile)
		return nil
	}
	b := beside{Applied: list}
	var err error
	if b.Age, err = l.Home.Age(ctx); err != nil {
		return err
	}
	b.Age.Generation++ // what it is once this is remembered
	text, err := json.Marshal(b)
	if err != nil {
		return err
	}
	if _, err := l.Root.Lstat(manifest.PrivateDir); err == nil {
		_ = volume.ReplaceIn(l.Root, besideFile, text, 0o600)
	}
	return nil
}

// Adopt takes over what blocks a lane from its folder, if this home wrote it there and has been put back to before it since. A
// folder that somebody brought names another home, and is not obeyed.
func Adopt(ctx context.Context, l *lane.Lane, is state.Age) error {
	text, err := volume.ReadIn(l.Root, besideFile, volume.Small)
	if err != nil {
		return nil
	}
	var b beside
	if json.Unmarshal(text, &b) != nil || !is.Before(b.Age) {
		return nil
	}
	if err := l.Home.SetApplied(ctx, l.Game.Name, l.Name, b.Applied); err != nil {
		return err
	}
	l.Tell("The block of %s that stands is known again, from a note in its folder.", l.Title())
	return nil
}
