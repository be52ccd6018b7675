package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/damage"
	"morvant/internal/digest"
	"morvant/internal/estimate"
	"morvant/internal/exchange"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/record"
	"morvant/internal/layers"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// Source is a folder or an archive that a build is imported from.
type Source struct {
	Path      string
	Component string // the component that it is part of; empty: of the build as a whole
}

// Imports says what is imported, and how.
type Imports struct {
	Sources []Source // in order: where two have the same file, that of the later one counts
	Inside  string   // only this folder of each; ".": all of it, whatever it looks like
	Exclude []string // patterns of files that are left out
	Label   string
	Note    string
	Date    time.Time // when the build was released; zero: now
	DryRun  bool      // only find out what it would be
	Only    []string  // patterns of files that are taken alone; none: all
	Mods    bool      // it is a set of mods, and no build
	Overlay bool      // it is to be laid over a build, and none itself
	Fits    []string  // labels of builds that a set of mods is for
	Move    bool      // remove each file of a folder once it is in the store
	Ask     Asked
}

// Asked answers what an import has to ask about. An error ends the import.
type Asked struct {
	// Nested: only a folder of the source resembles the game. Is that to be taken alone?
	Nested func(source, folder string) error
	// Hidden: folders at the top that no known build has. Are they to be kept?
	Hidden func(source string, folders []string) (keep bool, err error)
	// Unlike: something is odd about the whole. Is it to be recorded all the same?
	Unlike func(identify.Doubt) error
	// Suspect: files of it are empty or zeros and were not in the last good build. Is it to be recorded, in doubt?
	Suspect func(why string) error
	// Cost: the files of the folders, in bytes, and by how much the store grows at most.
	Cost func(files int, bytes, grows, shared int64)
	// Password of an archive, again if that was wrong.
	Password func(source string, again bool) (string, error)
}

// Import is what was imported.
type Import struct {
	*state.Build
	Overlaps int      // files that several sources have
	Replaced []string // of these, those with different content: the later source counts
	Excluded int      // files left out by patterns
	Odd      []scan.Oddity
	Stored   int64 // bytes that the store grew by
	Moved    int64 // bytes of files that were removed from the source
}

// ImportBuild records what folders and archives hold, as one build. Nothing in a lane's folder is
// touched.
func ImportBuild(ctx context.Context, l *lane.Lane, from Imports) (*Import, error) {
	label, err := record.LabelOrNext(ctx, l, from.Label)
	if err != nil {
		return nil, err
	}
	if err := checkSources(ctx, l, from); err != nil {
		return nil, err
	}
	im := &importing{Imports: from, ctx: ctx, l: l, session: l.Store.Begin(), exclude: l.Game.Rules().Set(from.Exclude), zeros: make(map[digest.Digest]bool)}
	im.only = l.Game.Rules().Set(from.Only)
	im.out.Build = &state.Build{UID: state.NewUID(), Game: l.Game.Name, Label: label, Note: from.Note, Made: from.Date}
	if im.out.Fragment = from.Mods || from.Overlay; im.out.Fragment {
		im.Ask.Unlike, im.Ask.Hidden = nil, nil
	}
	if from.Mods {
		im.out.Channel, im.out.Fits = state.ModsLine, from.Fits
		if im.Inside == "" {
			im.Inside = "."
		}
	}
	if from.Date.IsZero() {
		im.out.Made = l.Now()
	}
	err = im.run()
	if err := errors.Join(err, im.session.Close()); err != nil || from.DryRun {
		return &im.out, err
	}
	im.out.Stored += im.session.Added()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx)
	if err := l.Home.AddBuild(ctx, im.out.Build); err != nil {
		return nil, err
	}
	return &im.out, im.endMoves(ctx)
}

func checkSources(ctx context.Context, l *lane.Lane, from Imports) error {
	if err := (rules.Rules{Keep: slices.Concat(from.Exclude, from.Only)}).Check(); err != nil {
		return err
	}
	for _, s := range from.Sources {
		info, err := os.Stat(s.Path)
		if err != nil {
			return err
		}
		if s.Component != "" {
			if err := catalogue.CheckName(s.Component); err != nil {
				return err
			}
		}
		if !from.Move {
			continue
		}
		if !info.IsDir() {
			return fmt.Errorf("%w: %s is a file; only folders can be moved", ErrMove, s.Path)
		}
		switch g, at, err := l.Home.Holding(ctx, s.Path); {
		case err != nil:
			return err
		case g != nil:
			return fmt.Errorf("%w: %s lies in lane %s of %s", ErrMove, s.Path, at.Name, g.Name)
		}
	}
	return nil
}

