package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAPinThatAnOlderHomeDoesNotKnowIsTakenBack: killed in the middle, and then the home, or its state alone, is put back to before
// it began. The journal names the home, so that the folder is as before the pin.
func TestAPinThatAnOlderHomeDoesNotKnowIsTakenBack(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	w.ok("status")
	w.save()
	half := 0
	for _, only := range []string{"state.db", ""} {
		for n := 2; n < 44; n += 3 {
			w.restore()
			if !w.killed("renameat,renameat2", n, "pin", "1", "--clean", "--yes") {
				break
			}
			where := fmt.Sprintf("%s %d", only, n)
			_, err := os.Stat(w.path(".morvant/change/journal"))
			if err != nil && n > 10 {
				break // all of it was made
			}
			if err == nil {
				half++
			}
			for _, name := range []string{"-wal", "-shm"} {
				require.NoError(t, os.RemoveAll(filepath.Join(w.home, "state.db"+name)))
			}
			if only == "" {
				require.NoError(t, os.RemoveAll(w.home))
			}
			require.NoError(t, exec.Command("cp", "-a", filepath.Join(w.template, "home", only), filepath.Join(w.home, only)).Run())
			r := w.run("status")
			require.Contains(t, []int{0, 3}, r.code, where+r.err)
			require.NotContains(t, r.err, "did not begin on this computer", where)
			require.NoDirExists(t, w.path(".morvant/change"), where)
			require.Equal(t, w.before, w.picture(), where+r.err)
			w.ok("pin", "1", "--clean", "--yes")
			require.Equal(t, w.after, w.picture(), where)
			w.ok("undo", "--yes")
			require.Equal(t, w.before, w.picture(), where)
		}
	}
	require.Greater(t, half, 1)
}

// TestAPinThatWasCutOffIsTakenBackWithoutAHome: the folder is as before, from its own journal and what the change had moved.
func TestAPinThatWasCutOffIsTakenBackWithoutAHome(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	half := 0
	for n := 2; n < 44; n += 3 {
		w.restore()
		if !w.killed("renameat,renameat2", n, "pin", "1", "--clean", "--yes") {
			break
		}
		if _, err := os.Stat(w.path(".morvant/change/journal")); err != nil && n > 10 {
			break // all of it was made
		}
		half++
		require.NoError(t, os.RemoveAll(w.home))
		require.Contains(t, w.outside("rescue", w.live, "--yes").out, "is a plain folder now", n)
		require.NoDirExists(t, w.path(".morvant"), n)
		require.Equal(t, w.before, w.picture(), n)
	}
	require.Greater(t, half, 1)
}
