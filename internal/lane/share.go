package lane

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strings"

	"morvant/internal/exchange"
	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/manifest"
	"morvant/internal/pinfile"
	"morvant/internal/scan"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// Errors of what is shared with others.
var (
	ErrOtherContent = errors.New("the label means other content here")
	ErrNotKnown     = errors.New("this build is not known here")
)

// PinFile writes down what the lane is held to.
func (l *Lane) PinFile(ctx context.Context) (*pinfile.File, error) {
	pin, b, err := l.Pin(ctx)
	if err != nil {
		return nil, err
	}
	if b == nil {
		return nil, ErrNotHeld
	}
	if err := l.home.FindOffers(b); err != nil {
		return nil, err
	}
	f := &pinfile.File{
		Game: l.Game.Name, Title: l.Game.Title, Build: b.Label, Channel: b.Channel, Digest: b.Digest(), Components: pin.Components,
		Keep: l.Game.Keep, Companions: pin.Companions, Edits: pin.Edits, Feeds: sources(b.Feeds),
	}
	for _, o := range pin.Overlays {
		f.Overlays = append(f.Overlays, pinfile.Overlay{Build: o.Name, Digest: o.Digest, Components: o.Components, Files: o.Pattern})
	}
	return f, nil
}

// sources names feeds for others: only those that others can reach, and without names
// and passwords in their addresses.
func sources(feeds []*feed.Feed) []pinfile.Source {
	var list []pinfile.Source
	for _, f := range feeds {
		for _, address := range f.Addresses {
			u, err := url.Parse(address)
			if err != nil || u.Scheme != "http" && u.Scheme != "https" {
				continue
			}
			u.User, u.RawQuery, u.Fragment = nil, "", ""
			list = append(list, pinfile.Source{Address: u.String(), Key: f.Key})
		}
	}
	return list
}

// FromPinFile finds what a pin file means here: the build, and how it is to be pinned.
func (l *Lane) FromPinFile(ctx context.Context, f *pinfile.File) (*game.Build, PinOptions, error) {
	o := PinOptions{Hold: true, Components: f.Components}
	builds, err := l.home.Builds(ctx, l.Game.Name)
	if err != nil {
		return nil, o, err
	}
	b, err := sameContent(builds, func(b *game.Build) bool { return b.Digest() == f.Digest }, f.Build)
	if err != nil {
		return nil, o, err
	}
	if b.Components == nil {
		o.Components = nil
	}
	for _, k := range f.Keep {
		if !slices.Contains(l.Game.Keep, k) {
			o.Add.Keep = append(o.Add.Keep, k)
		}
	}
	o.Add.Companions, o.Add.Edits = f.Companions, f.Edits
	if err := l.mayWrite(ctx, b, o); err != nil {
		return nil, o, err
	}
	for _, over := range f.Overlays {
		other, err := sameContent(builds, func(b *game.Build) bool { return b.Digest() == over.Digest }, over.Build)
		if err != nil {
			return nil, o, fmt.Errorf("the overlay %s: %w", over.Files, err)
		}
		lay := game.Overlay{Name: other.Name(), Digest: over.Digest, Pattern: over.Files, Build: other.UID}
		if other.Components != nil {
			lay.Components = over.Components
			lay.Build = other.With(over.Components).UID
		}
		o.Add.Overlays = append(o.Add.Overlays, lay)
	}
	return b, o, nil
}

// mayWrite returns an error if a pin file writes onto a file of the build, or into one
// that is a program: whoever wrote it could have it started.
func (l *Lane) mayWrite(ctx context.Context, b *game.Build, o PinOptions) error {
	if len(o.Add.Companions)+len(o.Add.Edits) == 0 {
		return nil
	}
	choice, err := l.Choose(ctx, b, o.Components)
	if err != nil {
		return err
	}
	c, err := l.compose(ctx, b, choice.Names)
	if err != nil {
		return err
	}
	for _, k := range o.Add.Companions {
		for _, f := range c.manifest.Files {
			if volume.Fold(f.Path) == volume.Fold(k.Path) {
				return fmt.Errorf("the companion %s is a file of the build: %w", k.Path, pinfile.ErrRuns)
			}
		}
	}
	for _, e := range o.Add.Edits {
		if a, ok := c.attributes.Files[e.File]; ok && a.Mode&0o111 != 0 {
			return fmt.Errorf("%s, which an edit is about, is a program: %w", e.File, pinfile.ErrRuns)
		}
	}
	return nil
}

