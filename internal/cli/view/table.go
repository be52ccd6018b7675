package view

import (
	"cmp"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/charmbracelet/x/ansi"
)

// Cut is where a long cell is shortened.
type Cut int

// The ways.
const (
	CutNever  Cut = iota
	CutEnd        // the beginning tells: notes, states
	CutMiddle     // both ends tell: labels with a version at the end
	CutStart      // the end tells: paths
	CutWrap       // all of it tells: it goes on in the next line
)

// Column is a column of a table.
type Column struct {
	Head  string
	Right bool // set to the right: numbers
	// Spare says which columns are left out first where the window is narrow: the highest first;
	// 0: never.
	Spare int
	Cut   Cut
	// Least is the fewest cells that it is shortened to; 0: usualLeast.
	Least int
}

// FileColumns are those of lists of files, behind a word for what becomes of each.
func FileColumns(word string) []Column {
	return []Column{{Head: word}, {Head: "Size", Right: true}, {Head: "File", Cut: CutStart}}
}

const (
	between = 2 // cells between columns
	// usualLeast is the fewest cells that a column is shortened to.
	usualLeast = 14
)

// Table lays rows out under headings, within width cells; 0: as wide as it comes. hidden names the
// columns for which there was no room.
func Table(columns []Column, rows [][]string, width int) (text string, hidden []string) {
	shown := make([]int, len(columns)) // columns by number
	for i := range columns {
		shown[i] = i
	}
	if width > 0 { // a column without anything in it helps nobody
		shown = slices.DeleteFunc(shown, func(i int) bool {
			return i > 0 && !slices.ContainsFunc(rows, func(r []string) bool { return r[i] != "" })
		})
	}
	for {
		widths, fits := fit(columns, shown, rows, width)
		if fits {
			return render(columns, shown, rows, widths), hidden
		}
		last := -1
		for at, i := range shown {
			if columns[i].Spare > 0 && (last < 0 || columns[i].Spare > columns[shown[last]].Spare) {
				last = at
			}
		}
		if last < 0 {
			return render(columns, shown, rows, widths), hidden
		}
		hidden = append(hidden, columns[shown[last]].Head)
		shown = slices.Delete(shown, last, last+1)
	}
}

// fit shares the width out between the columns; fits is false if some had to be shorter than is of use.
func fit(columns []Column, shown []int, rows [][]string, width int) (widths []int, fits bool) {
	widths = make([]int, len(shown))
	total := between * (len(shown) - 1)
	for at, i := range shown {
		widths[at] = ansi.StringWidth(columns[i].Head)
		for _, r := range rows {
			widths[at] = max(widths[at], ansi.StringWidth(r[i]))
		}
		total += widths[at]
	}
	if width <= 0 || total <= width {
		return widths, true
	}
	for total > width {
		widest := -1
		for at, i := range shown {
			if columns[i].Cut != CutNever && widths[at] > cmp.Or(columns[i].Least, usualLeast) && (widest < 0 || widths[at] > widths[widest]) {
				widest = at
			}
		}
		if widest < 0 {
			return widths, false
		}
		widths[widest]--
		total--
	}
	return widths, true
}

func render(columns []Column, shown []int, rows [][]string, widths []int) string {
	var heads []string
	cells := make([][]string, len(rows))
	for at, i := range shown {
		heads = append(heads, columns[i].Head)
		for n, r := range rows {
			cells[n] = append(cells[n], Shorten(r[i], widths[at], columns[i].Cut))
		}
	}
	t := table.New().
		Headers(heads...).Rows(cells...).
		Border(lipgloss.NormalBorder()).
		BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).
		BorderStyle(lipgloss.NewStyle().Faint(true)).
		StyleFunc(func(row, column int) lipgloss.Style {
			s := lipgloss.NewStyle()
			if column < len(shown)-1 {
				s = s.PaddingRight(between)
			}
			if columns[shown[column]].Right {
				s = s.Align(lipgloss.Right)
			}
			if row == table.HeaderRow {
				s = s.Faint(true)
			}
			return s
		})
	return t.String()
}

// Shorten shortens a text to n cells, where cut says.
func Shorten(s string, n int, cut Cut) string {
	over := ansi.StringWidth(s) - n
	if over <= 0 || n < 1 {
		return s
	}
	const mark = "…"
	switch cut {
	case CutNever:
		return s
	case CutWrap:
		return ansi.Wrap(s, n, "/")
	case CutStart:
		return ansi.TruncateLeft(s, over+1, mark)
	case CutMiddle:
		head := n / 2
		return ansi.Truncate(s, head, "") + mark + ansi.TruncateLeft(s, ansi.StringWidth(s)-(n-head-1), "")
	}
	return ansi.Truncate(s, n, mark)
}

// Hidden says which columns had no room; empty if all had.
func Hidden(columns []Column, hidden []string) string {
	if len(hidden) == 0 {
		return ""
	}
	order := func(name string) int {
		return slices.IndexFunc(columns, func(c Column) bool { return c.Head == name })
	}
	slices.SortFunc(hidden, func(a, b string) int { return cmp.Compare(order(a), order(b)) })
	return "Not shown: " + strings.Join(hidden, ", ") + " (no room; --json has all)"
}
