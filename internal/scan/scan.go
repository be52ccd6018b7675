// Package scan looks at a folder: it walks it, reads what changed since the last
// look and says what it holds, as a manifest with times and modes.
//
// Links are leaves: they are listed, never followed. Everything is reached
// through os.Root, so no path leads out of the folder. Nothing is written.
package scan

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
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/rules"
	"morvant/internal/volume"
)

// Kind says what an entry of a folder is.
type Kind uint8

// The kinds that a lane can hold.
const (
	File Kind = iota
	Dir
	Link
)

// Stamp tells whether a file was touched: if it is the same, so is the content,
// but for what Racy says.
type Stamp struct {
	Size  int64
	MTime int64 // nanoseconds since 1970
	CTime int64 // time of the last change of any kind, where the system has one
	Dev   uint64
	Ino   uint64
}

// Look says what is at p below root, a link itself and not what it leads to.
func Look(root *os.Root, p string) (fs.FileMode, Stamp, error) { return look(root, p) }

// Racy reports whether the file was touched so close to the time of a look that
// a later touch could have left the same stamp.
func (s Stamp) Racy(looked time.Time) bool {
	near := func(t int64, window time.Duration) bool {
		d := looked.Sub(time.Unix(0, t))
		return d <= window && d >= -window
	}
	return near(s.MTime, coarsestClock) || s.CTime != 0 && near(s.CTime, changeClock)
}

const (
	// coarsestClock is the resolution of file times on FAT, the coarsest in use.
	coarsestClock = 2 * time.Second
	// changeClock is more than a tick of any kernel clock that sets change times.
	changeClock = 20 * time.Millisecond
)

// ChangeClock is how long after a change a look must come to be told apart from
// the change itself.
func ChangeClock() time.Duration { return changeClock + time.Millisecond }

// Entry is a file, a folder or a link.
type Entry struct {
	Path   string
	Kind   Kind
	Mode   fs.FileMode // permission bits
	Worn   fs.FileMode // the ones that it has now, where a block has changed them and Mode are its own; 0: they are
	Stamp  Stamp
	Target string        // of a link
	Out    bool          // of a link: it leads out of the folder; see AdmitLinks
	Digest digest.Digest // of a file, if Known
	Known  bool          // the content was read, now or with the same stamp before
	Looked time.Time     // when the content was read
	Away   bool          // the content is kept elsewhere, and comes here when it is read
	// Changes is at how many looks in a row a large file had changed, and Alone says that it did so without
	// others at the last of them; see Cache.Restless.
	Changes int
	Alone   bool
	Names   int // of a file: how many it has, here and elsewhere
	// Other is the name that the file has outside of the folder, as far as Cache.Others knows of one.
	Other manifest.Other
}

// away marks, in the mode of a file that was looked at, that its content is kept
// elsewhere.
const away = fs.ModeTemporary

// Attribute returns the entry's time and mode.
func (e *Entry) Attribute() manifest.Attribute {
	return manifest.Attribute{Mode: e.Mode, MTime: time.Unix(0, e.Stamp.MTime)}
}

// Oddity is something in the folder that a manifest cannot hold. Morvant leaves
// it alone.
type Oddity struct {
	Path string
	What string // "a socket", "a link that leads out of the folder"
	Name bool   // the name itself is the trouble, so content is being left out
	// Target is where a link that leads out of the folder leads; empty: it is none, or nobody can tell.
	Target string
	Unread bool // it is a file like others, which could not be read
}

// Tree is what a folder held when it was walked.
type Tree struct {
	Entries []Entry // sorted by path
	Odd     []Oddity
	Unread  []Oddity // files that could not be read, or kept changing, and could do without; see Request.Spare

	spelled map[string]string // of a folder that ignores case: each path by its Fold
	late    []Entry           // put since the walk, where nothing was; for what is remembered
	// Scratch are folders that scratch rules are about: what is in them is nobody's, they themselves a game may need. A manifest
	// of the tree does not have them; its attributes do.
	Scratch []Entry
}

// IgnoreCase makes Entry find a path in any spelling.
func (t *Tree) IgnoreCase() {
	t.spelled = make(map[string]string, len(t.Entries))
	for i := range t.Entries {
		p := t.Entries[i].Path
		t.spelled[volume.Fold(p)] = p
	}
}

// Entry returns the entry at p, or nil.
func (t *Tree) Entry(p string) *Entry {
	at := func(p string) (int, bool) {
		return slices.BinarySearchFunc(t.Entries, p, func(e Entry, p string) int { return strings.Compare(e.Path, p) })
	}
	i, ok := at(p)
	if !ok && t.spelled != nil {
		i, ok = at(t.spelled[volume.Fold(p)])
	}
	if !ok {
		return nil
	}
	return &t.Entries[i]
}

