package record

import (
	"bytes"
	"context"
	"errors"
	"slices"

	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/rules"
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
	set := rules.NewSet(l.Base.Guard)
	was := before.Manifest.Without(func(p string) bool { return !set.Match(p) })
	t, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	t.Entries = slices.DeleteFunc(t.Entries, func(e scan.Entry) bool { return e.Kind != scan.File || !set.Match(e.Path) })
	if len(was.Files)+len(t.Entries) == 0 && len(before.Manifest.Files) == 0 {
		return nil, nil
	}
	session := l.Store.Begin()
	err = l.Read(ctx, t, scan.Request{Sink: session.Put, Skip: func(*scan.Entry) bool { return false }, Task: "Recording"})
	var o *state.Own
	if err == nil {
		m, a := t.Manifest(), t.Attributes()
		gone := was.Without(func(p string) bool { _, is := m.File(p); return is })
		for _, f := range gone.Files {
			a.Files[f.Path] = before.Attributes.Files[f.Path]
		}
		if m, err = manifest.Merge(m, &manifest.Manifest{Files: gone.Files}); err == nil {
			o = &state.Own{Game: l.Game.Name, Lane: l.Name, Made: l.Now(), Files: len(m.Files), Bytes: m.Bytes()}
			if o.Manifest, _, err = session.Put(ctx, bytes.NewReader(m.Encode()), nil); err == nil {
				o.Attributes, _, err = session.Put(ctx, bytes.NewReader(a.Encode()), nil)
			}
		}
	}
	if err := errors.Join(err, session.Close()); err != nil {
		return nil, err
	}
	return o, l.Home.Player.SetGuarded(context.WithoutCancel(ctx), o)
}
