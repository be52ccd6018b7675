// Package report draws what changed between two builds as one page that needs
// nothing else, and the history of a game as a picture. It reads nothing by itself:
// in go lists and texts, out come bytes.
package report

import (
	"cmp"
	"embed"
	"html/template"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"morvant/internal/manifest"
)

//go:embed page.html
var pageFile embed.FS

// Page is a comparison of two builds.
type Page struct {
	Game     string
	From, To string
	Changes  *manifest.Changes
	Kept     *manifest.Changes // the player's own files
	Texts    []Text
	Made     time.Time
	Size     func(bytes int64) string // for people
	Note     string                   // what the page cannot show
}

// Text is a text file on both sides.
type Text struct {
	Path     string
	Old, New string
}

// Limits of what a page shows of texts.
const (
	MaxTexts = 60
	MaxText  = 256 << 10 // bytes of one
)

// Row is one line of the list of files.
type Row struct {
	What string // "changed", "added", "removed", "moved"
	Path string
	From string // of a moved file
	Old  string
	New  string
	Sort int64 // bytes
}

// Folder sums up one folder: bytes of what is in it, by what happens to them, and
// each as a share of the largest folder, in percent.
type Folder struct {
	Name                    string
	Files                   int
	Bytes                   int64
	Total                   string
	Changed, Added, Removed float64
}

// Side is a line of a text, on the left and on the right.
type Side struct {
	Left, Right       string
	HasLeft, HasRight bool
	Same, Gap         bool
}

type view struct {
	Page
	Rows    []Row
	Folders []Folder
	Diffs   []diff
	Totals  map[string]string
	Counts  map[string]int
	Own     int
}

type diff struct {
	Path  string
	Lines []Side
}

// WriteTo writes the page as HTML.
func (p Page) WriteTo(w io.Writer) (int64, error) {
	t, err := template.New("page.html").ParseFS(pageFile, "page.html")
	if err != nil {
		return 0, err
	}
	counted := &counter{w: w}
	err = t.Execute(counted, p.view())
	return counted.n, err
}

type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

func (p Page) view() *view {
	c := p.Changes
	v := &view{Page: p, Totals: make(map[string]string), Counts: map[string]int{
		"changed": len(c.Changed), "added": len(c.Added), "removed": len(c.Removed), "moved": len(c.Moved), "same": c.Same,
	}}
	sums := make(map[string]int64)
	folders := make(map[string]*sums3)
	add := func(what, file string, size int64, row Row) {
		sums[what] += size
		row.What, row.Path, row.Sort = what, file, size
		v.Rows = append(v.Rows, row)
		if what == "moved" {
			return
		}
		name := folderOf(file)
		if folders[name] == nil {
			folders[name] = &sums3{by: make(map[string]int64)}
		}
		folders[name].files++
		folders[name].by[what] += size
	}
	for _, f := range c.Changed {
		add("changed", f.Path, f.New.Size, Row{Old: p.Size(f.Old.Size), New: p.Size(f.New.Size)})
	}
	for _, f := range c.Added {
		add("added", f.Path, f.Size, Row{New: p.Size(f.Size)})
	}
	for _, f := range c.Removed {
		add("removed", f.Path, f.Size, Row{Old: p.Size(f.Size)})
	}
	for _, m := range c.Moved {
		add("moved", m.To.Path, m.To.Size, Row{From: m.From.Path, Old: p.Size(m.From.Size), New: p.Size(m.To.Size)})
	}
	for what, n := range sums {
		v.Totals[what] = p.Size(n)
	}
	slices.SortStableFunc(v.Rows, func(a, b Row) int { return cmp.Compare(b.Sort, a.Sort) })
	v.Folders = p.folders(folders)
	if k := p.Kept; k != nil {
		v.Own = len(k.Changed) + len(k.Added) + len(k.Removed) + len(k.Moved)
	}
	for _, t := range p.Texts {
		v.Diffs = append(v.Diffs, diff{t.Path, SideBySide(t.Old, t.New)})
	}
	return v
}

type sums3 struct {
	files int
	by    map[string]int64
}

// folderOf returns the folder that a file is shown under: at most two levels.
func folderOf(file string) string {
	dir := path.Dir(file)
	if dir == "." {
		return "(top)"
	}
	if parts := strings.Split(dir, "/"); len(parts) > 2 {
		dir = path.Join(parts[:2]...)
	}
	return dir
}

func (p Page) folders(all map[string]*sums3) []Folder {
	var list []Folder
	var most int64
	for name, s := range all {
		f := Folder{Name: name, Files: s.files, Bytes: s.by["changed"] + s.by["added"] + s.by["removed"]}
		f.Total = p.Size(f.Bytes)
		most = max(most, f.Bytes)
		list = append(list, f)
	}
	for i := range list {
		by := all[list[i].Name].by
		share := func(what string) float64 { return 100 * float64(by[what]) / float64(max(most, 1)) }
		list[i].Changed, list[i].Added, list[i].Removed = share("changed"), share("added"), share("removed")
	}
	slices.SortFunc(list, func(a, b Folder) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), strings.Compare(a.Name, b.Name))
	})
	return list
}

// context is how many lines around a change are shown.
const context = 3

// SideBySide sets two texts beside each other: what changes, and a few lines around it.
func SideBySide(old, fresh string) []Side {
	d, err := udiff.ToUnifiedDiff("", "", old, udiff.Strings(old, fresh), context)
	if err != nil {
		return nil
	}
	var list []Side
	for i, h := range d.Hunks {
		if i > 0 {
			list = append(list, Side{Gap: true})
		}
		list = append(list, sides(h)...)
	}
	return list
}

// sides pairs the lines that go with those that come.
func sides(h *udiff.Hunk) []Side {
	var list []Side
	var gone, come []string
	flush := func() {
		for i := range max(len(gone), len(come)) {
			var s Side
			if i < len(gone) {
				s.Left, s.HasLeft = gone[i], true
			}
			if i < len(come) {
				s.Right, s.HasRight = come[i], true
			}
			list = append(list, s)
		}
		gone, come = nil, nil
	}
	for _, l := range h.Lines {
		text := strings.TrimRight(l.Content, "\r\n")
		switch l.Kind {
		case udiff.Delete:
			gone = append(gone, text)
		case udiff.Insert:
			come = append(come, text)
		default:
			flush()
			list = append(list, Side{Left: text, Right: text, HasLeft: true, HasRight: true, Same: true})
		}
	}
	flush()
	return list
}
