package watch

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestOneHandleTellsOfAWholeLaneAndLetsItBeRenamed: of folders made since, which Wine tells of, too.
func TestOneHandleTellsOfAWholeLaneAndLetsItBeRenamed(t *testing.T) {
	around := t.TempDir()
	dir := filepath.Join(around, "Quay")
	tr, err := oneTree(dir)
	require.NoError(t, err)
	told := func(want string) {
		t.Helper()
		for {
			select {
			case path := <-tr.changed:
				require.NotContains(t, path, "other")
				if path == want {
					return
				}
			case err := <-tr.lost:
				require.NoError(t, err)
			case <-time.After(20 * time.Second):
				require.Fail(t, "nothing is told of "+want)
			}
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(around, "other"), nil, 0o644))
	require.NoError(t, os.Mkdir(dir, 0o755))
	told(dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.pak"), []byte("1"), 0o644))
	told(filepath.Join(dir, "a.pak"))
	require.NoError(t, os.Rename(dir, dir+" [parked]"), "nobody is kept from parking it")
	told(dir)
	tr.stop()
	tr.stop()
}