// Put notes what an entry has become since the walk.
func (t *Tree) Put(e Entry) {
	if was := t.Entry(e.Path); was != nil && was.Path == e.Path {
		*was = e
		return
	}
	t.late = append(t.late, e)
}

// Double is two entries of one folder whose names differ by letter case only.
type Double struct{ Path, Other string }

// Doubles lists such entries, none twice, where letter case counts to the disk. What lies in doubled
// folders is listed only where it is doubled itself.
func (t *Tree) Doubles() []Double {
	var list []Double
	seen := make(map[string]string, len(t.Entries))
	for i := range t.Entries {
		p := t.Entries[i].Path
		fold := volume.Fold(p)
		if other, twice := seen[fold]; twice {
			list = append(list, Double{other, p})
			continue
		}
		seen[fold] = p
	}
	return list
}

// Manifest lists the tree. Every file must be known.
func (t *Tree) Manifest() *manifest.Manifest {
	m := &manifest.Manifest{}
	holds := make(map[string]bool)
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Out {
			continue // which no manifest may have
		}
		holds[path.Dir(e.Path)] = true
		switch e.Kind {
		case File:
			m.Files = append(m.Files, manifest.File{Path: e.Path, Size: e.Stamp.Size, Digest: e.Digest})
		case Link:
			m.Links = append(m.Links, manifest.Link{Path: e.Path, Target: e.Target})
		}
	}
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == Dir && !holds[e.Path] {
			m.EmptyDirs = append(m.EmptyDirs, e.Path)
		}
	}
	return m
}

// Attributes returns the times and modes of the tree.
func (t *Tree) Attributes() *manifest.Attributes {
	a := manifest.NewAttributes()
	for i := range t.Scratch {
		a.Dirs[t.Scratch[i].Path] = manifest.Attribute{Mode: t.Scratch[i].Mode}
	}
	for i := range t.Entries {
		switch e := &t.Entries[i]; e.Kind {
		case File:
			a.Files[e.Path] = e.Attribute()
			if !e.Other.IsZero() {
				a.Others[e.Path] = e.Other
			}
		case Dir:
			a.Dirs[e.Path] = e.Attribute()
		case Link:
			if e.Out {
				a.Links[e.Path] = e.Target
			}
		}
	}
	return a
}

