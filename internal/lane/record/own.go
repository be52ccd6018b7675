package record

import (
	"bytes"
	"context"
	"errors"
	"slices"

	"morvant/internal/digest"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// How many records of the player's own files are kept of a lane, and how much of them is put
// into the store without being asked for, in bytes.
const (
	ownRecords = 3
	OwnAtOnce  = 1 << 30
)

// Own records the player's own files of a tree that has just been looked at: those under keep rules, but for what the pin has
// laid in their place.
// It returns nil if the newest record holds the same, or there are none. If more than OwnAtOnce
// would have to be stored, it records nothing, and returns how much that is.
func Own(ctx context.Context, l *lane.Lane, t *scan.Tree) (o *state.Own, much int64, err error) {
	if l.Strange != "" || len(l.Game.Keep) == 0 {
		return nil, 0, nil
	}
	list, err := l.Home.Player.Owned(ctx, l.Game.Name, l.Name)
	if err != nil {
		return nil, 0, err
	}
	_, held, err := compose.Pinned(ctx, l)
	if err != nil {
		return nil, 0, err
	}
	match := l.Game.Rules().Matcher()
	kept, edited := match.Kept, map[string]bool(nil)
	if held != nil && held.Sheet != nil {
		kept, edited = held.Sheet.Kept, held.Sheet.Players()
	}
	mine := func(e *scan.Entry) bool { return (kept(e.Path) || edited[e.Path]) && !match.Scratch(e.Path) }
	own := *t
	own.Entries = slices.DeleteFunc(slices.Clone(t.Entries), func(e scan.Entry) bool { return !mine(&e) })
	if lane.AllRead(&own) && (len(own.Entries) == 0 || len(list) > 0 && list[0].Manifest == own.Manifest().Digest()) {
		return nil, 0, nil
	}
	var known []digest.Digest
	for i := range own.Entries {
		if e := &own.Entries[i]; e.Known {
			known = append(known, e.Digest)
		}
	}
	lacks, err := l.Store.Lacks(ctx, known)
	if err != nil {
		return nil, 0, err
	}
	needs := func(e *scan.Entry) bool { return e.Kind == scan.File && mine(e) && (!e.Known || lacks[e.Digest]) }
	for i := range own.Entries {
		if e := &own.Entries[i]; needs(e) {
			much += e.Stamp.Size
		}
	}
	if much > OwnAtOnce {
		return nil, much, nil
	}
	session := l.Store.Begin()
	if err = l.Read(ctx, t, scan.Request{Sink: session.Put, Task: "Recording", Skip: func(e *scan.Entry) bool { return !needs(e) }}); err == nil {
		own.Entries = slices.DeleteFunc(slices.Clone(t.Entries), func(e scan.Entry) bool { return !mine(&e) })
		o, err = describeOwn(ctx, l, session, own.Manifest(), own.Attributes())
	}
	if err := errors.Join(err, session.Close()); err != nil || o == nil {
		return nil, 0, err
	}
	ctx = context.WithoutCancel(ctx)
	if err := l.Home.Player.AddOwn(ctx, o); err != nil {
		return nil, 0, err
	}
	return o, 0, pruneOwn(ctx, l, append([]*state.Own{o}, list...))
}

// describeOwn puts what describes the record into the store.
func describeOwn(ctx context.Context, l *lane.Lane, session *store.Session, m *manifest.Manifest, a *manifest.Attributes) (*state.Own, error) {
	if err := m.Validate(); err != nil || len(m.Files) == 0 {
		return nil, err
	}
	o := &state.Own{Game: l.Game.Name, Lane: l.Name, Made: l.Now(), Files: len(m.Files), Bytes: m.Bytes()}
	var err error
	if o.Manifest, _, err = session.Put(ctx, bytes.NewReader(m.Encode()), nil); err != nil {
		return nil, err
	}
	o.Attributes, _, err = session.Put(ctx, bytes.NewReader(a.Encode()), nil)
	return o, err
}

// pruneOwn forgets the oldest of these records, unless something is gone that they may hold.
func pruneOwn(ctx context.Context, l *lane.Lane, list []*state.Own) error {
	gone, err := l.Home.Player.Gone(ctx, l.Game.Name, l.Name)
	if err != nil || len(gone) > 0 {
		return err
	}
	for _, o := range list[min(ownRecords, len(list)):] {
		if err := l.Home.Player.ForgetOwn(ctx, o.ID); err != nil {
			return err
		}
	}
	return nil
}
