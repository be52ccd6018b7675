package cli_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestALetUpdateEndsWhereTheLauncherHasGivenUp: what it has left in its folder must not be waited for without end
// where a command does the update.
func TestALetUpdateEndsWhereTheLauncherHasGivenUp(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("bin/quay.exe", "program")
	w.write("data/a.pak", "a")
	w.ok("add", "quay", w.live)
	staging := filepath.Join(w.dir, "staging")
	w.ok("block", "add", "staging-folder", "path="+staging)
	w.ok("snapshot", "1")
	w.ok("pin", "1", "--yes")
	start := time.Now()
	r := w.run("let-update", "--calm", "50ms", "--then", "stay", "--yes", "--after", "mkdir -p '"+staging+"' && echo part > '"+staging+"/part' && echo half > data/a.pak")
	require.Equal(t, 1, r.code, r.out+r.err)
	require.Contains(t, r.err, "the update is incomplete: the launcher's folder "+staging+" is not empty yet")
	require.Less(t, time.Since(start), time.Minute)
	require.FileExists(t, filepath.Join(staging, "part"))
	require.NoError(t, os.RemoveAll(staging))
	w.ok("verify", "--repair", "--yes")
}
