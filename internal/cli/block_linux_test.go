package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAKilledBlockIsPutBackExactly kills the setting of a block, and the taking off,
// at calls that change something; what was found must come back all the same.
func TestAKilledBlockIsPutBackExactly(t *testing.T) {
	t.Parallel()
	onlyLong(t)
	canTrace(t)
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("block", "add", "read-only-files")
	w.ok("block", "add", "staging-folder", "path="+w.state+".staging")
	require.NoError(t, os.Mkdir(w.state+".staging", 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(w.state+".staging", "half"), []byte("a download"), 0o644))
	w.ok("pin", "1.1.1", "--yes", "--no-block")
	template := filepath.Join(w.dir, "template")
	save := func() {
		require.NoError(t, os.RemoveAll(template))
		require.NoError(t, os.Mkdir(template, 0o755))
		require.NoError(t, exec.Command("cp", "-a", w.live, w.home, filepath.Dir(w.state), template).Run())
	}
	restore := func() {
		for _, dir := range []string{w.live, w.home, filepath.Dir(w.state)} {
			require.NoError(t, os.RemoveAll(dir))
			require.NoError(t, exec.Command("cp", "-a", filepath.Join(template, filepath.Base(dir)), dir).Run())
		}
	}
	save()
	before, launcher := w.picture(), picture(t, filepath.Dir(w.state))
	delete(launcher, "state.cfg") // written anew with the same content
	text := w.stateText()
	c := &crashWorld{world: w.world}
	sweep := func(command string) {
		for _, calls := range []string{"renameat,renameat2,rename", "fchmodat,fchmod", "openat", "unlinkat,unlink", "fsync,fdatasync"} {
			kills := 0
			for n := 1; n < 200; n += 1 + 3*coarse(n) {
				restore()
				if !c.killed(calls, n, command) {
					break
				}
				kills++
				where := fmt.Sprintf("%s killed at %s %d", command, calls, n)
				w.ok("block")
				require.NotContains(t, w.ok("block", "--show").out, "does not hold", where)
				w.ok("unblock")
				require.Equal(t, before, w.picture(), where)
				require.Equal(t, text, w.stateText(), where)
				now := picture(t, filepath.Dir(w.state))
				delete(now, "state.cfg")
				require.Equal(t, launcher, now, where)
			}
			t.Logf("%s: %d kills at %s", command, kills, calls)
		}
	}
	sweep("block")
	restore()
	w.ok("block")
	save()
	sweep("unblock")
}
