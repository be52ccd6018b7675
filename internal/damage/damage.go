// Package damage has a sense for what no update and no game does to files: they become empty or zeros, or most of them are gone at once.
package damage

import (
	"context"
	"fmt"
	"io"
	"os"

	"morvant/internal/manifest"
	"morvant/internal/scan"
)

// From when on so many files gone count as damage, and that part of all.
const (
	goneFrom  = 100
	goneShare = 0.5
)

// Found is what a folder has lost since its last good state.
type Found struct {
	Since   string   // what that is called
	Emptied []string // held something then, and are empty
	Zeros   []string // likewise, and are nothing but zeros
	Gone    int      // files of then that are not there
	Of      int

	from int64 // how many bytes a file must have held
}

// Since begins a comparison with a last good state, of files that held so many bytes.
func Since(what string, from int64) *Found { return &Found{Since: what, from: from} }

// Compare compares a folder with its last good state; theirs are files that do not count.
func (d *Found) Compare(ctx context.Context, root *os.Root, before *manifest.Manifest, t *scan.Tree, theirs func(string) bool) error {
	return d.compare(before, t, theirs, func(e *scan.Entry) (bool, error) { return zeros(ctx, root, e) })
}

func (d *Found) compare(before *manifest.Manifest, t *scan.Tree, theirs func(string) bool, zeros func(*scan.Entry) (bool, error)) error {
	for _, f := range before.Files {
		if theirs(f.Path) {
			continue
		}
		d.Of++
		e := t.Entry(f.Path)
		switch {
		case e == nil || e.Kind != scan.File:
			d.Gone++
		case f.Size < d.from || e.Known && e.Digest == f.Digest:
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
func (d *Found) String() string {
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
