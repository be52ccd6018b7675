package process

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAProgramThatRunsFromTheFolderIsFound(t *testing.T) {
	dir := t.TempDir()
	sleep, err := exec.LookPath("sleep")
	require.NoError(t, err)
	b, err := os.ReadFile(sleep)
	require.NoError(t, err)
	exe := filepath.Join(dir, "game")
	require.NoError(t, os.WriteFile(exe, b, 0o755))
	found, err := In(dir)
	require.NoError(t, err)
	require.Empty(t, found)

	cmd := exec.Command(exe, "600")
	require.NoError(t, cmd.Start())
	defer func() {
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
	}()
	link := filepath.Join(t.TempDir(), "alias")
	require.NoError(t, os.Symlink(dir, link))
	for _, d := range []string{dir, link} {
		found, err = In(d)
		require.NoError(t, err)
		require.Equal(t, []Running{{cmd.Process.Pid, exe}}, found)
	}
	found, err = In(dir + "-other")
	require.Error(t, err)
	require.Empty(t, found)
}
