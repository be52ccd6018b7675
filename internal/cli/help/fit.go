package help

import (
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"
)

// Fit makes the library's help fit a window of so many columns; 0 means that there is none.
func Fit(width func() int) {
	cli.HelpPrinter = func(w io.Writer, templ string, data any) {
		var text strings.Builder
		cli.HelpPrinterCustom(&text, templ, data, nil)
		io.WriteString(w, fit(text.String(), width())) //nolint:errcheck // nobody is left to be told
	}
}

var (
	repeated = regexp.MustCompile(`(--[a-z-]+ [A-Z:=]+) \[ --[^\]]*\]( *)`)
	row      = regexp.MustCompile(`^( +\S.*?)( {2,})(\S.*)$`)
)

// beside is the least room, in columns, for what an option does beside its name.
const beside = 34

// fit lays out the text of help: options that may be repeated are listed once, rows are broken
// under their second column, paragraphs are filled.
func fit(text string, width int) string {
	var out []string
	for block := range strings.SplitSeq(text, "\n\n") {
		lines := strings.Split(block, "\n")
		switch {
		case slices.ContainsFunc(lines, repeated.MatchString) || strings.Contains(block, "OPTIONS:\n"):
			lines = optionRows(lines, width)
		case width > 0:
			lines = fitLines(lines, width)
		}
		out = append(out, strings.Join(lines, "\n"))
	}
	return strings.Join(out, "\n\n")
}

// optionRows lines up the rows of a list of options anew.
func optionRows(lines []string, width int) []string {
	var names, texts []string
	for _, line := range lines {
		cells := row.FindStringSubmatch(repeated.ReplaceAllString(line, "$1 ...  "))
		if cells == nil {
			names, texts = append(names, line), append(texts, "")
			continue
		}
		names, texts = append(names, cells[1]), append(texts, cells[3])
	}
	column := 0
	for i, name := range names {
		if texts[i] != "" {
			column = max(column, ansi.StringWidth(name)+2)
		}
	}
	if width > 0 {
		column = min(column, max(width-beside, 8))
	}
	var out []string
	for i, name := range names {
		out = append(out, rowOf(name, texts[i], column, width)...)
	}
	return out
}

// rowOf is a row of two cells, the second from a column on; under the first where that is too long.
func rowOf(name, text string, column, width int) []string {
	if text == "" {
		return []string{name}
	}
	pad := strings.Repeat(" ", column)
	parts := []string{text}
	if width > 0 {
		parts = strings.Split(ansi.Wordwrap(text, max(width-column-1, 10), ""), "\n")
	}
	var out []string
	if ansi.StringWidth(name) >= column {
		out = append(out, name)
	} else {
		parts[0] = name + strings.Repeat(" ", column-ansi.StringWidth(name)) + parts[0]
		out, parts = append(out, parts[0]), parts[1:]
	}
	for _, part := range parts {
		out = append(out, pad+part)
	}
	return out
}

// fitLines fits the lines of a paragraph: prose is filled, rows are broken under their second
// column. Lines that are typed as they stand stay whole.
func fitLines(lines []string, width int) []string {
	var out []string
	for len(lines) > 0 {
		indent := indentation(lines[0])
		n := 1
		for n < len(lines) && indentation(lines[n]) == indent {
			n++
		}
		out = append(out, fitRun(lines[:n], indent, width)...)
		lines = lines[n:]
	}
	return out
}

func indentation(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

// fitRun fits lines that are indented alike.
func fitRun(lines []string, indent, width int) []string {
	if !slices.ContainsFunc(lines, func(l string) bool { return ansi.StringWidth(l) >= width }) {
		return lines
	}
	if !slices.ContainsFunc(lines, notProse) {
		words := strings.Join(strings.Fields(strings.Join(lines, " ")), " ")
		filled := strings.Split(ansi.Wordwrap(words, max(width-indent-1, 10), ""), "\n")
		for i := range filled {
			filled[i] = strings.Repeat(" ", indent) + filled[i]
		}
		return filled
	}
	var out []string
	for _, line := range lines {
		cells := row.FindStringSubmatch(line)
		if name, about, is := strings.Cut(line, " - "); is && cells == nil {
			cells = []string{line, name + " -", " ", about}
		}
		if cells == nil || ansi.StringWidth(line) < width || typed(cells[3]) {
			out = append(out, line)
			continue
		}
		out = append(out, rowOf(cells[1], cells[3], min(len(cells[1])+len(cells[2]), width-beside), width)...)
	}
	return out
}

// notProse tells of a line that it is a row, or is typed as it stands.
func notProse(line string) bool {
	line = strings.TrimSpace(line)
	return strings.Contains(line, "  ") || strings.HasPrefix(line, "Example") || typed(line)
}

func typed(text string) bool {
	return strings.HasPrefix(text, "morvant ") || strings.HasPrefix(text, "source ")
}