// importing is one import under way.
type importing struct {
	Imports
	ctx     context.Context
	l       *lane.Lane
	session *store.Session
	exclude *rules.Set
	only    *rules.Set
	known   []identify.Known
	paths   map[string]bool // of known builds and of the folder
	out     Import
	since   *damage.Found // of a build: the last good one; nil: there is none
	good    *manifest.Manifest
	zeros   map[digest.Digest]bool // contents that are nothing else
	sharing *bool                  // the store can share content with the disk of the source; nil: not tried yet
}

func (im *importing) run() error {
	var err error
	if im.known, err = compose.Known(im.ctx, im.l.Home, im.l.Store, im.l.Game); err != nil {
		return err
	}
	if im.paths, err = gamePaths(im.ctx, im.l, im.known); err != nil {
		return err
	}
	if !im.out.Fragment {
		if im.since, im.good, err = record.SinceGood(im.ctx, im.l); err != nil {
			return err
		}
	}
	parts := make(map[string]*exchange.Imported)
	var names []string
	for _, s := range im.Sources {
		in, err := im.read(s)
		if err != nil {
			return err
		}
		name := s.Component
		if name == "" && im.composed() {
			name = baseComponent
		}
		if parts[name] == nil {
			names = append(names, name)
			parts[name] = in
		} else if parts[name], err = im.over(parts[name], in); err != nil {
			return err
		}
	}
	whole := parts[names[0]]
	for _, name := range names[1:] {
		if whole, err = im.over(whole, parts[name]); err != nil {
			return err
		}
	}
	whole.Manifest = whole.Manifest.Without(func(p string) bool { return !im.wants(p) })
	if im.Overlay && len(whole.Manifest.Files) == 0 {
		return fmt.Errorf("%w: no file in %s matches", layers.ErrOverlay, im.Sources[0].Path)
	}
	if im.Mods && len(whole.Manifest.Files) == 0 {
		return ErrNoMods
	}
	slices.Sort(im.out.Replaced)
	im.out.Replaced = slices.Compact(im.out.Replaced)
	im.out.Files, im.out.Bytes, im.out.Build.Manifest = len(whole.Manifest.Files), whole.Manifest.Bytes(), whole.Manifest.Digest()
	if whole.Private > 0 {
		im.l.Meter.Warn(fmt.Sprintf("%s in it is Morvant's own, of the folder that it was made of, and is left out", manifest.PrivateDir))
	}
	if n := len(whole.Lost); n > 0 {
		few := []string{}
		for _, l := range whole.Lost[:min(n, 3)] {
			few = append(few, l.Path+" to "+l.Target)
		}
		im.l.Meter.Warn(fmt.Sprintf("links to what is outside of the part that is taken are left out: %d, such as %s", n, strings.Join(few, ", ")))
	}
	if d := identify.Doubts(whole.Manifest, im.known, im.paths, im.l.Game.Rules().Fold); !d.None() && im.Ask.Unlike != nil {
		if err := im.Ask.Unlike(d); err != nil {
			return err
		}
	}
	if err := im.suspect(whole.Manifest); err != nil {
		return err
	}
	return im.describe(whole, names, parts)
}

// suspect compares what has been read with the last good build. That it has fewer files is no damage: it may be a much older one.
func (im *importing) suspect(m *manifest.Manifest) error {
	if im.since == nil {
		return nil
	}
	im.since.CompareLists(im.good, m, record.Theirs(im.l), im.zeros)
	im.since.Gone = 0
	if im.out.Doubt = im.since.String(); im.out.Doubt == "" || im.Ask.Suspect == nil {
		return nil
	}
	return im.Ask.Suspect(im.out.Doubt)
}

// baseComponent is the component of sources for which none is named, where others have one.
const baseComponent = "base"

// composed reports whether the build is made of components.
func (im *importing) composed() bool {
	return slices.ContainsFunc(im.Sources, func(s Source) bool { return s.Component != "" })
}