// AdmitLinks makes links that lead out of the folder entries of the tree, but for those at the paths that
// are passed over. A manifest of the tree has them no more than before; its attributes do.
func (t *Tree) AdmitLinks(passed map[string]bool) {
	before := len(t.Entries)
	t.Odd = slices.DeleteFunc(t.Odd, func(o Oddity) bool {
		if o.Target == "" || passed[o.Path] {
			return false
		}
		t.Entries = append(t.Entries, Entry{Path: o.Path, Kind: Link, Target: o.Target, Out: true})
		return true
	})
	if len(t.Entries) > before {
		slices.SortFunc(t.Entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	}
}

// Walk lists the folder, without reading any content. Scratch files and
// Morvant's own folder are passed over.
func Walk(ctx context.Context, root *os.Root, r rules.Rules) (*Tree, error) {
	return walk(ctx, root, r, false)
}

// Survey is Walk for a folder of which not everything has to be readable: what is not is
// among the oddities.
func Survey(ctx context.Context, root *os.Root, r rules.Rules) (*Tree, error) {
	return walk(ctx, root, r, true)
}

func walk(ctx context.Context, root *os.Root, r rules.Rules, tolerant bool) (*Tree, error) {
	top, err := root.OpenRoot(".")
	if err != nil {
		return nil, err
	}
	w := &walker{ctx: ctx, match: r.Matcher(), tree: &Tree{}, tolerant: tolerant}
	w.group.SetLimit(walkers)
	err = w.dir(top, "")
	if err := errors.Join(w.group.Wait(), err); err != nil {
		return nil, err
	}
	slices.SortFunc(w.tree.Entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(w.tree.Scratch, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(w.tree.Odd, func(a, b Oddity) int { return strings.Compare(a.Path, b.Path) })
	return w.tree, nil
}

// walkers is how many folders are listed at once.
const walkers = 4

type walker struct {
	ctx   context.Context
	match *rules.Matcher
	group errgroup.Group

	tolerant bool // what may not be read is odd, and no error

	mu   sync.Mutex
	tree *Tree
}

// dir lists one folder and what is below it, and closes root.
func (w *walker) dir(root *os.Root, prefix string) error {
	defer root.Close()
	if err := w.ctx.Err(); err != nil {
		return err
	}
	found, err := w.list(root, prefix)
	if w.tolerant && prefix != "" && errors.Is(err, fs.ErrPermission) {
		w.odd(strings.TrimSuffix(prefix, "/"))
		return nil
	}
	if err != nil {
		return err
	}
	w.mu.Lock()
	w.tree.Entries = append(w.tree.Entries, found.Entries...)
	w.tree.Odd = append(w.tree.Odd, found.Odd...)
	w.tree.Scratch = append(w.tree.Scratch, found.Scratch...)
	w.mu.Unlock()
	for i := range found.Entries {
		if e := &found.Entries[i]; e.Kind == Dir {
			if err := w.below(root, e.Path); err != nil {
				return err
			}
		}
	}
	return nil
}

// odd notes a folder that may not be read.
func (w *walker) odd(p string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.tree.Odd = append(w.tree.Odd, Oddity{Path: p, What: unreadable})
}

// unreadable is what is odd about what this user may not read.
const unreadable = "not readable for you"

// list says what one folder holds.
func (w *walker) list(root *os.Root, prefix string) (*Tree, error) {
	f, err := root.Open(".")
	if err != nil {
		return nil, place(prefix, err)
	}
	defer f.Close()
	names, err := f.Readdirnames(-1)
	if err != nil {
		return nil, place(prefix, err)
	}
	found := &Tree{Entries: make([]Entry, 0, len(names))}
	for _, name := range names {
		p := prefix + name
		if prefix == "" && (strings.EqualFold(p, manifest.PrivateDir) || strings.HasPrefix(p, manifest.ProbePrefix)) {
			continue
		}
		mode, stamp, names, err := lookIn(root, f, name)
		if errors.Is(err, fs.ErrNotExist) {
			continue // gone since the folder was listed
		}
		if err != nil && !w.match.Scratch(p) {
			return nil, place(p, err)
		}
		if w.match.Scratch(p) {
			if mode.IsDir() && manifest.CheckPath(p) == nil {
				found.Scratch = append(found.Scratch, Entry{Path: p, Kind: Dir, Mode: mode.Perm()})
			}
			continue
		}
		if err := found.entry(root, p, mode, stamp, names); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// below lists a folder inside root, on another goroutine if one is free.
func (w *walker) below(root *os.Root, p string) error {
	sub, err := root.OpenRoot(path.Base(p))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if w.tolerant && errors.Is(err, fs.ErrPermission) {
		w.odd(p)
		return nil
	}
	if err != nil {
		return place(p, err)
	}
	if w.group.TryGo(func() error { return w.dir(sub, p+"/") }) {
		return nil
	}
	return w.dir(sub, p+"/")
}

// entry adds one name of a folder.
func (t *Tree) entry(root *os.Root, p string, mode fs.FileMode, stamp Stamp, names int) error {
	if err := manifest.CheckPath(p); err != nil {
		t.Odd = append(t.Odd, Oddity{Path: p, What: strings.TrimPrefix(err.Error(), manifest.ErrPath.Error()+": "), Name: true})
		return nil
	}
	odd := func(what string) { t.Odd = append(t.Odd, Oddity{Path: p, What: what}) }
	out := func(what, target string) {
		if !manifest.CanLead(target) {
			target = ""
		}
		t.Odd = append(t.Odd, Oddity{Path: p, What: what, Target: target})
	}
	e := Entry{Path: p, Mode: mode.Perm(), Stamp: stamp, Away: mode&away != 0}
	switch {
	case mode.IsRegular():
		e.Kind, e.Names = File, names
	case mode.IsDir():
		e.Kind = Dir
	case mode&fs.ModeSymlink != 0:
		target, err := root.Readlink(path.Base(p))
		if err != nil {
			return place(p, err)
		}
		if manifest.CheckTarget(p, target) != nil {
			out("a link that leads out of the folder", target)
			return nil
		}
		e.Kind, e.Target = Link, target
	case mode&fs.ModeSocket != 0:
		odd("a socket")
		return nil
	case mode&fs.ModeNamedPipe != 0:
		odd("a named pipe")
		return nil
	case mode&fs.ModeIrregular != 0 && mode&fs.ModeDevice == 0:
		target, err := root.Readlink(path.Base(p))
		if err != nil || !filepath.IsAbs(target) {
			target = ""
		}
		out("a junction or another link of the system", target)
		return nil
	default:
		odd("a device or another special file")
		return nil
	}
	t.Entries = append(t.Entries, e)
	return nil
}

func place(p string, err error) error {
	var pathErr *fs.PathError
	if errors.As(err, &pathErr) {
		err = pathErr.Err
	}
	if p == "" {
		p = "the folder"
	}
	return fmt.Errorf("read %s: %w", strings.TrimSuffix(p, "/"), err)
}
