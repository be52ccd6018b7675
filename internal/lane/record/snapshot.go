package record

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/estimate"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/layers"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// asBuilt takes out of the times and modes of a snapshot what is the disk's doing and
// not the build's: made-up modes, and times that it has cut, where the held build knows
// the whole ones.
func asBuilt(ctx context.Context, l *lane.Lane, a *manifest.Attributes) error {
	t := l.Traits()
	if !t.NoModes && t.Clock == 0 {
		return nil
	}
	held, err := compose.HeldState(ctx, l)
	if err != nil {
		return err
	}
	for kind, list := range map[plan.Kind]map[string]manifest.Attribute{plan.File: a.Files, plan.Dir: a.Dirs} {
		for p, is := range list {
			was, known := held.Get(p)
			known = known && was.Kind == kind
			if t.NoModes {
				is.Mode = 0
				if known {
					is.Mode = was.Mode
				}
			}
			if known && was.MTime != 0 && is.MTime.Sub(was.Time()).Abs() <= t.Clock {
				is.MTime = was.Time()
			}
			list[p] = is
		}
	}
	return nil
}

// Taken is what taking one came to.
type Taken struct {
	Build  *state.Build
	Odd    []scan.Oddity // left out
	Stored int64         // bytes that the store grew by
	// Restless are large files that keep changing.
	Restless []*compose.Restless
	// Doubles are names that differ by letter case only, in a game to which they are one.
	Doubles []scan.Double
	Links   int // links that lead out of the folder, recorded for this computer alone
	// Sets are the sets of mods that are laid: the snapshot has what lies beneath them.
	Sets []string
	// Same is an earlier snapshot with the same content, if there is one.
	Same *state.Build
}

// Wanted says what is to be recorded.
type Wanted struct {
	Label    string // empty: the time
	Note     string
	Released time.Time // zero: now
	Doubt    string    // what speaks against the folder's being a whole build
	// Suspect, if set, is told what looks like damage, before anything is recorded. An error ends it; else the snapshot is
	// recorded on doubt.
	Suspect func(why string) error
	// Beneath records what lies beneath the sets of mods that are laid, and not these.
	Beneath bool
}

