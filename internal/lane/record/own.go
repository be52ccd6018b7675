package record

import (
	"bytes"
	"context"
	"slices"

	"morvant/internal/lane"
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

// Own records the player's own files: those under keep rules. It returns nil if the newest record
// holds the same, or there are none. If more than OwnAtOnce would have to be stored, it records
// nothing, and returns how much that is.
func Own(ctx context.Context, l *lane.Lane) (o *state.Own, much int64, err error) {
	if l.Strange != "" || len(l.Game.Keep) == 0 {
		return nil, 0, nil
	}
	t, err := l.Walk(ctx)
	if err != nil {
		return nil, 0, err
	}
	match := l.Game.Rules().Matcher()
	mine := func(e *scan.Entry) bool { return match.Kept(e.Path) && !match.Scratch(e.Path) }
	stored := make(map[string]bool)
	for i := range t.Entries {
		e := &t.Entries[i]
		if e.Kind != scan.File || !mine(e) {
			continue
		}
		if e.Known {
			if stored[e.Path], err = l.Store.Has(ctx, e.Digest); err != nil {
				return nil, 0, err
			}
		}
		if !stored[e.Path] {
			much += e.Stamp.Size
		}
	}
	if much > OwnAtOnce {
		return nil, much, nil
	}
	session := l.Store.Begin()
	err = l.Read(ctx, t, scan.Request{Sink: session.Put, Task: "Recording", Skip: func(e *scan.Entry) bool { return !mine(e) || stored[e.Path] }})
	if err == nil {
		own := *t
		own.Entries = slices.DeleteFunc(slices.Clone(t.Entries), func(e scan.Entry) bool { return !mine(&e) || e.Kind == scan.File && !e.Known })
		o, err = describeOwn(ctx, l, session, &own)
	}
	if closeErr := session.Close(); err == nil {
		err = closeErr
	}
	if err != nil || o == nil {
		return nil, 0, err
	}
	ctx = context.WithoutCancel(ctx)
	if err := l.Home.AddOwn(ctx, o); err != nil {
		return nil, 0, err
	}
	return o, 0, pruneOwn(ctx, l)
}

// describeOwn puts what describes the record into the store; nil if the newest one is the same.
func describeOwn(ctx context.Context, l *lane.Lane, session *store.Session, t *scan.Tree) (*state.Own, error) {
	m := t.Manifest()
	if err := m.Validate(); err != nil || len(m.Files) == 0 {
		return nil, err
	}
	list, err := l.Home.Owned(ctx, l.Game.Name, l.Name)
	if err != nil || len(list) > 0 && list[0].Manifest == m.Digest() {
		return nil, err
	}
	o := &state.Own{Game: l.Game.Name, Lane: l.Name, Made: l.Now(), Files: len(m.Files), Bytes: m.Bytes()}
	if o.Manifest, _, err = session.Put(ctx, bytes.NewReader(m.Encode()), nil); err != nil {
		return nil, err
	}
	o.Attributes, _, err = session.Put(ctx, bytes.NewReader(t.Attributes().Encode()), nil)
	return o, err
}

// pruneOwn forgets old records, unless something is gone that they may hold.
func pruneOwn(ctx context.Context, l *lane.Lane) error {
	gone, err := l.Home.Gone(ctx, l.Game.Name, l.Name)
	if err != nil || len(gone) > 0 {
		return err
	}
	list, err := l.Home.Owned(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	for _, o := range list[min(ownRecords, len(list)):] {
		if err := l.Home.ForgetOwn(ctx, o.ID); err != nil {
			return err
		}
	}
	return nil
}
