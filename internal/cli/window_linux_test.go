package cli_test

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"
)

// TestTablesFitAnyWindow: at a terminal of this many columns no line of a table is broken in two.
func TestTablesFitAnyWindow(t *testing.T) {
	t.Parallel()
	script, err := exec.LookPath("script")
	if err != nil {
		t.Skip("script is not installed")
	}
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok(w.setting()...)
	w.ok("snapshot", "a-label-as-long-as-labels-get-when-people-say-it-all-of-1.1.1", "--note", "what one has to say of it, which is a good deal more than fits")
	w.ok("pin", "snapshot/1.1.1", "--yes")
	w.ok("lane", "new", "a-lane-with-a-name-of-length", "--from", "public/1.3.0", "--yes")
	w.write("a folder/with a long name/in a folder/with a long name/and-a-file-with-a-name-that-is-longer-still.pak", "new")
	w.write("readme.txt", "changed")
	commands := []string{
		"builds", "builds --on 2031-08-05", "history", "lane list", "feed list", "status", "block --show", "block presets", "identify", "games",
		"store show", "diff snapshot/1.1.1", "diff snapshot/1.1.1 public/1.3.0", "pin public/1.3.0 --dry-run",
	}
	for _, width := range []int{60, 80, 100, 138} {
		cmd := w.command()
		var all []string
		for _, c := range commands {
			all = append(all, fmt.Sprintf("echo '$ %s'; %s --color never %s", c, program, c))
		}
		cmd.Path, cmd.Args = script, []string{"script", "-qec", fmt.Sprintf("stty cols %d; %s; true", width, strings.Join(all, "; ")), "/dev/null"}
		r := w.finish(cmd)
		require.Zero(t, r.code, r.out)
		tables := 0
		command := ""
		var lines []string
		for line := range strings.Lines(r.out) {
			lines = append(lines, strings.TrimRight(line, "\r\n"))
		}
		for i, line := range lines {
			if strings.HasPrefix(line, "$ ") {
				command = line
			}
			if !strings.HasPrefix(line, "────") {
				continue
			}
			tables++
			room := ansi.StringWidth(line)
			require.LessOrEqual(t, room, width, "%d: %s", width, command)
			for _, row := range lines[i-1 : min(i+4, len(lines))] {
				if row == "" || strings.HasPrefix(row, "$ ") || !strings.HasPrefix(row, " ") && ansi.StringWidth(row) != room {
					break // below the table
				}
				require.LessOrEqual(t, ansi.StringWidth(row), width, "%d: %s: %q", width, command, row)
			}
		}
		require.GreaterOrEqual(t, tables, len(commands), "%d: %s", width, r.out)
	}
}

// TestHelpFitsAnyWindow: no line of help is wider than the window, but those that are typed as they stand.
func TestHelpFitsAnyWindow(t *testing.T) {
	t.Parallel()
	script, err := exec.LookPath("script")
	if err != nil {
		t.Skip("script is not installed")
	}
	w := newWorld(t)
	for _, width := range []int{60, 80, 138} {
		var all []string
		for _, c := range []string{"", "pin", "lane", "lane new", "publish", "watch", "let-update", "game set", "completion", "saves restore", "diff"} {
			all = append(all, program+" "+c+" --help")
		}
		cmd := w.command()
		cmd.Path, cmd.Args = script, []string{"script", "-qec", fmt.Sprintf("stty cols %d; %s; true", width, strings.Join(all, "; ")), "/dev/null"}
		r := w.finish(cmd)
		require.Zero(t, r.code, r.out)
		lines, broken := 0, 0
		for line := range strings.Lines(r.out) {
			line = strings.TrimRight(line, "\r\n")
			lines++
			if strings.HasPrefix(line, strings.Repeat(" ", 20)) {
				broken++
			}
			typed := strings.HasPrefix(strings.TrimSpace(line), "Example: ") || strings.HasPrefix(strings.TrimSpace(line), "morvant ") || strings.Contains(line, "   morvant ") || strings.Contains(line, "   source ")
			require.True(t, typed || ansi.StringWidth(line) <= width, "%d: %q", width, line)
		}
		require.Greater(t, lines, 200)
		require.Equal(t, width < 138, broken > 20, "%d: %d", width, broken)
	}
	piped := w.ok("pin", "--help").out
	require.Contains(t, piped, "--overlay BUILD:PATTERN ...    lay files of another build, folder or archive over the build: BUILD:PATTERN; later ones win\n")
	require.NotContains(t, piped, "[ --")
}
