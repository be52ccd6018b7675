package view

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"
)

func TestATableFitsTheWindow(t *testing.T) {
	columns := []Column{
		{Head: "Build", Cut: CutMiddle}, {Head: "Channel", Spare: 2}, {Head: "Date"}, {Head: "Size", Right: true, Spare: 3}, {Head: "Nothing"},
		{Head: "State", Cut: CutEnd}, {Head: "Folder", Cut: CutStart, Spare: 1},
	}
	rows := [][]string{
		{"1.1.1", "public", "2031-08-05 17:00", "1.2 MB", "", Paint(Good, "held"), "/games/Cinder Quay"},
		{"an-uncommonly-long-label-that-ends-in-2.0.17", "preview", "2031-12-01 09:00", "999 kB", "", "not held, and with much to be said of it besides", "/games/a very long way/down/to the folder of/Cinder Quay"},
		{"港の物語-1.0", "public", "2031-01-01 09:00", "5 B", "", "", ""},
	}
	for width, want := range map[int][]string{60: {"Channel", "Size", "Folder"}, 80: {"Size"}, 100: {}, 138: {}} {
		text, hidden := Table(columns, rows, width)
		for line := range strings.Lines(text) {
			require.LessOrEqual(t, ansi.StringWidth(strings.TrimRight(line, "\n")), width, "%d: %q", width, line)
		}
		require.ElementsMatch(t, want, hidden, "%d", width)
		require.NotContains(t, text, "Nothing")
		require.Len(t, strings.Split(text, "\n"), 2+len(rows), "a row is a line")
		require.Contains(t, text, "2.0.17", "the end of a label tells")
	}
	text, hidden := Table(columns, rows, 0)
	require.Empty(t, hidden)
	require.Contains(t, text, "and with much to be said of it besides")
	require.Contains(t, text, "Nothing", "not a window: all of it")
	require.Equal(t, "Not shown: Channel, Size (no room; --json has all)", Hidden(columns, []string{"Size", "Channel"}))
	require.Empty(t, Hidden(columns, nil))
}

func TestACellIsShortenedWhereItTellsLeast(t *testing.T) {
	for _, c := range []struct {
		text string
		n    int
		cut  Cut
		want string
	}{
		{"short", 5, CutEnd, "short"},
		{"a longer text", 8, CutEnd, "a longe…"},
		{"/games/Cinder Quay/bin", 8, CutStart, "…uay/bin"},
		{"build-of-2.0.17", 9, CutMiddle, "buil….17"},
		{"stays as it is", 3, CutNever, "stays as it is"},
		{"one two three", 8, CutWrap, "one two\nthree"},
		{"港の物語", 5, CutEnd, "港の…"},
	} {
		got := Shorten(c.text, c.n, c.cut)
		if c.cut == CutMiddle {
			require.Equal(t, c.n, ansi.StringWidth(got), got)
			require.True(t, strings.HasPrefix(got, "buil") && strings.HasSuffix(got, "0.17"), got)
			continue
		}
		require.Equal(t, c.want, got, c.text)
	}
}
