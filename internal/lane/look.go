package lane

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/plan"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// unblockedModes gives files that a block has made read-only the modes that they
// have without it: a block is no change of the lane.
func (l *Lane) unblockedModes(ctx context.Context, t *scan.Tree) error {
	holds, err := l.Home.Applied(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	for _, h := range holds {
		for p, found := range h.Modes {
			if e := t.Entry(p); e != nil && e.Kind == scan.File && e.Mode == found.Perm&^0o222 {
				e.Mode, e.Worn = found.Perm, e.Mode
			}
		}
	}
	return nil
}

// Look walks the folder and reads what changed since the last look. limit, if
// positive, is how many bytes to read at most; larger files are left unread.
func (l *Lane) Look(ctx context.Context, limit int64) (*scan.Tree, error) {
	return l.look(ctx, limit, nil)
}

// Glance is Look where files that may not be read, or keep changing, stay unread.
func (l *Lane) Glance(ctx context.Context, limit int64) (*scan.Tree, error) {
	return l.look(ctx, limit, func(*scan.Entry) bool { return true })
}

func (l *Lane) look(ctx context.Context, limit int64, spare func(*scan.Entry) bool) (*scan.Tree, error) {
	t, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	if err := l.Read(ctx, t, scan.Request{Sink: scan.Hash(), Limit: limit, Task: "Reading", Spare: spare}); err != nil {
		return nil, err
	}
	return t, nil
}

// Walk lists the folder and fills in what is remembered.
func (l *Lane) Walk(ctx context.Context) (*scan.Tree, error) {
	t, err := scan.Walk(ctx, l.Root, l.Game.Rules())
	if err != nil {
		return nil, err
	}
	is, err := l.Home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, err
	}
	shared := make(map[string]bool)
	for _, s := range is.Shares {
		shared[s.Path] = true
	}
	t.AdmitLinks(shared)
	if l.IgnoresCase() {
		t.IgnoreCase()
	}
	if err := l.Cache.Recall(ctx, l.CacheKey(), t); err != nil {
		return nil, err
	}
	if err := l.Cache.Others(ctx, l.CacheKey(), t, l.Names()); err != nil {
		return nil, err
	}
	if err := l.Cache.Restless(ctx, l.CacheKey(), t); err != nil {
		return nil, err
	}
	return t, l.unblockedModes(ctx, t)
}

// Names finds the other names of the lane's files in the folders that mods are linked from. Each is
// walked at most once.
func (l *Lane) Names() *scan.Names {
	if l.names == nil || !slices.Equal(l.names.Folders, l.Game.ModsFrom) {
		l.names = &scan.Names{Folders: l.Game.ModsFrom}
	}
	return l.names
}

// LookAt walks a folder elsewhere by the lane's rules and reads what changed since the last look at it. Nothing
// is written into it.
func (l *Lane) LookAt(ctx context.Context, root *os.Root, dir string) (*scan.Tree, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	t, err := scan.Walk(ctx, root, l.Game.Rules())
	if err != nil {
		return nil, err
	}
	if err := l.Cache.Recall(ctx, dir, t); err != nil {
		return nil, err
	}
	err = t.Read(ctx, root, scan.Request{Sink: scan.Hash(), Task: "Reading", Meter: l.Meter, Now: l.Now})
	return t, errors.Join(err, l.Cache.Remember(context.WithoutCancel(ctx), dir, t))
}

// Read reads files of the tree and remembers what it found, also when it is
// interrupted: nothing is read twice.
func (l *Lane) Read(ctx context.Context, t *scan.Tree, q scan.Request) error {
	q.Meter, q.Now = l.Meter, l.Now
	foreign := unseenOf(l, t)
	q.Sink = foreign.learning(q.Sink)
	err := t.Read(ctx, l.Root, q)
	if l.Strange != "" {
		return err // what is remembered is about another folder
	}
	if err == nil {
		err = foreign.learn(ctx, t)
	}
	ctx = context.WithoutCancel(ctx)
	if l.Passive {
		return err
	}
	return errors.Join(err, l.noteGone(ctx, t), l.Cache.Remember(ctx, l.CacheKey(), t))
}

// IgnoresCase reports whether names that differ by letter case only are one: to the game, or to the disk.
func (l *Lane) IgnoresCase() bool { return l.Game.IgnoreCase || l.DiskIgnoresCase() }

// DiskIgnoresCase finds out whether the folder does, with the marker as probe; without one
// it is taken to be as folders usually are.
func (l *Lane) DiskIgnoresCase() bool {
	ignores, err := volume.IgnoresCase(l.Root, MarkerFile, strings.ToUpper(MarkerFile))
	if err != nil {
		return volume.UsualFold("A") == volume.Fold("A")
	}
	return ignores
}

// Spelling returns how the folder spells its paths; nil if letter case counts there.
func (l *Lane) Spelling(here plan.State) *plan.Spelling {
	if !l.IgnoresCase() {
		return nil
	}
	sp := plan.SpellingOf(here)
	sp.Doubles = !l.DiskIgnoresCase()
	return sp
}

// CacheKey names the lane for what is remembered of its files.
func (l *Lane) CacheKey() string { return state.CacheKey(l.Game.Name, l.Name) }

// AllRead reports whether the content of every file of a tree is known.
func AllRead(t *scan.Tree) bool {
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == scan.File && !e.Known {
			return false
		}
	}
	return true
}
