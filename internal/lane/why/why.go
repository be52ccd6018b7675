// Package why explains files of a lane: whose each is and by which rule or layer, what would be there without it, which known
// builds have exactly these bytes, and when it last changed.
package why

import (
	"context"
	"os"
	"path/filepath"
	"slices"

	"morvant/internal/lane"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/layers"
	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// Reason is one layer at a path, and what it has there.
type Reason struct {
	By   string
	Kind layers.Kind
	Node plan.Node // without a kind: nothing is to be there
}

// File is what there is to say of one file.
type File struct {
	Path  string
	Here  plan.Node // without a kind: it is not there
	Owner layers.Owner
	// Chain are the layers at the path, the one that counts first: each lies over the next.
	Chain []Reason
	// Builds are known builds that have exactly these bytes at the path, the newest first.
	Builds []*state.Build
	// Last is the last change by Morvant that touched the file; nil: none did.
	Last *state.Change
}

// Of explains files of a lane, by their paths in it.
func Of(ctx context.Context, l *lane.Lane, paths []string) ([]*File, error) {
	tree, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	spelling := l.Spelling(plan.FromTree(tree))
	asked := make(map[string]bool)
	for i, p := range paths {
		paths[i] = spelling.Of(p)
		asked[paths[i]] = true
	}
	if err := l.Read(ctx, tree, scan.Request{Sink: scan.Hash(), Task: "Reading", Skip: func(e *scan.Entry) bool { return e.Known || !asked[e.Path] }}); err != nil {
		return nil, err
	}
	have := slices.DeleteFunc(plan.FromTree(tree), func(e plan.Entry) bool { return !asked[e.Path] })
	_, held, err := compose.Pinned(ctx, l)
	if err != nil {
		return nil, err
	}
	known, err := compose.GroundAt(ctx, l, held, paths)
	if err != nil {
		return nil, err
	}
	var list []*File
	for _, p := range paths {
		f := &File{Path: p}
		if is, there := have.Get(p); there {
			f.Here = is
		} else if info, err := os.Lstat(filepath.Join(l.Dir, filepath.FromSlash(p))); err == nil && info.Mode().IsRegular() {
			f.Here = plan.Node{Kind: plan.File, Size: info.Size()} // scratch
		}
		f.Owner = known.Of(p, f.Here)
		f.Builds = known.Builds(f.Owner)
		for at := f.Owner.Piece; at != nil; at = at.Under {
			f.Chain = append(f.Chain, Reason{at.Layer.Name(), at.Layer.Kind(), at.Node})
		}
		list = append(list, f)
	}
	return list, lastChanges(ctx, l, list)
}

// lastChanges finds the last change that touched each of the files.
func lastChanges(ctx context.Context, l *lane.Lane, list []*File) error {
	history, err := l.Home.History(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	left := len(list)
	for _, c := range history {
		if left == 0 {
			break
		}
		steps, err := change.StepsOf(ctx, l, c)
		if err != nil {
			return err
		}
		touched := make(map[string]bool, len(steps))
		for i := range steps {
			touched[steps[i].Path] = touched[steps[i].Path] || steps[i].Displaces() || steps[i].Places()
		}
		for _, f := range list {
			if f.Last == nil && touched[f.Path] {
				f.Last = c
				left--
			}
		}
	}
	return nil
}

// Conflict is a file that several overlays or sets of mods of a pin give: the last of them counts.
type Conflict struct {
	Path string
	By   []string // the one that counts first
}

// Conflicts lists the files that several overlays or sets of mods of the lane's pin give, with different content.
func Conflicts(ctx context.Context, l *lane.Lane) ([]Conflict, error) {
	_, held, err := compose.Pinned(ctx, l)
	if err != nil || held == nil {
		return nil, err
	}
	var list []Conflict
	for _, p := range held.Sheet.Pieces() {
		c := Conflict{Path: p.Path}
		differ := false
		for at := p; at != nil; at = at.Under {
			if kind := at.Layer.Kind(); kind == layers.OfMods || kind == layers.OfOverlay {
				c.By = append(c.By, at.Layer.Name())
				differ = differ || at.Node.Digest != p.Node.Digest
			}
		}
		if len(c.By) > 1 && differ {
			list = append(list, c)
		}
	}
	return list, nil
}
