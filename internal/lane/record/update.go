package record

import (
	"context"
	"errors"
	"fmt"
	"time"

	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// Came is an update as it came into a held lane.
type Came struct {
	Held   *compose.Composed // what the lane is held to
	Files  []*scan.Entry     // that came, the oldest first
	Tree   *scan.Tree
	Before *state.Build // what had come of it earlier, and was ended; nil: nothing had
	Waves  int
	Doubt  string // what speaks against its being whole
	Note   string
}

// Update records an update as it came: the held build with what it has brought. Its content is what the change saves that ends it.
func Update(ctx context.Context, l *lane.Lane, u Came) (*state.Build, error) {
	base, own, waves := u.Held.Base, u.Held.Own.Clone(), u.Waves
	made := time.Unix(0, u.Files[0].Stamp.CTime)
	b := &state.Build{UID: state.NewUID(), Game: l.Game.Name, Channel: state.UpdateLine, Made: made, Doubt: u.Doubt, Partial: true}
	var err error
	if u.Before != nil {
		b.UID, b.Label, b.Made = u.Before.UID, u.Before.Label, u.Before.Made
		if base, err = u.Before.ReadManifest(ctx, l.Store); err != nil {
			return nil, err
		}
		if own, err = u.Before.ReadAttributes(ctx, l.Store); err != nil {
			return nil, err
		}
		var earlier int
		if _, err := fmt.Sscanf(u.Before.Note, "came in %d wave", &earlier); err == nil {
			waves += earlier
		}
	} else if b.Label, err = NextLabel(ctx, l, made.Format(time.DateOnly)); err != nil {
		return nil, err
	}
	b.Note = fmt.Sprintf("came in %d waves %s", waves, u.Note)
	if waves == 1 {
		b.Note = "came in 1 wave " + u.Note
	}
	came := &manifest.Manifest{}
	for _, e := range u.Files {
		came.Files = append(came.Files, manifest.File{Path: e.Path, Size: e.Stamp.Size, Digest: e.Digest})
		own.Files[e.Path] = e.Attribute()
	}
	came.Sort()
	m, err := manifest.Merge(base.Without(u.took).Yields(came), came)
	if err != nil {
		return nil, err
	}
	b.Files, b.Bytes = len(m.Files), m.Bytes()
	session := l.Store.Begin()
	err = compose.Describe(ctx, l, session, b, m.Encode(), own.Encode())
	if err := errors.Join(err, session.Close()); err != nil {
		return nil, err
	}
	return b, l.Home.AddBuild(context.WithoutCancel(ctx), b)
}

// took reports whether the update has taken a file of the held build away.
func (u *Came) took(path string) bool {
	p := u.Held.Sheet.At(path)
	return p.Wants() && p.Under == nil && u.Tree.Entry(path) == nil
}