// describe puts into the store what describes the build.
func (im *importing) describe(whole *exchange.Imported, names []string, parts map[string]*exchange.Imported) error {
	b := im.out.Build
	if im.composed() {
		slices.Sort(names)
		for _, name := range names {
			// Files that a later component replaces are in that one alone.
			m := parts[name].Manifest
			m = m.Without(func(p string) bool {
				f, ok := m.File(p)
				is, there := whole.Manifest.File(p)
				return ok && (!there || is.Digest != f.Digest)
			})
			b.Components = append(b.Components, catalogue.Part{Name: name, Manifest: m.Digest(), Files: len(m.Files), Bytes: m.Bytes()})
			if im.DryRun {
				continue
			}
			if _, _, err := im.session.Put(im.ctx, strings.NewReader(string(m.Encode())), nil); err != nil {
				return err
			}
		}
		b.Channel = state.ImportedLine
		*b = *b.With(names)
	}
	if im.DryRun {
		return nil
	}
	return compose.Describe(im.ctx, im.l, im.session, b, whole.Manifest.Encode(), whole.Attributes.Encode())
}

// read reads one source.
func (im *importing) read(s Source) (*exchange.Imported, error) {
	info, err := os.Stat(s.Path)
	if err != nil {
		return nil, err
	}
	var in *exchange.Imported
	if bag, bagErr := exchange.IsBag(s.Path); info.IsDir() && bagErr == nil && !bag {
		in, err = im.folder(s.Path)
	} else {
		in, err = im.archive(s.Path)
	}
	if err != nil {
		return nil, err
	}
	if in.Manifest = im.without(in.Manifest); len(in.Manifest.Files)+len(in.Manifest.Links) == 0 {
		return nil, fmt.Errorf("%s: %w", s.Path, ErrNothing)
	}
	return in, nil
}

// without leaves out what patterns exclude.
func (im *importing) without(m *manifest.Manifest) *manifest.Manifest {
	out := m.Without(im.exclude.Match)
	im.out.Excluded += len(m.Files) - len(out.Files)
	return out
}

func (im *importing) sink() exchange.Sink {
	if !im.DryRun {
		return im.session.Put
	}
	return exchange.Sink(scan.Hash())
}

func (im *importing) archive(src string) (*exchange.Imported, error) {
	sink := im.sink()
	i := &exchange.Import{Inside: im.Inside, Sink: func(ctx context.Context, r io.Reader, read func(int)) (digest.Digest, int64, error) {
		z := &damage.Zeros{Reader: r}
		d, n, err := sink(ctx, z, read)
		im.zeros[d] = z.Only()
		return d, n, err
	}, Meter: im.l.Meter, Doubles: !im.l.DiskIgnoresCase(), Self: im.l.Feed.Self}
	if im.Ask.Password != nil {
		i.Password = func(again bool) (string, error) { return im.Ask.Password(src, again) }
	}
	in, err := i.Read(im.ctx, src)
	if err != nil {
		return nil, err
	}
	if im.Inside == "" {
		switch folder, nested, err := im.nested(src, in.Manifest); {
		case err != nil:
			return nil, err
		case nested:
			in = in.In(folder)
		}
	}
	return in, im.hidden(src, in.Manifest)
}

// nested finds out whether only a folder of a source is to be taken.
func (im *importing) nested(src string, m *manifest.Manifest) (folder string, nested bool, err error) {
	if len(im.paths) == 0 {
		return "", false, nil
	}
	folder, _ = identify.Resembles(m, im.paths, im.l.Game.Rules().Fold)
	if folder == "" || im.Ask.Nested == nil {
		return "", false, nil
	}
	return folder, true, im.Ask.Nested(src, folder)
}

// hidden asks about hidden folders at the top that no known build has, and leaves them out.
func (im *importing) hidden(src string, m *manifest.Manifest) error {
	known := make(map[string]bool)
	for p := range im.paths {
		top, _, _ := strings.Cut(p, "/")
		known[top] = true
	}
	var list []string
	for _, f := range m.Files {
		top, _, inside := strings.Cut(f.Path, "/")
		if inside && strings.HasPrefix(top, ".") && !known[im.l.Game.Rules().Fold(top)] && !im.exclude.Match(f.Path) && !slices.Contains(list, top) {
			list = append(list, top)
		}
	}
	if len(list) == 0 || im.Ask.Hidden == nil {
		return nil
	}
	keep, err := im.Ask.Hidden(src, list)
	if keep || err != nil {
		return err
	}
	for _, top := range list {
		im.Exclude = append(im.Exclude, rules.Literal(top)+"/**", rules.Literal(top))
	}
	im.exclude = im.l.Game.Rules().Set(im.Exclude)
	return nil
}

