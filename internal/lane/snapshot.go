package lane

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/rules"
	"morvant/internal/scan"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// Snapshot is what taking one came to.
type Snapshot struct {
	Build  *game.Build
	Odd    []scan.Oddity // left out
	Stored int64         // bytes that the store grew by
	// Same is an earlier snapshot with the same content, if there is one.
	Same *game.Build
}

// Snapshot records the folder, content included. Without a label the time is the label.
func (l *Lane) Snapshot(ctx context.Context, label, note string) (*Snapshot, error) {
	label, err := l.freeLabel(ctx, label)
	if err != nil {
		return nil, err
	}
	made := l.now()
	t, err := l.walk(ctx)
	if err != nil {
		return nil, err
	}
	if err := recordable(t); err != nil {
		return nil, err
	}
	l.warnOfDates(t)
	builds, err := l.home.Recorded(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	session := l.Store.Begin()
	s := &Snapshot{Odd: t.Odd}
	err = l.fill(ctx, session, t, builds)
	if err == nil {
		s.Build, err = l.record(ctx, session, t, &game.Build{
			UID: game.NewUID(), Game: l.Game.Name, Label: label, Note: note, Made: made,
		})
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
	return s, l.home.AddBuild(context.WithoutCancel(ctx), s.Build)
}

// RecordFolder records the files of another folder that are in the set, as a snapshot.
func (l *Lane) RecordFolder(ctx context.Context, dir, label, note string, only *rules.Set) (*game.Build, error) {
	label, err := l.FreeLabel(ctx, label)
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
		return nil, fmt.Errorf("%w: nothing in %s matches", ErrOverlay, dir)
	}
	session := l.Store.Begin()
	err = t.Read(ctx, root, scan.Request{Sink: session.Put, Task: "Recording", Meter: l.meter, Now: l.now})
	var b *game.Build
	if err == nil {
		b, err = l.record(ctx, session, t, &game.Build{UID: game.NewUID(), Game: l.Game.Name, Label: label, Note: note, Made: l.now()})
	}
	if err := errors.Join(err, session.Close()); err != nil {
		return nil, err
	}
	return b, l.home.AddBuild(context.WithoutCancel(ctx), b)
}

// warnOfDates names files whose dates cannot be kept as they are.
func (l *Lane) warnOfDates(t *scan.Tree) {
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
		l.meter.Warn(first + " has a date outside of 1677 to 2262, and comes back with the nearest that can be kept")
	case n > 1:
		l.meter.Warn(fmt.Sprintf("%d files, such as %s, have dates outside of 1677 to 2262, and come back with the nearest that can be kept", n, first))
	}
}

// fill puts the content of every file into the store, reading only what may not
// be there yet.
func (l *Lane) fill(ctx context.Context, session *store.Session, t *scan.Tree, builds []*game.Build) error {
	if known(t) {
		// A build whose manifest is in the store has all of its content there.
		d := t.Manifest().Digest()
		if slices.ContainsFunc(builds, func(b *game.Build) bool { return b.Manifest == d }) {
			if ok, err := l.Store.Has(ctx, d); ok || err != nil {
				return err
			}
		}
	}
	var missing int64
	var sources []store.Source
	stored := make(map[digest.Digest]bool)
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File {
			continue
		}
		if e.Known && !stored[e.Digest] {
			ok, err := l.Store.Has(ctx, e.Digest)
			if err != nil {
				return err
			}
			stored[e.Digest] = ok
		}
		if !e.Known || !stored[e.Digest] {
			missing += e.Stamp.Size
			sources = append(sources, store.Source{Size: e.Stamp.Size, Open: func() (io.ReaderAt, io.Closer, error) {
				f, err := scan.OpenFile(l.root, e.Path)
				return f, f, err
			}})
		}
	}
	if free, err := volume.Free(l.Store.Dir()); err == nil && free < missing {
		// It may fit all the same: what is in the store already takes nothing, and the
		// rest compresses.
		grows, err := l.Store.Estimate(ctx, sources)
		if err != nil {
			return err
		}
		if err := volume.CheckFree(l.Store.Dir(), grows); err != nil {
			return err
		}
	}
	return l.read(ctx, t, scan.Request{
		Sink: session.Put,
		Skip: func(e *scan.Entry) bool { return e.Known && stored[e.Digest] },
		Task: "Recording",
	})
}

func known(t *scan.Tree) bool {
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == scan.File && !e.Known {
			return false
		}
	}
	return true
}

// record puts what describes the build into the store.
func (l *Lane) record(ctx context.Context, session *store.Session, t *scan.Tree, b *game.Build) (*game.Build, error) {
	m := t.Manifest()
	if err := m.Validate(); err != nil {
		return nil, err
	}
	b.Files, b.Bytes = len(m.Files), m.Bytes()
	a := t.Attributes()
	if err := l.asBuilt(ctx, a); err != nil {
		return nil, err
	}
	return b, l.describe(ctx, session, b, m.Encode(), a.Encode())
}

func (l *Lane) freeLabel(ctx context.Context, label string) (string, error) {
	if label == "" {
		return l.FreeLabel(ctx, l.now().Format("2006-01-02-1504"))
	}
	taken, err := l.taken(ctx)
	if err != nil {
		return "", err
	}
	if taken[label] {
		return "", fmt.Errorf("a snapshot labelled %s is %w", label, game.ErrExists)
	}
	return label, catalogue.CheckLabel(label)
}

// FreeLabel returns a label that no snapshot has: this one, or with a number behind
// it. An empty one stands for the time.
func (l *Lane) FreeLabel(ctx context.Context, base string) (string, error) {
	if base == "" {
		return l.freeLabel(ctx, "")
	}
	taken, err := l.taken(ctx)
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
func (l *Lane) taken(ctx context.Context) (map[string]bool, error) {
	builds, err := l.home.Recorded(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	taken := make(map[string]bool)
	for _, b := range builds {
		taken[b.Label] = taken[b.Label] || b.Channel == ""
	}
	return taken, nil
}

// recordable returns an error naming the files whose names a manifest cannot hold:
// leaving them out unasked would lose them.
func recordable(t *scan.Tree) error {
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
	return fmt.Errorf("%w: %s", ErrNames, strings.Join(bad, "; "))
}
