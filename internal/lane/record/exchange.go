package record

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"morvant/internal/exchange"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
)

// Errors of what is shared with others.
var (
	ErrOtherContent = errors.New("this label means other content here")
	ErrNotKnown     = errors.New("this build is not known here")
	// ErrLane is returned for an export into the folder of a lane.
	ErrLane = errors.New("an export needs a folder of its own")
)

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

// Imports says what to import.
type Imports struct {
	Source string // archive or bag
	Inside string // only this folder of it; ".": all of it, whatever it looks like
	Label  string
	Note   string
	DryRun bool // only find out what it would be
	// Nested is asked whether only a folder of the source is to be taken, which resembles the game
	// where the whole does not. An error ends the import.
	Nested func(folder string) error
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
	in, err := (&exchange.Import{Inside: from.Inside, Sink: sink(from, session), Meter: l.Meter}).Read(ctx, from.Source)
	if err == nil && from.Inside == "" {
		in, err = likeTheGame(ctx, l, in, from)
	}
	if err == nil {
		if in.Private > 0 {
			l.Meter.Warn(fmt.Sprintf("%s in it is Morvant's own, of the folder that it was made of, and is left out", manifest.PrivateDir))
		}
		b.Files, b.Bytes = len(in.Manifest.Files), in.Manifest.Bytes()
		b.Manifest = in.Manifest.Digest()
		if !from.DryRun {
			err = compose.Describe(ctx, l, session, b, in.Manifest.Encode(), in.Attributes.Encode())
		}
	}
	if err := errors.Join(err, session.Close()); err != nil || from.DryRun {
		return b, err
	}
	return b, l.Home.AddBuild(context.WithoutCancel(ctx), b)
}

// sink is where the content of an import goes: into the store, or nowhere.
func sink(from Imports, session *store.Session) exchange.Sink {
	if !from.DryRun {
		return session.Put
	}
	return exchange.Sink(scan.Hash())
}

// likeTheGame takes the folder of an import that resembles the game, where the whole does not.
func likeTheGame(ctx context.Context, l *lane.Lane, in *exchange.Imported, from Imports) (*exchange.Imported, error) {
	paths, err := gamePaths(ctx, l)
	if err != nil || len(paths) == 0 {
		return in, err
	}
	switch folder, like := identify.Resembles(in.Manifest, paths); {
	case folder != "":
		if err := from.Nested(folder); err != nil {
			return nil, err
		}
		return in.In(folder), nil
	case !like:
		l.Meter.Warn(fmt.Sprintf("%s does not resemble %s: hardly any of its files has a place in a known build or in the folder", filepath.Base(from.Source), l.Game.Display()))
	}
	return in, nil
}

// gamePaths lists the paths of all known builds; of the folder, if none is known.
func gamePaths(ctx context.Context, l *lane.Lane) (map[string]bool, error) {
	known, err := compose.Known(ctx, l.Home, l.Store, l.Game)
	if err != nil {
		return nil, err
	}
	paths := identify.Paths(known)
	if len(paths) > 0 || l.Root == nil {
		return paths, nil
	}
	t, err := l.Walk(ctx)
	if err != nil {
		return nil, err
	}
	return identify.Paths([]identify.Known{{Parts: []identify.Part{{Manifest: t.Manifest()}}}}), nil
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