// folder reads a plain folder.
func (im *importing) folder(dir string) (*exchange.Imported, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	src := dir
	before, moved, err := im.moved(src)
	if err != nil {
		return nil, err
	}
	if before != nil {
		in, _, err := im.tree(src, before.Folder, moved)
		return in, err
	}
	if im.Inside != "" && im.Inside != "." {
		dir = filepath.Join(dir, filepath.FromSlash(im.Inside))
	}
	for {
		in, folder, err := im.tree(src, dir, nil)
		if err != nil || folder == "" {
			return in, err
		}
		dir = filepath.Join(dir, filepath.FromSlash(folder))
	}
}

// tree reads a folder; or says which folder of it is to be read instead. before is what an earlier
// run has moved out of it.
func (im *importing) tree(src, dir string, before *exchange.Imported) (in *exchange.Imported, instead string, err error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, "", err
	}
	defer root.Close()
	t, err := scan.Walk(im.ctx, root, rules.Rules{})
	if err != nil {
		return nil, "", err
	}
	im.sharing = nil
	im.session.Share() // what could not be shared of another source says nothing of this one
	listed := t.Manifest()
	if im.Inside == "" && dir == src && before == nil {
		folder, nested, err := im.nested(src, listed)
		if err != nil || nested {
			return nil, folder, err
		}
	}
	if err := im.hidden(src, listed); err != nil {
		return nil, "", err
	}
	files := func() (n int) {
		for i := range t.Entries {
			if t.Entries[i].Kind == scan.File {
				n++
			}
		}
		return n
	}
	n := files()
	t.Entries = slices.DeleteFunc(t.Entries, func(e scan.Entry) bool { return im.exclude.Match(e.Path) })
	if len(im.Only) > 0 {
		t.Entries = slices.DeleteFunc(t.Entries, func(e scan.Entry) bool { return e.Kind != scan.File || !im.wants(e.Path) })
		if n = files(); n == 0 && im.Mods {
			return nil, "", ErrNoMods
		}
	}
	im.out.Excluded += n - files()
	if err := record.Recordable(t); err != nil {
		return nil, "", err
	}
	for _, o := range t.Odd {
		if im.wants(o.Path) {
			im.out.Odd = append(im.out.Odd, o)
		}
	}
	record.WarnOfDates(im.l, t)
	if err := im.l.Cache.Recall(im.ctx, dir, t); err != nil {
		return nil, "", err
	}
	stored, err := im.stored(t)
	if err != nil {
		return nil, "", err
	}
	if err := im.cost(root, t, stored); err != nil {
		return nil, "", err
	}
	if im.Move && !im.DryRun {
		in, err = im.move(src, dir, root, t, before)
		return in, "", err
	}
	skip := func(e *scan.Entry) bool { return e.Known && (im.DryRun || stored[e]) }
	err = t.Read(im.ctx, root, scan.Request{Sink: scan.Sink(im.sink()), Skip: skip, Task: "Reading", Meter: im.l.Meter, Now: im.l.Now})
	err = errors.Join(err, im.l.Cache.Remember(context.WithoutCancel(im.ctx), dir, t))
	if err = errors.Join(err, im.findZeros(root, t)); err != nil {
		return nil, "", err
	}
	in = &exchange.Imported{Manifest: t.Manifest(), Attributes: t.Attributes()}
	if before != nil {
		in, err = im.over(before, in)
	}
	return in, "", err
}

// findZeros notes which files of a folder, other than those of the last good build, are nothing but zeros.
func (im *importing) findZeros(root *os.Root, t *scan.Tree) error {
	if im.since == nil {
		return nil
	}
	for i := range t.Entries {
		e := &t.Entries[i]
		if was, there := im.good.File(e.Path); !there || e.Kind != scan.File || e.Digest == was.Digest {
			continue
		}
		blank, err := damage.ZerosAt(im.ctx, root, e.Path)
		if err != nil {
			return err
		}
		im.zeros[e.Digest] = blank
	}
	return nil
}

// stored tells which files are known to be in the store.
func (im *importing) stored(t *scan.Tree) (map[*scan.Entry]bool, error) {
	stored := make(map[*scan.Entry]bool)
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File || !e.Known {
			continue
		}
		has, err := im.l.Store.Has(im.ctx, e.Digest)
		if err != nil {
			return nil, err
		}
		stored[e] = has
	}
	return stored, nil
}

