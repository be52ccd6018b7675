// Package rescue takes everything out of a folder that Morvant has left in it, with any home or none: an unfinished change, what was
// set aside, blocks, the name of a parked lane. Nothing is lost; what is left is a plain folder.
package rescue

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"morvant/internal/apply"
	"morvant/internal/block"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/guard"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// ErrNothing is returned for a folder in which Morvant has left nothing.
var ErrNothing = problem.New("there is nothing of Morvant's in it", "Nothing was changed. Name the folder of the game, or of its saves")

// Found is what Morvant has left in a folder.
type Found struct {
	Dir    string
	Marker lane.Marker // whose lane it was; the zero value: none can be read
	Change bool        // one was cut off
	Aside  int         // files that were in the way of a change, or came with one that was not obeyed
	Block  *guard.Note // of the lane
	Held   []*block.Applied
	Links  map[string]string // folders that are somewhere else, by links
	Plain  string            // its name before it was parked; empty: it is not, or something else has that name
	any    bool
}

const asideDir = manifest.PrivateDir + "/aside"

// Look looks for what Morvant has left in a folder.
func Look(ctx context.Context, dir string) (*Found, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	f := &Found{Dir: dir, Marker: lane.ReadMarker(dir), Block: guard.NoteIn(root), Links: make(map[string]string)}
	if f.Change, err = apply.Pending(root); err != nil {
		return nil, err
	}
	if info, err := root.Lstat(manifest.PrivateDir); err == nil {
		f.any = info.IsDir()
	}
	err = fs.WalkDir(root.FS(), ".", func(p string, d fs.DirEntry, err error) error {
		at := filepath.Join(dir, filepath.FromSlash(p))
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			return nil // what cannot be read stays as it is
		case strings.HasPrefix(p, asideDir+"/"):
			if !d.IsDir() {
				f.Aside++
			}
		case p == manifest.PrivateDir+"/change":
			return fs.SkipDir
		case volume.IsLink(at):
			if to, err := volume.LinkTarget(at); err == nil && d.Type()&fs.ModeSymlink != 0 {
				f.Links[p] = to
			}
		case d.Type().IsRegular():
			if h := block.Standing(at); h != nil {
				f.Held = append(f.Held, h)
			}
		}
		return nil
	})
	if id := lane.MarkerOf(dir); err == nil && id.Lane != "" {
		plain, parked := strings.CutSuffix(dir, filepath.Base(game.ParkedName("x", id.Lane))[1:])
		if _, err := os.Lstat(plain); parked && volume.Absent(err) {
			f.Plain = plain
		}
	}
	if err == nil && !f.any && len(f.Held) == 0 {
		err = fmt.Errorf("%s: %w", dir, ErrNothing)
	}
	return f, err
}

// Outside lists what blocks have changed outside of the folder, as a note in it says.
func (f *Found) Outside() []string {
	if f.Block == nil {
		return nil
	}
	return f.Block.Outside(f.Dir)
}

// Options say how much is taken back.
type Options struct {
	Outside bool         // also what a note in the folder says of places outside of it
	Rename  bool         // give the folder its plain name
	Store   *store.Store // what a change displaced may be in it; nil: there is none
	Now     func() time.Time
}

// TakeOut takes everything back, and returns what was done, in sentences, and where the folder is now.
func (f *Found) TakeOut(ctx context.Context, o Options) (told []string, dir string, err error) {
	if err := lane.NotRunningIn(f.Dir); err != nil {
		return nil, f.Dir, err
	}
	ctx = context.WithoutCancel(ctx)
	say := func(format string, args ...any) { told = append(told, fmt.Sprintf(format, args...)) }
	root, err := os.OpenRoot(f.Dir)
	if err != nil {
		return nil, f.Dir, err
	}
	err = errors.Join(f.change(ctx, root, o, say), f.blocks(o, say))
	if err == nil {
		err = f.aside(root, say)
	}
	if err == nil {
		err = clear(root, say)
	}
	if err = errors.Join(err, root.Close()); err != nil || !o.Rename || f.Plain == "" {
		return told, f.Dir, err
	}
	if err := process.Rename(f.Dir, f.Plain); err != nil {
		return told, f.Dir, err
	}
	say("It was parked, and has its own name again: %s", f.Plain)
	return told, f.Plain, volume.SyncFolder(filepath.Dir(f.Plain))
}

