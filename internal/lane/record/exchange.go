package record

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"morvant/internal/exchange"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// Errors of what is shared with others.
var (
	ErrOtherContent = errors.New("the label means other content here")
	ErrNotKnown     = errors.New("this build is not known here")
)

// Export writes a build in an open format. All of its content must be in the store.
func Export(ctx context.Context, l *lane.Lane, b *state.Build, components []string, format, dest string) error {
	choice, err := compose.Choose(ctx, l, b, components)
	if err != nil {
		return err
	}
	c, err := compose.Of(ctx, l, b, choice.Names)
	if err != nil {
		return err
	}
	if format != exchange.B3Sums {
		lacks, err := l.Store.Lacks(ctx, compose.Contents(c.Manifest))
		if err != nil {
			return err
		}
		if len(lacks) > 0 {
			return fmt.Errorf("%d of the files of %s: %w", len(lacks), b.Label, compose.ErrNotFetched)
		}
	}
	e := &exchange.Export{Label: b.Label, Manifest: c.Manifest, Attributes: c.Attributes, Content: l.Store, Meter: l.Meter, Now: l.Now}
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
func Import(ctx context.Context, l *lane.Lane, from Imports) (*state.Build, error) {
	if _, err := os.Stat(from.Source); err != nil {
		return nil, err
	}
	label, err := labelOrNext(ctx, l, from.Label)
	if err != nil {
		return nil, err
	}
	session := l.Store.Begin()
	b := &state.Build{UID: state.NewUID(), Game: l.Game.Name, Label: label, Note: from.Note, Made: l.Now()}
	in, err := (&exchange.Import{Inside: from.Inside, Sink: session.Put, Meter: l.Meter}).Read(ctx, from.Source)
	if err == nil {
		b.Files, b.Bytes = len(in.Manifest.Files), in.Manifest.Bytes()
		err = compose.Describe(ctx, l, session, b, in.Manifest.Encode(), in.Attributes.Encode())
	}
	if err := errors.Join(err, session.Close()); err != nil {
		return nil, err
	}
	return b, l.Home.AddBuild(context.WithoutCancel(ctx), b)
}

var _ exchange.Content = (*store.Store)(nil)

// Summer computes the checksums that content may be listed under.
type Summer func(r io.Reader) ([][]byte, error)

// CheckSums lists the files of a list that are not in the lane, or not as the list
// says.
func CheckSums(ctx context.Context, l *lane.Lane, list []exchange.Sum, sum Summer) ([]string, error) {
	differs := []string{}
	for _, s := range list {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		p := strings.TrimPrefix(s.Path, "./")
		if manifest.CheckPath(p) != nil {
			return nil, fmt.Errorf("%w: %q is no path inside a game's folder", exchange.ErrHostile, s.Path)
		}
		f, err := scan.OpenFile(l.Root, p)
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
