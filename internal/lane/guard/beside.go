package guard

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"

	"morvant/internal/block"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// besideFile keeps in the lane's own folder what blocks it and what was found where that was set, for a home that has gone back
// in time.
const besideFile = manifest.PrivateDir + "/block.json"

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
	age, err := l.Home.Age(ctx)
	if err != nil {
		return err
	}
	age.Generation++ // what it is once this is remembered
	head, err := json.Marshal(age)
	if err != nil {
		return err
	}
	body, err := json.Marshal(list)
	if err != nil {
		return err
	}
	text := slices.Concat(head, []byte("\n"), body)
	if _, err := l.Root.Lstat(manifest.PrivateDir); err == nil {
		_ = volume.ReplaceIn(l.Root, besideFile, text, 0o600)
	}
	return nil
}

// Adopt takes over what blocks a lane from its folder, if this home wrote it there and has been put back to before it since. A
// folder that somebody brought names another home, and is not obeyed.
func Adopt(ctx context.Context, l *lane.Lane) error {
	text, err := volume.ReadIn(l.Root, besideFile, manifest.MaxEncoded) // it names each file that is read-only
	if err != nil {
		return nil
	}
	head, body, _ := bytes.Cut(text, []byte("\n"))
	var age state.Age
	var list []*block.Applied
	if json.Unmarshal(head, &age) != nil {
		return nil
	}
	if lost, err := l.Home.Lost(ctx, age); err != nil || !lost || json.Unmarshal(body, &list) != nil {
		return err
	}
	if err := l.Home.SetApplied(ctx, l.Game.Name, l.Name, list); err != nil {
		return err
	}
	l.Tell("The block of %s that stands is known again, from a note in its folder.", l.Title())
	return nil
}
