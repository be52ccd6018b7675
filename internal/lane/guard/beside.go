package guard

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"

	"morvant/internal/block"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/state"
	"morvant/internal/userpath"
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
	age, err := l.Home.Sign(ctx)
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

// Note is what a folder says of the block of the lane that it was.
type Note struct {
	By      state.Age // the home that set it
	Applied []*block.Applied
}

// NoteIn reads it; nil: it says nothing.
func NoteIn(root *os.Root) *Note {
	text, err := volume.ReadIn(root, besideFile, manifest.MaxEncoded) // it names each file that is read-only
	if err != nil {
		return nil
	}
	head, body, _ := bytes.Cut(text, []byte("\n"))
	n := &Note{}
	if json.Unmarshal(head, &n.By) != nil || json.Unmarshal(body, &n.Applied) != nil || len(n.Applied) == 0 {
		return nil
	}
	return n
}

// Outside lists what the block has changed outside of the folder: places that only its player should let it touch.
func (n *Note) Outside(dir string) []string {
	var list []string
	for _, h := range n.Applied {
		places := slices.Concat([]string{h.Path, h.Aside}, h.Later, h.Made)
		if slices.ContainsFunc(places, func(p string) bool { return p != "" && !within(dir, p) }) {
			list = append(list, h.Path)
		}
	}
	return list
}

// within reports whether a path is one in a folder, and no link on the way leads out of it.
func within(dir, p string) bool {
	around, err := filepath.EvalSymlinks(filepath.Dir(p))
	if real, dirErr := filepath.EvalSymlinks(dir); err == nil && dirErr == nil {
		return userpath.Holds(real, around)
	}
	return false
}

// Adopt takes over what blocks a lane from its folder, if this home wrote it there and has been put back to before it since. Where
// the folder has been put back to a time when it was blocked, its files are let go of. A folder that somebody brought names
// another home, and is not obeyed.
func Adopt(ctx context.Context, l *lane.Lane) error {
	n := NoteIn(l.Root)
	if n == nil {
		return nil
	}
	is, err := l.Home.Age(ctx)
	if err != nil || n.By.Home != is.Home {
		return err
	}
	if lost, err := l.Home.Lost(ctx, n.By); err != nil || lost {
		return errors.Join(err, n.TakeOver(ctx, l))
	}
	holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name)
	if err != nil || len(holds) > 0 {
		return err
	}
	for _, h := range n.Applied {
		if h.Rule.Kind == block.ReadOnly {
			err = errors.Join(err, h.Lift(Outside(l), false))
		}
	}
	if err == nil {
		l.Tell("The folder of %s is as it was while it was blocked, as if a backup of it had been put back. It is not blocked now, and its files can be written.", l.Title())
		err = setApplied(ctx, l, nil)
	}
	return err
}

// TakeOver makes the block that a folder tells of the lane's own.
func (n *Note) TakeOver(ctx context.Context, l *lane.Lane) error {
	if err := l.Home.SetApplied(ctx, l.Game.Name, l.Name, n.Applied); err != nil {
		return err
	}
	l.Tell("The block of %s that stands is known again, from a note in its folder.", l.Title())
	return nil
}
