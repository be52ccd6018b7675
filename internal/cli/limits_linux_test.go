package cli_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTooLittleAddressSpaceIsOneSentence; a limit that may be raised is raised.
func TestTooLittleAddressSpaceIsOneSentence(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a", "a")
	w.ok("add", "quay", w.live)
	under := func(how string, args ...string) result {
		cmd := w.command(args...)
		cmd.Args = append([]string{"sh", "-c", "ulimit " + how + ` && exec "$0" "$@"`, program}, cmd.Args[1:]...)
		cmd.Path, _ = exec.LookPath("sh")
		return w.finish(cmd)
	}
	for _, args := range [][]string{{"status"}, {"snapshot", "1"}, {"builds"}, {"--version"}} {
		r := under("-v 1000000", args...)
		require.Equal(t, 1, r.code, r.err)
		require.Equal(t, 1, strings.Count(r.err, "\n"), r.err)
		require.Contains(t, r.err, "MB of address space is allowed here")
		require.Equal(t, 0, under("-S -v 1000000", args...).code, args)
	}
}
