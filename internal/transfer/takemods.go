package transfer

import (
	"context"
	"errors"
	"fmt"
	"os"

	"morvant/internal/exchange"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/modlist"
	"morvant/internal/problem"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// ErrModsMissing is returned where not every file of a list of mods is here.
var ErrModsMissing = problem.New("not all of the mods are here", "Nothing was recorded. Name a folder or an archive that has the rest, with --from")

// TakenMods is what became of a list of mods.
type TakenMods struct {
	*state.Build
	Stored  int64    // bytes that the store grew by
	Missing []string // files that are nowhere here
	Over    []string // files that known builds have, too
}

// TakeMods puts a set of mods together from a list: from what is in the store, in the lane, and in folders and
// archives. Only files that the list names are taken, whatever they are called there.
func TakeMods(ctx context.Context, l *lane.Lane, list *modlist.List, name string, sources []string) (*TakenMods, error) {
	m := list.Manifest()
	out := &TakenMods{}
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return nil, err
	}
	fold := l.Game.Rules().Fold
	built := identify.Paths(known, fold)
	for _, f := range m.Files {
		if built[fold(f.Path)] {
			out.Over = append(out.Over, f.Path)
		}
	}
	session := l.Store.Begin()
	t := &taking{ctx: ctx, l: l, session: session, sizes: make(map[int64]bool)}
	for _, f := range m.Files {
		t.sizes[f.Size] = true
	}
	err = t.folder(l.Dir, l.Game.Rules())
	for _, src := range sources {
		if err == nil {
			err = t.source(src)
		}
	}
	if err := errors.Join(err, session.Close()); err != nil {
		return nil, err
	}
	out.Stored = session.Added()
	if out.Missing, err = t.missing(m); err != nil || len(out.Missing) > 0 {
		if err == nil {
			err = fmt.Errorf("%w: %d of %d files, such as %s", ErrModsMissing, len(out.Missing), len(m.Files), out.Missing[0])
		}
		return out, err
	}
	b := &state.Build{UID: state.NewUID(), Game: l.Game.Name, Label: name, Note: list.Note, Made: l.Now(), Channel: state.ModsLine, Fragment: true, Fits: list.Fits, Files: len(m.Files), Bytes: m.Bytes()}
	describing := l.Store.Begin()
	err = compose.Describe(ctx, l, describing, b, m.Encode(), manifest.NewAttributes().Encode())
	if err := errors.Join(err, describing.Close()); err != nil {
		return nil, err
	}
	out.Build = b
	return out, l.Home.AddBuild(context.WithoutCancel(ctx), b)
}

// taking gathers files by their content.
type taking struct {
	ctx     context.Context
	l       *lane.Lane
	session *store.Session
	sizes   map[int64]bool // of files that are wanted
}

func (t *taking) source(src string) error {
	info, err := os.Stat(src)
	if err != nil {
		return err
	}
	if info.IsDir() {
		return t.folder(src, rules.Rules{})
	}
	i := &exchange.Import{Inside: ".", Sink: t.session.Put, Meter: t.l.Meter, Self: t.l.Feed.Self}
	_, err = i.Read(t.ctx, src)
	return err
}

// folder takes the files of a folder that have the size of one that is wanted.
func (t *taking) folder(dir string, r rules.Rules) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	tree, err := scan.Survey(t.ctx, root, r)
	if err != nil {
		return err
	}
	return tree.Read(t.ctx, root, scan.Request{
		Sink: t.session.Put, Task: "Looking for mods", Meter: t.l.Meter, Now: t.l.Now, Tolerant: true,
		Skip:  func(e *scan.Entry) bool { return !t.sizes[e.Stamp.Size] },
		Spare: func(*scan.Entry) bool { return true },
	})
}

// missing lists the files whose content is not in the store.
func (t *taking) missing(m *manifest.Manifest) ([]string, error) {
	lacks, err := t.l.Store.Lacks(t.ctx, compose.Contents(m))
	if err != nil {
		return nil, err
	}
	var list []string
	for _, f := range m.Files {
		if lacks[f.Digest] {
			list = append(list, f.Path)
		}
	}
	return list, nil
}