// sameContent finds the build that is meant by its content. A build that only has the
// same name is not it.
func sameContent(builds []*game.Build, is func(*game.Build) bool, label string) (*game.Build, error) {
	if i := slices.IndexFunc(builds, is); i >= 0 {
		return builds[i], nil
	}
	for _, b := range builds {
		if b.Label == label || b.Name() == label {
			return nil, fmt.Errorf("%s: %w", b.Name(), ErrOtherContent)
		}
	}
	return nil, fmt.Errorf("%s: %w", label, ErrNotKnown)
}

// Export writes a build in an open format. All of its content must be in the store.
func (l *Lane) Export(ctx context.Context, b *game.Build, components []string, format, dest string) error {
	choice, err := l.Choose(ctx, b, components)
	if err != nil {
		return err
	}
	c, err := l.compose(ctx, b, choice.Names)
	if err != nil {
		return err
	}
	if format != exchange.B3Sums {
		lacks, err := l.Store.Lacks(ctx, contents(c.manifest))
		if err != nil {
			return err
		}
		if len(lacks) > 0 {
			return fmt.Errorf("%d of the files of %s: %w", len(lacks), b.Label, ErrNotFetched)
		}
	}
	e := &exchange.Export{Label: b.Label, Manifest: c.manifest, Attributes: c.attributes, Content: l.Store, Meter: l.meter, Now: l.now}
	return e.Write(ctx, format, dest)
}

// Imports says what to import.
type Imports struct {
	Source string // archive or bag
	Inside string // only this folder of it
	Label  string
	Note   string
}

// Import records an archive or a bag as a snapshot.
func (l *Lane) Import(ctx context.Context, from Imports) (*game.Build, error) {
	if _, err := os.Stat(from.Source); err != nil {
		return nil, err
	}
	label, err := l.freeLabel(ctx, from.Label)
	if err != nil {
		return nil, err
	}
	session := l.Store.Begin()
	b := &game.Build{UID: game.NewUID(), Game: l.Game.Name, Label: label, Note: from.Note, Made: l.now()}
	in, err := (&exchange.Import{Inside: from.Inside, Sink: session.Put, Meter: l.meter}).Read(ctx, from.Source)
	if err == nil {
		b.Files, b.Bytes = len(in.Manifest.Files), in.Manifest.Bytes()
		err = l.describe(ctx, session, b, in.Manifest.Encode(), in.Attributes.Encode())
	}
	if err := errors.Join(err, session.Close()); err != nil {
		return nil, err
	}
	return b, l.home.AddBuild(context.WithoutCancel(ctx), b)
}

var _ exchange.Content = (*store.Store)(nil)

// Summer computes the checksums that content may be listed under.
type Summer func(r io.Reader) ([][]byte, error)

// CheckSums lists the files of a list that are not in the lane, or not as the list
// says.
func (l *Lane) CheckSums(ctx context.Context, list []exchange.Sum, sum Summer) ([]string, error) {
	differs := []string{}
	for _, s := range list {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		p := strings.TrimPrefix(s.Path, "./")
		if manifest.CheckPath(p) != nil {
			return nil, fmt.Errorf("%w: %q is no path inside a game's folder", exchange.ErrHostile, s.Path)
		}
		f, err := scan.OpenFile(l.root, p)
		if err != nil {
			differs = append(differs, p)
			continue
		}
		sums, err := sum(f)
		f.Close()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p, err)
		}
		if !slices.ContainsFunc(sums, func(b []byte) bool { return bytes.Equal(b, s.Sum) }) {
			differs = append(differs, p)
		}
	}
	return differs, nil
}
