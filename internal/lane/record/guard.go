package record

import (
	"context"
	"errors"
	"slices"

	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// Guard records the files under guard rules as they are: so they have to be from now on. One that was
// recorded and is gone stays recorded. It returns nil if there are none.
func Guard(ctx context.Context, l *lane.Lane) (*state.Own, error) {
	before, err := compose.Guarded(ctx, l)
	if err != nil {
		return nil, err
	}
	t, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	set := l.Base.Rules().Set(l.Base.Guard)
	guarded := func(e *scan.Entry) bool { return e.Kind == scan.File && set.Match(e.Path) }
	if len(before.Manifest.Files) == 0 && !slices.ContainsFunc(t.Entries, func(e scan.Entry) bool { return guarded(&e) }) {
		return nil, nil
	}
	session := l.Store.Begin()
	err = l.Read(ctx, t, scan.Request{Sink: session.Put, Skip: func(e *scan.Entry) bool { return !guarded(e) }, Task: "Recording"})
	var o *state.Own
	if err == nil {
		now := *t
		now.Entries = slices.DeleteFunc(slices.Clone(t.Entries), func(e scan.Entry) bool { return !guarded(&e) })
		m, a := now.Manifest(), now.Attributes()
		gone := before.Manifest.Without(func(p string) bool { _, is := m.File(p); return is })
		for _, f := range gone.Files {
			a.Files[f.Path] = before.Attributes.Files[f.Path]
		}
		if m, err = manifest.Merge(m, &manifest.Manifest{Files: gone.Files}); err == nil {
			o, err = describeOwn(ctx, l, session, m, a)
		}
	}
	if err := errors.Join(err, session.Close()); err != nil {
		return nil, err
	}
	return o, l.Home.Player.SetGuarded(context.WithoutCancel(ctx), o)
}
