package transfer

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/exchange"
	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// Errors that callers test for.
var (
	ErrMove    = problem.New("this cannot be moved into the store", "What was moved so far is safe there. Run the command again")
	ErrNothing = problem.New("there are no files in it", "Nothing was recorded. Check the path, and what is left out")
)

// moveAtOnce is how many bytes are put into the store before they are removed from their folder.
const moveAtOnce = 256 << 20

// begunMoves reads what an import has moved that did not come to its end.
func begunMoves(ctx context.Context, l *lane.Lane) (state.Moving, error) {
	var m state.Moving
	begun, err := l.Home.Begun(ctx, l.Game.Name)
	if err != nil {
		return m, err
	}
	for _, b := range begun {
		if b.Kind == state.BegunImport {
			return m, json.Unmarshal(b.Body, &m)
		}
	}
	return m, nil
}

// moved returns what an earlier run has moved out of a source already; nil if nothing.
func (im *importing) moved(src string) (*state.Moved, *exchange.Imported, error) {
	m, err := begunMoves(im.ctx, im.l)
	if err != nil {
		return nil, nil, err
	}
	i := slices.IndexFunc(m.Sources, func(s state.Moved) bool { return s.Source == src })
	if i < 0 {
		return nil, nil, nil
	}
	raw, err := im.l.Store.Bytes(im.ctx, m.Sources[i].Manifest, manifest.MaxEncoded)
	if err != nil {
		return nil, nil, err
	}
	in := &exchange.Imported{}
	if in.Manifest, err = manifest.DecodeRecorded(raw); err != nil {
		return nil, nil, err
	}
	if raw, err = im.l.Store.Bytes(im.ctx, m.Sources[i].Attributes, manifest.MaxEncoded); err != nil {
		return nil, nil, err
	}
	in.Attributes, err = manifest.DecodeAttributes(raw)
	return &m.Sources[i], in, err
}

// move reads a folder and removes each file of it that is in the store, some at a time: what has
// been removed is noted before, so that another run goes on from there.
func (im *importing) move(src, dir string, root *os.Root, t *scan.Tree, before *exchange.Imported) (*exchange.Imported, error) {
	taken := before
	if taken == nil {
		taken = &exchange.Imported{Manifest: &manifest.Manifest{}, Attributes: manifest.NewAttributes()}
	}
	for from := 0; from < len(t.Entries); {
		to, bytes := from, int64(0)
		for ; to < len(t.Entries) && (to == from || bytes+t.Entries[to].Stamp.Size <= moveAtOnce); to++ {
			if t.Entries[to].Kind == scan.File {
				bytes += t.Entries[to].Stamp.Size
			}
		}
		batch := &scan.Tree{Entries: slices.Clone(t.Entries[from:to])}
		from = to
		session := im.l.Store.Begin()
		session.Share()
		err := batch.Read(im.ctx, root, scan.Request{Sink: session.Put, Skip: func(*scan.Entry) bool { return false }, Task: "Moving", Meter: im.l.Meter, Now: im.l.Now})
		if err == nil {
			err = im.findZeros(root, batch)
		}
		if err == nil {
			taken, err = im.over(taken, &exchange.Imported{Manifest: batch.Manifest(), Attributes: batch.Attributes()})
		}
		var note state.Moved
		if err == nil {
			note, err = describeMoved(im.ctx, session, src, dir, taken)
		}
		if err := errors.Join(err, session.Close()); err != nil {
			return nil, err
		}
		im.out.Stored += session.Added()
		if err := im.note(note); err != nil {
			return nil, err
		}
		if err := im.removeMoved(root, batch); err != nil {
			return nil, err
		}
	}
	return taken, nil
}

func describeMoved(ctx context.Context, session *store.Session, src, dir string, taken *exchange.Imported) (state.Moved, error) {
	note := state.Moved{Source: src, Folder: dir}
	var err error
	if note.Manifest, _, err = session.Put(ctx, strings.NewReader(string(taken.Manifest.Encode())), nil); err != nil {
		return note, err
	}
	note.Attributes, _, err = session.Put(ctx, strings.NewReader(string(taken.Attributes.Encode())), nil)
	return note, err
}

// note notes what is about to be removed from a source.
func (im *importing) note(n state.Moved) error {
	m, err := begunMoves(im.ctx, im.l)
	if err != nil {
		return err
	}
	m.Sources = append(slices.DeleteFunc(m.Sources, func(s state.Moved) bool { return s.Source == n.Source }), n)
	return im.l.Home.Begin(im.ctx, im.l.Game.Name, "", state.BegunImport, state.NewUID(), m)
}

// removeMoved removes files whose content is in the store, as long as they are as they were read.
func (im *importing) removeMoved(root *os.Root, batch *scan.Tree) error {
	for i := range batch.Entries {
		e := &batch.Entries[i]
		if e.Kind != scan.File {
			continue
		}
		if ok, err := im.l.Store.Has(im.ctx, e.Digest); err != nil {
			return err
		} else if !ok {
			return fmt.Errorf("%s: %w", e.Path, store.ErrMissing)
		}
		if _, stamp, err := scan.Look(root, e.Path); err != nil || stamp != e.Stamp {
			return fmt.Errorf("%w: %s changed while it was being read", ErrMove, e.Path)
		}
		if err := root.Remove(filepath.FromSlash(e.Path)); err != nil {
			return err
		}
		im.out.Moved += e.Stamp.Size
	}
	return nil
}

// endMoves forgets what has been moved, which the build has now, and removes folders that are empty.
func (im *importing) endMoves(ctx context.Context) error {
	if !im.Move {
		return nil
	}
	m, err := begunMoves(ctx, im.l)
	if err != nil {
		return err
	}
	for _, s := range im.Sources {
		src, err := filepath.Abs(s.Path)
		if err != nil {
			return err
		}
		m.Sources = slices.DeleteFunc(m.Sources, func(o state.Moved) bool { return o.Source == src })
	}
	if len(m.Sources) == 0 {
		err = im.l.Home.End(ctx, im.l.Game.Name, "", state.BegunImport)
	} else {
		err = im.l.Home.Begin(ctx, im.l.Game.Name, "", state.BegunImport, state.NewUID(), m)
	}
	for _, s := range im.Sources {
		err = errors.Join(err, removeEmpty(ctx, s.Path))
	}
	return err
}

// removeEmpty removes the empty folders in a folder.
func removeEmpty(ctx context.Context, dir string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	t, err := scan.Walk(ctx, root, rules.Rules{})
	if err != nil {
		return err
	}
	for i := len(t.Entries) - 1; i >= 0; i-- {
		if e := &t.Entries[i]; e.Kind == scan.Dir {
			root.Remove(filepath.FromSlash(e.Path)) //nolint:errcheck // one that is not empty stays
		}
	}
	return nil
}