// Snapshot records the folder, content included.
func Snapshot(ctx context.Context, l *lane.Lane, w Wanted) (*Taken, error) {
	if w.Released.IsZero() {
		w.Released = l.Now()
	}
	doubt := w.Doubt
	label, err := LabelOrNext(ctx, l, w.Label)
	if err != nil {
		return nil, err
	}
	t, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	if err := Recordable(t); err != nil {
		return nil, err
	}
	WarnOfDates(l, t)
	builds, err := l.Home.Recorded(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	suspicion, err := suspects(ctx, l, t, builds)
	if err != nil {
		return nil, err
	}
	if why := suspicion; why != "" && doubt == "" {
		if doubt = why; w.Suspect != nil {
			err = w.Suspect(why)
		}
	}
	if err != nil {
		return nil, err
	}
	s := &Taken{Links: len(plan.FromTree(t).Links()), Doubles: l.Doubles(t)}
	if s.Restless, err = compose.FindRestless(ctx, l, t); err != nil {
		return nil, err
	}
	session := l.Store.Begin()
	err = fill(ctx, l, session, t, builds)
	s.Odd = slices.Concat(t.Odd, t.Unread)
	if err == nil {
		t.Entries = slices.DeleteFunc(t.Entries, func(e scan.Entry) bool { return e.Kind == scan.File && !e.Known })
		if doubt == "" && len(t.Unread) > 0 {
			doubt = leftOut(t.Unread)
		}
		if w.Beneath {
			s.Sets, err = beneath(ctx, l, t)
		}
		if note := w.Note; err == nil {
			if len(s.Sets) > 0 && note == "" {
				note = "beneath the mods " + strings.Join(s.Sets, ", ")
			}
			s.Build, err = record(ctx, l, session, t, &state.Build{
				UID: state.NewUID(), Game: l.Game.Name, Label: label, Note: note, Made: w.Released, Doubt: doubt,
			})
		}
	}
	if err := errors.Join(err, session.Close()); err != nil {
		return nil, err
	}
	s.Stored = session.Added()
	for _, b := range builds {
		if b.Manifest == s.Build.Manifest {
			s.Same = b
			break
		}
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	// From here on it is recorded, and an interrupt comes too late.
	return s, l.Home.AddBuild(context.WithoutCancel(ctx), s.Build)
}

// leftOut says what a snapshot does not have, for it could not be read.
func leftOut(list []scan.Oddity) string {
	if n := len(list) - 1; n > 0 {
		return fmt.Sprintf("%s and %d more could not be read, and were left out", list[0].Path, n)
	}
	return fmt.Sprintf("%s could not be read, and was left out", list[0].Path)
}

// RecordFolder records the files of another folder that are in the set, as a fragment.
func RecordFolder(ctx context.Context, l *lane.Lane, dir, label, note string, only *rules.Set) (*state.Build, error) {
	label, err := NextLabel(ctx, l, label)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	t, err := scan.Walk(ctx, root, rules.Rules{})
	if err != nil {
		return nil, err
	}
	t.Entries = slices.DeleteFunc(t.Entries, func(e scan.Entry) bool { return !only.Match(e.Path) })
	if len(t.Entries) == 0 {
		return nil, fmt.Errorf("%w: no file in %s matches", layers.ErrOverlay, dir)
	}
	session := l.Store.Begin()
	err = t.Read(ctx, root, scan.Request{Sink: session.Put, Task: "Recording", Meter: l.Meter, Now: l.Now})
	var b *state.Build
	if err == nil {
		b, err = record(ctx, l, session, t, &state.Build{UID: state.NewUID(), Game: l.Game.Name, Label: label, Note: note, Made: l.Now(), Fragment: true})
	}
	if err := errors.Join(err, session.Close()); err != nil {
		return nil, err
	}
	return b, l.Home.AddBuild(context.WithoutCancel(ctx), b)
}

// WarnOfDates names files whose dates cannot be kept as they are.
func WarnOfDates(l *lane.Lane, t *scan.Tree) {
	first, n := "", 0
	for i := range t.Entries {
		e := &t.Entries[i]
		if at := time.Unix(0, e.Stamp.MTime); at.After(volume.Earliest) && at.Before(volume.Latest) {
			continue
		}
		if n++; n == 1 {
			first = e.Path
		}
	}
	switch {
	case n == 1:
		l.Meter.Warn(first + " has a date outside of 1677 to 2262, and comes back with the nearest that can be kept")
	case n > 1:
		l.Meter.Warn(fmt.Sprintf("%d files, such as %s, have dates outside of 1677 to 2262, and come back with the nearest that can be kept", n, first))
	}
}

// fill puts the content of every file into the store, reading only what may not
// be there yet.
func fill(ctx context.Context, l *lane.Lane, session *store.Session, t *scan.Tree, builds []*state.Build) error {
	if lane.AllRead(t) {
		// A build whose manifest is in the store has all of its content there.
		d := t.Manifest().Digest()
		if slices.ContainsFunc(builds, func(b *state.Build) bool { return b.Manifest == d && !b.Partial }) {
			if ok, err := l.Store.Has(ctx, d); ok || err != nil {
				return err
			}
		}
	}
	var missing int64
	var sources []estimate.Source
	var seen []digest.Digest
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == scan.File && e.Known {
			seen = append(seen, e.Digest)
		}
	}
	lacks, err := l.Store.Lacks(ctx, seen)
	if err != nil {
		return err
	}
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == scan.File && (!e.Known || lacks[e.Digest]) {
			missing += e.Stamp.Size
			sources = append(sources, FileSource(l.Root, e))
		}
	}
	if free, err := volume.Free(l.Store.Dir()); err == nil && free < missing {
		// It may fit all the same: what is in the store already takes nothing, and the
		// rest compresses.
		grows, err := estimate.Of(ctx, l.Store, sources)
		if err != nil {
			return err
		}
		if err := volume.CheckFree(l.Store.Dir(), grows); err != nil {
			// Or the disk can share its files with the store.
			small := slices.DeleteFunc(slices.Clone(sources), func(s estimate.Source) bool { return s.Size >= store.ShareFrom })
			if len(small) == len(sources) || !canShare(l, t) {
				return err
			}
			if grows, err = estimate.Of(ctx, l.Store, small); err == nil {
				err = volume.CheckFree(l.Store.Dir(), grows)
			}
			if err != nil {
				return err
			}
			session.Share()
		}
	}
	known := sync.OnceValue(func() func(string) bool { return builtPaths(ctx, l) })
	return l.Read(ctx, t, scan.Request{
		Sink:  session.Put,
		Skip:  func(e *scan.Entry) bool { return e.Known && !lacks[e.Digest] },
		Task:  "Recording",
		Spare: func(e *scan.Entry) bool { return !known()(e.Path) },
	})
}

