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

func TestWhoWritesAFileOfTheFolderIsFound(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	file := filepath.Join(dir, "data.pak")
	f, err := os.Create(file)
	require.NoError(t, err)
	defer f.Close()
	found, err := Writing(dir, nil)
	require.NoError(t, err)
	require.Empty(t, found, "this very program does not count")
	reader, err := os.Open(file)
	require.NoError(t, err)
	defer reader.Close()

	read, write := exec.Command("sleep", "600"), exec.Command("sleep", "600")
	read.Stdin, write.Stdout = reader, f
	for _, cmd := range []*exec.Cmd{read, write} {
		require.NoError(t, cmd.Start())
		defer func() {
			require.NoError(t, cmd.Process.Kill())
			_ = cmd.Wait()
		}()
	}
	found, err = Writing(dir, nil)
	require.NoError(t, err)
	require.Len(t, found, 1)
	require.Equal(t, Open{file, Running{write.Process.Pid, found[0].By.Path}}, found[0], "who only reads does not count")

	byName, err := Named([]string{"SLEEP.exe", "nothing"})
	require.NoError(t, err)
	require.Contains(t, byName, found[0].By)
	byName, err = Named([]string{filepath.ToSlash(found[0].By.Path)})
	require.NoError(t, err)
	require.Contains(t, byName, found[0].By)
	byName, err = Named([]string{"/elsewhere/sleep"})
	require.NoError(t, err)
	require.Empty(t, byName)
}
