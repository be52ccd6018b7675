package record

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/status"
	"morvant/internal/report"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// writeReport writes a comparison as a page.
func (a commands) writeReport(ctx context.Context, l *lane.Lane, d *status.Difference, file string) error {
	p := report.Page{Game: l.Game.Display(), From: d.From.Label, To: d.To.Label, Changes: d.Build, Kept: d.Kept, Made: a.Now(), Size: view.Size}
	left := 0
	for _, f := range d.Build.Changed {
		if f.Old.Size > report.MaxText || f.New.Size > report.MaxText {
			continue
		}
		old, _, oldErr := status.Text(ctx, l, d.From, f.Path)
		fresh, _, freshErr := status.Text(ctx, l, d.To, f.Path)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case oldErr != nil || freshErr != nil:
			left++
		case !view.IsText(old) || !view.IsText(fresh):
		case len(p.Texts) == report.MaxTexts:
			left++
		default:
			p.Texts = append(p.Texts, report.Text{Path: f.Path, Old: string(old), New: string(fresh)})
		}
	}
	if left > 0 {
		p.Note = fmt.Sprintf("%s of small size are not shown line by line: there are too many, or they have not been fetched.", view.Count(left, "file"))
	}
	var out bytes.Buffer
	if _, err := p.WriteTo(&out); err != nil {
		return err
	}
	return volume.Replace(file, out.Bytes(), 0o644)
}

// mayWrite asks before something is written over a file that is there.
func (a commands) mayWrite(c *cli.Command, file string) error {
	if _, err := os.Lstat(file); !volume.Absent(err) {
		if !c.Bool("yes") {
			a.Note("%s is there already.", file)
		}
		return a.Ask(c, "Write over it?")
	}
	if c.Bool("dry-run") {
		return cmp.Or(a.Done(c, "This was a dry run; it would write "+file), app.ErrDryRun)
	}
	return nil
}

// plotBuilds draws the history of builds.
func (a commands) plotBuilds(ctx context.Context, c *cli.Command, home *game.Home, g *game.Game, list []*state.Build) (err error) {
	file := c.String("plot")
	if err := a.mayWrite(c, file); err != nil {
		return err
	}
	format := strings.TrimPrefix(strings.ToLower(filepath.Ext(file)), ".")
	session, err := a.OpenLaneOf(ctx, c, home, g.Name, app.ToLook)
	if err != nil {
		return err
	}
	defer session.Close(&err)
	l := session.Lane
	here, err := a.here(ctx, home, g, list)
	if err != nil {
		return err
	}
	var points []report.Point
	var before *status.Side
	for i := range list { // the oldest first
		b := list[len(list)-1-i]
		side, err := status.BuildSide(ctx, l, b, nil)
		if err != nil {
			return err
		}
		point := report.Point{Label: b.Label, Date: b.Made, Bytes: side.Manifest.Bytes(), Held: b.Components == nil || here.Bytes[b] >= b.Bytes}
		if before != nil {
			point.New = status.Compare(l, before, side).Build.BytesIn()
		}
		before = side
		points = append(points, point)
	}
	var out bytes.Buffer
	if err := report.Plot(&out, format, g.Display(), points); err != nil {
		return err
	}
	if err := volume.Replace(file, out.Bytes(), 0o644); err != nil {
		return err
	}
	return a.Done(c, fmt.Sprintf("%s has the history of %s: %s.", file, g.Display(), view.Count(len(points), "build")))
}
