package transfer

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
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

// ErrLane is returned for an export into the folder of a lane.
var ErrLane = errors.New("an export needs a folder of its own")

// Exports says what to export.
type Exports struct {
	Components []string // none: those that the lane has
	Only       bool     // no others, be they required
	Format     string
	Dest       string
}

// Export writes a build in an open format. All of its content must be in the store.
func Export(ctx context.Context, l *lane.Lane, b *state.Build, x Exports) error {
	if g, at, err := l.Home.Holding(ctx, x.Dest); x.Format == exchange.Folder && err == nil && g != nil {
		return fmt.Errorf("%s: %w: it lies in lane %s of %s", x.Dest, ErrLane, at.Name, g.Name)
	}
	choice, err := compose.ChooseOnly(ctx, l, b, x.Components, x.Only)
	if err != nil {
		return err
	}
	c, err := compose.Of(ctx, l, b, choice.Names)
	if err != nil {
		return err
	}
	format, dest := x.Format, x.Dest
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
			return nil, fmt.Errorf("%w: \"%s\" is no path inside a game's folder", exchange.ErrHostile, s.Path)
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
