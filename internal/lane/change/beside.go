package change

import (
	"context"
	"os"
	"path"
	"path/filepath"

	"morvant/internal/apply"
	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/reflink"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// Beside opens another lane of the same game, which must be closed before l is.
func Beside(ctx context.Context, l *lane.Lane, name string) (*lane.Lane, error) {
	is, err := l.Find(ctx, name)
	if err != nil {
		return nil, err
	}
	return BesideAs(ctx, l, is)
}

// elsewhere finds content in the files of the game's other lanes, to share it with
// this one. Nothing is looked for until the first question.
type elsewhere struct {
	files  map[digest.Digest]copyAt
	others []*lane.Lane
}

type copyAt struct {
	lane *lane.Lane
	path string
}

// open returns a file that holds the content; nil if there is none. The content has
// to be checked by whoever uses it.
func (e *elsewhere) open(d digest.Digest) *os.File {
	at, ok := e.files[d]
	if !ok {
		return nil
	}
	f, err := scan.OpenFile(at.lane.Root, at.path)
	if err != nil {
		return nil
	}
	return f
}

func (e *elsewhere) close() {
	for _, o := range e.others {
		o.Close()
	}
}

// otherLanes looks for content in the other lanes of the game on the same disk. A
// lane that cannot be looked at is passed over: it is of help only.
func otherLanes(ctx context.Context, l *lane.Lane) *elsewhere {
	e := &elsewhere{files: make(map[digest.Digest]copyAt)}
	lanes, err := l.Home.Lanes(ctx, l.Game.Name)
	if err != nil || len(lanes) < 2 {
		return e
	}
	for _, is := range lanes {
		dir := l.Game.Folder(is)
		if is.Name == l.Name {
			continue
		}
		if same, err := volume.SameDisk(dir, l.Dir); err != nil || !same || !canShare(l, dir) {
			continue
		}
		o, err := BesideAs(ctx, l, is)
		if err != nil {
			continue
		}
		e.others = append(e.others, o)
		t, err := o.Walk(ctx)
		if err != nil {
			continue
		}
		for i := range t.Entries {
			if f := &t.Entries[i]; f.Kind == scan.File && f.Known && f.Stamp.Size >= apply.ShareFrom {
				e.files[f.Digest] = copyAt{o, f.Path}
			}
		}
	}
	return e
}

// canShare tries whether a file of another lane can be shared with this one.
func canShare(l *lane.Lane, dir string) bool {
	src, err := volume.Open(filepath.Join(dir, filepath.FromSlash(lane.MarkerFile)))
	if err != nil {
		return false
	}
	defer src.Close()
	name := path.Join(manifest.PrivateDir, "probe-"+state.NewUID())
	defer l.Root.Remove(name)
	probe, err := reflink.File(l.Root, name, src)
	return err == nil && probe.Close() == nil
}

// BesideAs opens another lane of the same game, under the lock that is held already.
func BesideAs(ctx context.Context, l *lane.Lane, is *state.Lane) (*lane.Lane, error) {
	o, err := l.Beside(is)
	if err != nil {
		return nil, err
	}
	if o.Passive = l.Passive; o.Passive {
		o.Unfinished = l.Unfinished
	} else if err := Recover(ctx, o); err != nil {
		o.Unfinished = lane.IsUnfinished(err)
	}
	return o, nil
}