// builtPaths reports of which files known builds have one of that name: a record without it would be of no use.
// Where that cannot be told, and where no build is known, that is every file.
func builtPaths(ctx context.Context, l *lane.Lane) func(path string) bool {
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	fold := l.Game.Rules().Fold
	paths := identify.Paths(known, fold)
	return func(p string) bool { return err != nil || len(known) == 0 || paths[fold(p)] }
}

// canShare reports whether the store can share the content of the lane's largest file.
func canShare(l *lane.Lane, t *scan.Tree) bool {
	var largest *scan.Entry
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == scan.File && (largest == nil || e.Stamp.Size > largest.Stamp.Size) {
			largest = e
		}
	}
	if largest == nil {
		return false
	}
	f, err := scan.OpenFile(l.Root, largest.Path)
	if err != nil {
		return false
	}
	defer f.Close()
	return l.Store.CanShare(f)
}

// FileSource is a file of a folder, to be put into the store.
func FileSource(root *os.Root, e *scan.Entry) estimate.Source {
	return estimate.Source{Size: e.Stamp.Size, Open: func() (io.ReaderAt, io.Closer, error) {
		f, err := scan.OpenFile(root, e.Path)
		return f, f, err
	}}
}

// record puts what describes the build into the store.
func record(ctx context.Context, l *lane.Lane, session *store.Session, t *scan.Tree, b *state.Build) (*state.Build, error) {
	m := t.Manifest()
	if err := m.Validate(); err != nil {
		return nil, err
	}
	b.Files, b.Bytes = len(m.Files), m.Bytes()
	a := t.Attributes()
	if err := asBuilt(ctx, l, a); err != nil {
		return nil, err
	}
	return b, compose.Describe(ctx, l, session, b, m.Encode(), a.Encode())
}

func LabelOrNext(ctx context.Context, l *lane.Lane, label string) (string, error) {
	if label == "" {
		return NextLabel(ctx, l, l.Now().Format("2006-01-02-1504"))
	}
	taken, err := taken(ctx, l)
	if err != nil {
		return "", err
	}
	if taken[label] {
		return "", fmt.Errorf("a snapshot labelled %s is %w", label, state.ErrExists)
	}
	return label, catalogue.CheckLabel(label)
}

// NextLabel returns a label that no snapshot has: this one, or with a number behind
// it. An empty one stands for the time.
func NextLabel(ctx context.Context, l *lane.Lane, base string) (string, error) {
	if base == "" {
		return LabelOrNext(ctx, l, "")
	}
	taken, err := taken(ctx, l)
	if err != nil {
		return "", err
	}
	label := base
	for n := 2; taken[label]; n++ {
		label = fmt.Sprintf("%s-%d", base, n)
	}
	return label, nil
}

// taken lists the labels of snapshots.
func taken(ctx context.Context, l *lane.Lane) (map[string]bool, error) {
	builds, err := l.Home.Recorded(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	taken := make(map[string]bool)
	for _, b := range builds {
		taken[b.Label] = taken[b.Label] || b.RecordedHere()
	}
	return taken, nil
}

// Recordable returns an error naming the files whose names a manifest cannot hold:
// leaving them out unasked would lose them.
func Recordable(t *scan.Tree) error {
	var bad []string
	for _, o := range t.Odd {
		if o.Name {
			bad = append(bad, o.What)
		}
	}
	switch {
	case len(bad) == 0:
		return nil
	case len(bad) > 3:
		bad = append(bad[:3], fmt.Sprintf("and %d more", len(bad)-3))
	}
	return fmt.Errorf("%w: %s", lane.ErrNames, strings.Join(bad, "; "))
}