// cost says what the import of a folder takes, before it begins, and refuses what has no room.
func (im *importing) cost(root *os.Root, t *scan.Tree, stored map[*scan.Entry]bool) error {
	var sources []estimate.Source
	var bytes, shared int64
	n := 0
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File {
			continue
		}
		n++
		bytes += e.Stamp.Size
		switch {
		case stored[e]:
		case e.Stamp.Size >= store.ShareFrom && im.shares(root, e):
			shared += e.Stamp.Size
		default:
			sources = append(sources, record.FileSource(root, e))
		}
	}
	grows, err := estimate.Of(im.ctx, im.l.Store, sources)
	if err != nil {
		return err
	}
	if im.Ask.Cost != nil {
		im.Ask.Cost(n, bytes, grows, shared)
	}
	if im.DryRun || im.Move {
		return nil
	}
	return volume.CheckFree(im.l.Store.Dir(), grows)
}

// wants reports whether a file is among those that are taken alone.
func (im *importing) wants(p string) bool { return len(im.Only) == 0 || im.only.Match(p) }

// shares reports whether the store can share the content of a file with the disk that it lies on.
func (im *importing) shares(root *os.Root, e *scan.Entry) bool {
	if im.sharing == nil {
		can := false
		if f, err := scan.OpenFile(root, e.Path); err == nil {
			can = im.l.Store.CanShare(f)
			f.Close()
		}
		im.sharing = &can
	}
	return *im.sharing
}

// over lays what a later source has over what earlier ones have.
func (im *importing) over(under, top *exchange.Imported) (*exchange.Imported, error) {
	spelled := func(p string) string { return p }
	if im.l.DiskIgnoresCase() || im.l.Game.IgnoreCase {
		spelled = plan.SpellingOf(plan.FromManifest(under.Manifest, nil)).Of
	}
	out := &exchange.Imported{Attributes: under.Attributes.Clone(), Private: under.Private + top.Private, Lost: slices.Concat(under.Lost, top.Lost)}
	next := &manifest.Manifest{}
	taken := make(map[string]bool)
	holds := make(map[string]bool)
	place := func(p string) string {
		as := spelled(p)
		taken[as] = true
		for d := path.Dir(as); d != "."; d = path.Dir(d) {
			holds[d] = true
		}
		return as
	}
	for _, f := range top.Manifest.Files {
		from := f.Path
		f.Path = place(from)
		if was, twice := under.Manifest.File(f.Path); twice {
			im.out.Overlaps++
			if was.Digest != f.Digest {
				im.out.Replaced = append(im.out.Replaced, f.Path)
			}
		}
		out.Attributes.Files[f.Path] = top.Attributes.Files[from]
		next.Files = append(next.Files, f)
	}
	for _, link := range top.Manifest.Links {
		link.Path = place(link.Path)
		next.Links = append(next.Links, link)
	}
	for _, d := range top.Manifest.EmptyDirs {
		next.EmptyDirs = append(next.EmptyDirs, spelled(d))
	}
	next.Sort()
	rest := under.Manifest.Without(func(p string) bool {
		for d := p; d != "."; d = path.Dir(d) {
			if taken[d] {
				return true
			}
		}
		return holds[p]
	})
	var err error
	out.Manifest, err = manifest.Merge(rest, next)
	return out, err
}

// Doubts says what is odd about a folder that is to be a lane of the game of another.
func Doubts(ctx context.Context, l *lane.Lane, dir string) (identify.Doubt, error) {
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return identify.Doubt{}, err
	}
	paths, err := gamePaths(ctx, l, known)
	if err != nil {
		return identify.Doubt{}, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return identify.Doubt{}, err
	}
	defer root.Close()
	t, err := scan.Walk(ctx, root, l.Game.Rules())
	if err != nil {
		return identify.Doubt{}, err
	}
	return identify.Doubts(t.Manifest(), known, paths, l.Game.Rules().Fold), nil
}

// gamePaths lists the paths of files of known builds, and of the lane's folder.
func gamePaths(ctx context.Context, l *lane.Lane, known []identify.Known) (map[string]bool, error) {
	paths := identify.Paths(known, l.Game.Rules().Fold)
	if l.Root == nil {
		return paths, nil
	}
	t, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	for p := range identify.Paths([]identify.Known{{Parts: []identify.Part{{Manifest: t.Manifest()}}}}, l.Game.Rules().Fold) {
		paths[p] = true
	}
	return paths, nil
}
