// Package damage has a sense for what no update and no game does to files: they become empty or zeros, or most of them are gone at once.
package damage

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"

	"morvant/internal/digest"
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
	at := func(p string) (manifest.File, bool) {
		e := t.Entry(p)
		if e == nil || e.Kind != scan.File {
			return manifest.File{}, false
		}
		f := manifest.File{Path: e.Path, Size: e.Stamp.Size}
		if e.Known {
			f.Digest = e.Digest
		}
		return f, true
	}
	return d.compare(before, at, theirs, func(f manifest.File) (bool, error) { return ZerosAt(ctx, root, f.Path) })
}

// CompareLists compares what is recorded elsewhere; zeros are the contents of it that are nothing else.
func (d *Found) CompareLists(before, now *manifest.Manifest, theirs func(string) bool, zeros map[digest.Digest]bool) {
	_ = d.compare(before, now.File, theirs, func(f manifest.File) (bool, error) { return zeros[f.Digest], nil })
}

func (d *Found) compare(before *manifest.Manifest, at func(string) (manifest.File, bool), theirs func(string) bool, zeros func(manifest.File) (bool, error)) error {
	for _, f := range before.Files {
		if theirs(f.Path) {
			continue
		}
		d.Of++
		is, there := at(f.Path)
		switch {
		case !there:
			d.Gone++
		case f.Size < d.from || is.Digest == f.Digest:
		case is.Size == 0:
			d.Emptied = append(d.Emptied, f.Path)
		default:
			blank, err := zeros(is)
			if err != nil {
				return err
			}
			if blank {
				d.Zeros = append(d.Zeros, f.Path)
			}
		}
	}
	if d.Gone < goneFrom || float64(d.Gone) < goneShare*float64(d.Of) {
		d.Gone = 0
	}
	return nil
}

// ZerosAt reports whether a file holds nothing but zeros. Of most it reads the first piece.
func ZerosAt(ctx context.Context, root *os.Root, p string) (bool, error) {
	f, err := scan.OpenFile(root, p)
	if err != nil {
		return false, nil // which reading it says better
	}
	defer f.Close()
	z := &Zeros{Reader: f}
	piece := make([]byte, 64<<10)
	for !z.other {
		_, err := z.Read(piece)
		if err == io.EOF {
			break
		}
		if err != nil || ctx.Err() != nil {
			return false, ctx.Err()
		}
	}
	return !z.other, nil
}

// Zeros looks at content that is read through it.
type Zeros struct {
	io.Reader
	some, other bool
}

func (z *Zeros) Read(p []byte) (int, error) {
	n, err := z.Reader.Read(p)
	z.some = z.some || n > 0
	z.other = z.other || slices.ContainsFunc(p[:n], func(b byte) bool { return b != 0 })
	return n, err
}

// Only reports whether it was zeros and nothing else.
func (z *Zeros) Only() bool { return z.some && !z.other }

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
