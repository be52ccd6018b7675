package propose

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"time"

	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/pinfile"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// Errors of pin files.
var (
	ErrOtherContent = errors.New("this label means other content here")
	ErrNotKnown     = errors.New("this build is not known here")
)

// PinFile writes down what the lane is held to.
func PinFile(ctx context.Context, l *lane.Lane) (*pinfile.File, error) {
	pin, b, err := l.Pin(ctx)
	if err != nil {
		return nil, err
	}
	if b == nil {
		return nil, lane.ErrNotHeld
	}
	if err := game.FindOffers(l.Home, b); err != nil {
		return nil, err
	}
	f := &pinfile.File{
		Game: l.Game.Name, Title: l.Game.Title, Build: b.Label, Channel: b.Channel, Digest: b.Digest(), Components: pin.Components,
		Keep: l.Game.Keep, LeaveOut: pin.LeaveOut, Companions: pin.Companions, Edits: pin.Edits, Feeds: sources(b.Feeds), ID: b.ID,
	}
	for _, of := range b.Feeds {
		if d, err := of.Described(); err == nil && of.Adapter != "" {
			f.Distributor = d.Name
		}
	}
	c, err := compose.Of(ctx, l, b, pin.Components)
	if err != nil {
		return nil, err
	}
	content, made := c.Base.Digest(), b.Made.UTC().Truncate(time.Second)
	f.Content, f.Date = &content, &made
	if own := l.Game.Rules().Set(l.Game.Keep); len(l.Game.Keep) > 0 {
		games := c.Base.Without(own.Match).Digest()
		f.Games = &games
	}
	for _, o := range pin.Overlays {
		f.Overlays = append(f.Overlays, pinfile.Overlay{Build: o.Name, Digest: o.Digest, Components: o.Components, Files: o.Pattern, Mods: o.Mod})
	}
	return f, nil
}

// sources names feeds for others: only those that others can reach, and without names
// and passwords in their addresses.
func sources(feeds []*feed.Feed) []pinfile.Source {
	var list []pinfile.Source
	for _, f := range feeds {
		if f.Adapter != "" {
			continue // which program is to speak for it is for each player to say
		}
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
func FromPinFile(ctx context.Context, l *lane.Lane, f *pinfile.File) (*state.Build, PinOptions, error) {
	o := PinOptions{Hold: true, Components: f.Components}
	builds, err := l.Home.Builds(ctx, l.Game.Name)
	if err != nil {
		return nil, o, err
	}
	var content, games digest.Digest
	if f.Games != nil {
		games = *f.Games
	}
	if f.Content != nil {
		content = *f.Content
	}
	b, components, err := compose.Same(ctx, l, builds, compose.Sought{Is: f.Digest, Content: content, Games: games, Keep: f.Keep, Label: f.Build})
	if err == nil && b == nil {
		err = notHere(builds, f.Build)
		if errors.Is(err, ErrNotKnown) && f.Date != nil {
			err = fmt.Errorf("the build of %s: %w", f.Date.Local().Format(time.DateOnly), err)
		}
	}
	if err != nil {
		return nil, o, err
	}
	if components != nil {
		o.Components = components
	}
	if b.Components == nil {
		o.Components = nil
	}
	for _, k := range f.Keep {
		if !slices.Contains(l.Game.Keep, k) {
			o.Add.Keep = append(o.Add.Keep, k)
		}
	}
	o.Add.Companions, o.Add.Edits, o.Add.LeaveOut = f.Companions, f.Edits, f.LeaveOut
	if err := mayWrite(ctx, l, b, o); err != nil {
		return nil, o, err
	}
	for _, over := range f.Overlays {
		other, _, err := compose.Same(ctx, l, builds, compose.Sought{Is: over.Digest, Label: over.Build})
		if err == nil && other == nil {
			err = notHere(builds, over.Build)
		}
		if err != nil {
			return nil, o, fmt.Errorf("the overlay %s: %w", over.Files, err)
		}
		lay := state.Overlay{Name: other.Name(), Digest: over.Digest, Pattern: over.Files, Build: other.UID, Mod: over.Mods, Named: true}
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
func mayWrite(ctx context.Context, l *lane.Lane, b *state.Build, o PinOptions) error {
	if len(o.Add.Companions)+len(o.Add.Edits) == 0 {
		return nil
	}
	choice, err := compose.Choose(ctx, l, b, o.Components)
	if err != nil {
		return err
	}
	c, err := compose.Of(ctx, l, b, choice.Names)
	if err != nil {
		return err
	}
	for _, k := range o.Add.Companions {
		for _, f := range c.Manifest.Files {
			if volume.Fold(f.Path) == volume.Fold(k.Path) {
				return fmt.Errorf("the companion %s is a file of the build: %w", k.Path, pinfile.ErrRuns)
			}
		}
	}
	for _, e := range o.Add.Edits {
		if a, ok := c.Attributes.Files[e.File]; ok && a.Mode&0o111 != 0 {
			return fmt.Errorf("%s, which an edit is about, is a program: %w", e.File, pinfile.ErrRuns)
		}
	}
	return nil
}

// notHere is the error for a build that is not known by its content. One that only has the same name is
// not it.
func notHere(builds []*state.Build, label string) error {
	for _, b := range builds {
		if b.Label == label || b.Name() == label {
			return fmt.Errorf("%s: %w", b.Name(), ErrOtherContent)
		}
	}
	return fmt.Errorf("%s: %w", label, ErrNotKnown)
}
