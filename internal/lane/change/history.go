package change

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"

	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// historyFile keeps in the lane's own folder which changes were made of it, for a home that has gone back in time: one a line.
const historyFile = manifest.PrivateDir + "/history.jsonl"

// maxHistory is how many bytes of it are kept at most: hundreds of changes.
const maxHistory = 1 << 20

// told is a line of it.
type told struct {
	By     state.Age     `json:"by"` // the home that made the change, once it knew of it
	Change *state.Change `json:"change"`
	Undoes string        `json:"undoes,omitempty"` // the id of the change that it took back
}

// tellFolder writes a change into the lane's folder as well; a help only where that cannot be written to.
func tellFolder(ctx context.Context, l *lane.Lane, c *state.Change) error {
	if l.Root == nil {
		return nil
	}
	t := told{Change: c}
	var err error
	if t.By, err = l.Home.Sign(ctx); err != nil {
		return err
	}
	if c.Undoes != 0 {
		list, err := l.Home.History(ctx, l.Game.Name, l.Name)
		if err != nil {
			return err
		}
		for _, o := range list {
			if o.ID == c.Undoes {
				t.Undoes = o.UID
			}
		}
	}
	line, err := json.Marshal(t)
	if err != nil {
		return err
	}
	text, _ := volume.ReadIn(l.Root, historyFile, 2*maxHistory)
	if len(text) > maxHistory {
		_, text, _ = bytes.Cut(text[len(text)-maxHistory/2:], []byte("\n"))
	}
	if _, err := l.Root.Lstat(manifest.PrivateDir); err == nil {
		_ = volume.ReplaceIn(l.Root, historyFile, append(append(text, line...), '\n'), 0o600)
	}
	return nil
}

// TakeIn makes changes again part of the history that the lane's folder tells of and that this home made, and has forgotten since
// it was put back to before them. It ends at one that cannot be taken back any more, or leads to a build that nobody knows. n is how
// many they are.
func TakeIn(ctx context.Context, l *lane.Lane) (n int, err error) {
	text, err := volume.ReadIn(l.Root, historyFile, 2*maxHistory)
	if err != nil {
		return 0, nil // it tells of nothing
	}
	known := make(map[string]int64) // number of each change, by its id
	list, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return 0, err
	}
	for _, c := range list {
		known[c.UID] = c.ID
	}
	for line := range bytes.Lines(text) {
		var t told
		if json.Unmarshal(line, &t) != nil || t.Change == nil || known[t.Change.UID] != 0 {
			continue
		}
		if lost, err := l.Home.Lost(ctx, t.By); err != nil {
			return n, err
		} else if !lost {
			continue
		}
		c := t.Change
		if there, err := l.Store.Has(ctx, c.Steps); err != nil || !there {
			return n, err
		}
		if b := c.After.Build; b != "" {
			if _, err := l.Home.RecordedBuild(ctx, l.Game.Name, b); errors.Is(err, state.ErrUnknown) {
				return n, nil
			} else if err != nil {
				return n, err
			}
		}
		c.Game, c.Lane, c.ID, c.Undone, c.Undoes = l.Game.Name, l.Name, 0, 0, known[t.Undoes]
		if err := recordHere(ctx, l, c); err != nil {
			return n, err
		}
		known[c.UID] = c.ID
		n++
	}
	return n, nil
}