// change takes back a change that was cut off.
func (f *Found) change(ctx context.Context, root *os.Root, o Options, say func(string, ...any)) error {
	end, err := apply.Recover(ctx, apply.Recovery{Root: root, Store: o.Store, Now: o.Now, Lost: func(apply.Origin) (bool, error) { return true, nil }})
	if err != nil {
		return err
	}
	switch end.Outcome {
	case apply.Back:
		say("A change that was cut off is taken back")
	case apply.Unknown:
		say("The record of a change that was cut off is lost; what it had moved is among what was set aside")
	}
	for _, text := range end.Report.Sentences(f.Dir) {
		say("%s", text)
	}
	return nil
}

// blocks puts back what blocks have found, as far as it is to be.
func (f *Found) blocks(o Options, say func(string, ...any)) error {
	at := block.Site{Dir: f.Dir}
	at.Home, _ = os.UserHomeDir() // without one, a path with ~ is simply not found
	var list []*block.Applied
	if f.Block != nil {
		outside := f.Block.Outside(f.Dir)
		for _, h := range slices.Backward(f.Block.Applied) { // each finds what the one before it has left
			if !o.Outside && slices.Contains(outside, h.Path) {
				say("%s is left as it is: only a note in the folder says that a block has changed it (%s)", h.Path, h.ByHand())
				continue
			}
			list = append(list, h)
		}
	}
	for _, h := range f.Held {
		if !slices.ContainsFunc(list, func(o *block.Applied) bool { return o.Path == h.Path }) {
			list = append(list, h)
		}
	}
	var errs []error
	for _, h := range list {
		switch err := h.Lift(at, false); {
		case errors.Is(err, block.ErrTouched), errors.Is(err, fs.ErrNotExist):
			say("%v; it stays as it is (%s)", err, h.ByHand())
		case err != nil:
			errs = append(errs, err)
		default:
			say("A block is taken off: %s", h.Rule.Describe())
		}
	}
	return errors.Join(errs...)
}

// aside puts what was set aside beside the folder, or into it where nothing can be put there.
func (f *Found) aside(root *os.Root, say func(string, ...any)) error {
	if _, err := root.Lstat(asideDir); err != nil {
		return nil
	}
	from := filepath.Join(f.Dir, filepath.FromSlash(asideDir))
	if os.Remove(from) == nil {
		return nil // nothing is in it
	}
	for _, base := range []string{f.Dir + " [set aside", filepath.Join(f.Dir, "[set aside")} {
		for n := 1; ; n++ {
			to := fmt.Sprintf("%s %d]", base, n)
			if _, err := os.Lstat(to); err == nil {
				continue
			}
			if os.Rename(from, to) == nil {
				say("What was set aside is now %s", to)
				return nil
			}
			break
		}
	}
	return fmt.Errorf("%s: what was set aside cannot be moved out of it", from)
}

// clear removes Morvant's own folder. What nobody knows in it stays.
func clear(root *os.Root, say func(string, ...any)) error {
	for _, name := range []string{path.Base(lane.MarkerFile), "block.json", "history.jsonl"} {
		if err := root.Remove(path.Join(manifest.PrivateDir, name)); err != nil && !volume.Absent(err) {
			return err
		}
	}
	apply.Sweep(root)
	game.SweepProbes(root.Name())
	if err := root.Remove(manifest.PrivateDir); err != nil && !volume.Absent(err) {
		say("%s stays: something is in it that is not known", filepath.Join(root.Name(), manifest.PrivateDir))
	}
	return nil
}
