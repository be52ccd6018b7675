package cli_test

import (
	"io"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// atTerminal starts the program at a terminal.
func (w *launched) atTerminal(line string) (*running, io.Writer) {
	w.t.Helper()
	script, err := exec.LookPath("script")
	if err != nil {
		w.t.Skip("script is not installed")
	}
	r := &running{w: w.world, cmd: w.command(), moment: make(chan struct{}, 1)}
	r.cmd.Path, r.cmd.Args = script, []string{"script", "-qec", program + " " + line, "/dev/null"}
	r.cmd.Stdout, r.cmd.Stderr = r, r
	in, err := r.cmd.StdinPipe()
	require.NoError(w.t, err)
	require.NoError(w.t, r.cmd.Start())
	w.t.Cleanup(func() { _ = r.cmd.Process.Kill() })
	return r, in
}

func typed(t *testing.T, in io.Writer, line string) {
	t.Helper()
	_, err := io.WriteString(in, line+"\n")
	require.NoError(t, err)
}

// TestEnterSaysThatAnUpdateIsThere, and the questions that follow have the terminal to themselves.
func TestEnterSaysThatAnUpdateIsThere(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	wait, in := w.atTerminal("let-update --calm 200ms")
	wait.until("Press Enter when it is complete")
	typed(t, in, "")
	wait.until("nothing has changed yet")
	w.launcher(0, "offer", "1.3.0")
	w.launcher(0, "idle")
	wait.until("none of the known builds")
	typed(t, in, "")
	wait.until("Hold it at 1.3.0 now? [y/N]")
	typed(t, in, "y")
	require.Contains(t, wait.ends(0), "is held at ")
	w.isRelease("1.3.0")
}

// TestAQuestionInTheMiddleOfAWaitIsAnswered: that the folder has moved is asked while Enter is
// listened for.
func TestAQuestionInTheMiddleOfAWaitIsAnswered(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("pin", "snapshot/1.1.1", "--yes")
	wait, in := w.atTerminal("let-update --calm 200ms --then pin")
	wait.until("Press Enter when it is complete")
	w.launcher(0, "offer", "1.3.0")
	w.outside("demo", "launcher", "idle", w.state, "--size", "2MB", "--habit", "rename")
	to := w.live + " (updated)"
	wait.until("Use " + to + " from now on? [y/N]")
	typed(t, in, "y")
	require.Contains(t, strings.ReplaceAll(wait.ends(0), "\r", ""), "is held at ")
	w.live = to
	require.FileExists(t, filepath.Join(to, ".morvant", "lane.toml"))
	w.isRelease("1.3.0")
}
