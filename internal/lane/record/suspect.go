package record

import (
	"context"
	"fmt"
	"io"
	"os"

	"morvant/internal/lane"
	"morvant/internal/manifest"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// From when on something counts as damage: a file that held so many bytes and is empty or all zeros, and so many files gone, and
// that part of all.
const (
	emptiedFrom = 1 << 10
	goneFrom    = 100
	goneShare   = 0.5
)

// damage is what a folder has lost since its last good state.
type damage struct {
	Since   string   // the label of that
	Emptied []string // held something then, and are empty
	Zeros   []string // likewise, and are nothing but zeros
	Gone    int      // files of then that are not there
	Of      int
}

// suspects looks for what no update does: files that have become empty or zeros, as placeholders of a sync program and
// downloads that were cut off are, and most of the game gone at once. Files of the player's and scratch do not count.
func suspects(ctx context.Context, l *lane.Lane, t *scan.Tree, builds []*state.Build) (d damage, err error) {
	good, err := lastGood(ctx, l, builds)
	if err != nil || good == nil {
		return d, err
	}
	m, err := good.ReadManifest(ctx, l.Store)
	if err != nil {
		return d, nil // it tells nothing; the store says so elsewhere
	}
	d.Since = good.Label
	match := l.Game.Rules().Matcher()
	theirs := func(p string) bool { return match.Kept(p) || match.Scratch(p) }
	return d, d.compare(m, t, theirs, func(e *scan.Entry) (bool, error) { return zeros(ctx, l.Root, e) })
}

// lastGood is the build that the lane is held to, else the newest snapshot without a doubt.
func lastGood(ctx context.Context, l *lane.Lane, builds []*state.Build) (*state.Build, error) {
	if _, b, err := l.Pin(ctx); err != nil || b != nil {
		return b, err
	}
	var good *state.Build
	for _, b := range builds {
		if b.Channel == "" && !b.Fragment && b.Doubt == "" && (good == nil || b.Made.After(good.Made)) {
			good = b
		}
	}
	return good, nil
}

func (d *damage) compare(before *manifest.Manifest, t *scan.Tree, theirs func(string) bool, zeros func(*scan.Entry) (bool, error)) error {
	for _, f := range before.Files {
		if theirs(f.Path) {
			continue
		}
		d.Of++
		e := t.Entry(f.Path)
		switch {
		case e == nil || e.Kind != scan.File:
			d.Gone++
		case f.Size < emptiedFrom || e.Known && e.Digest == f.Digest:
		case e.Stamp.Size == 0:
			d.Emptied = append(d.Emptied, f.Path)
		default:
			is, err := zeros(e)
			if err != nil {
				return err
			}
			if is {
				d.Zeros = append(d.Zeros, f.Path)
			}
		}
	}
	if d.Gone < goneFrom || float64(d.Gone) < goneShare*float64(d.Of) {
		d.Gone = 0
	}
	return nil
}

// zeros reports whether a file holds nothing but zeros. Of most it reads the first piece.
func zeros(ctx context.Context, root *os.Root, e *scan.Entry) (bool, error) {
	f, err := scan.OpenFile(root, e.Path)
	if err != nil {
		return false, nil // which reading it says better
	}
	defer f.Close()
	piece := make([]byte, 64<<10)
	for {
		n, err := f.Read(piece)
		for _, b := range piece[:n] {
			if b != 0 {
				return false, nil
			}
		}
		if err == io.EOF {
			return true, nil
		}
		if err != nil || ctx.Err() != nil {
			return false, ctx.Err()
		}
	}
}

// String says what is suspicious; empty: nothing is.
func (d *damage) String() string {
	text := func(list []string, one, many string) string {
		if n := len(list) - 1; n > 0 {
			return fmt.Sprintf("%s and %d more %s, and were not in %s", list[0], n, many, d.Since)
		}
		return fmt.Sprintf("%s %s, and was not in %s", list[0], one, d.Since)
	}
	switch {
	case len(d.Zeros) > 0:
		return text(append(d.Zeros, d.Emptied...), "holds nothing but zeros", "hold nothing")
	case len(d.Emptied) > 0:
		return text(d.Emptied, "is empty", "are empty")
	case d.Gone > 0:
		return fmt.Sprintf("%d of the %d files of %s are gone", d.Gone, d.Of, d.Since)
	}
	return ""
}
