package cli

import (
	"fmt"
	"image/color"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/dustin/go-humanize"
	"golang.org/x/term"
)

// The few colours, by what they mean. A word always says the same.
var (
	good  color.Color = lipgloss.Green
	bad   color.Color = lipgloss.Red
	fresh color.Color = lipgloss.Cyan
)

func paint(c color.Color, s string) string { return lipgloss.NewStyle().Foreground(c).Render(s) }

func strong(s string) string { return lipgloss.NewStyle().Bold(true).Render(s) }

func faint(s string) string { return lipgloss.NewStyle().Faint(true).Render(s) }

// grid lays rows out under headings. Columns whose heading starts with ">" are
// set to the right.
func grid(headings []string, rows [][]string) string {
	right := make([]bool, len(headings))
	clean := make([]string, len(headings))
	for i, h := range headings {
		clean[i], right[i] = strings.CutPrefix(h, ">")
	}
	t := table.New().
		Headers(clean...).Rows(rows...).
		Border(lipgloss.NormalBorder()).
		BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).
		BorderStyle(lipgloss.NewStyle().Faint(true)).
		StyleFunc(func(row, column int) lipgloss.Style {
			s := lipgloss.NewStyle().PaddingRight(2)
			if right[column] {
				s = s.Align(lipgloss.Right)
			}
			if row == table.HeaderRow {
				s = s.Faint(true)
			}
			return s
		})
	return t.String()
}

// width returns the columns of the terminal; 0 if the output goes elsewhere.
func (a *app) width() int {
	w, _, err := term.GetSize(int(a.stdout.Fd()))
	if err != nil {
		return 0
	}
	return w
}

// fitted is grid with the last column, of plain text, cut so that rows fit the
// terminal.
func (a *app) fitted(headings []string, rows [][]string) string {
	width := a.width()
	if width == 0 {
		return grid(headings, rows)
	}
	last := len(headings) - 1
	for i := range last {
		column := lipgloss.Width(strings.TrimPrefix(headings[i], ">"))
		for _, r := range rows {
			column = max(column, lipgloss.Width(r[i]))
		}
		width -= column + 2
	}
	for _, r := range rows {
		r[last] = clip(r[last], max(8, width-2))
	}
	return grid(headings, rows)
}

// count writes "1 file" or "12 files".
func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return humanize.Comma(int64(n)) + " " + word + "s"
}

func day(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// fields lays out names and values, one a line.
func fields(pairs ...string) string {
	width := 0
	for i := 0; i < len(pairs); i += 2 {
		width = max(width, len(pairs[i]))
	}
	var b strings.Builder
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] == "" {
			continue
		}
		fmt.Fprintf(&b, "  %s  %s\n", faint(fmt.Sprintf("%-*s", width, pairs[i])), pairs[i+1])
	}
	return strings.TrimSuffix(b.String(), "\n")
}
