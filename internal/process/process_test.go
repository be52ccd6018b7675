package process

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestALineRunsInThePlayersShell(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "with a space")
	require.NoError(t, os.Mkdir(dir, 0o755))
	run := func(line string) (string, error) {
		var out bytes.Buffer
		cmd, err := Shell(t.Context(), line, dir)
		require.NoError(t, err)
		cmd.Stdout, cmd.Stderr = &out, &out
		err = cmd.Run()
		return out.String(), err
	}
	out, err := run("echo one && echo two")
	require.NoError(t, err)
	require.Contains(t, out, "one")
	require.Contains(t, out, "two")
	_, err = run("exit 3")
	require.ErrorContains(t, err, "3")
	out, err = run(`echo "a b"> "a file.txt" && echo done`)
	require.NoError(t, err, out)
	require.FileExists(t, filepath.Join(dir, "a file.txt"), "quotes are the shell's")
}

func TestWhatFailsForGoodFailsAtOnce(t *testing.T) {
	tries := 0
	err := Patiently("x", func() error { tries++; return os.ErrNotExist })
	require.ErrorIs(t, err, os.ErrNotExist)
	require.Equal(t, 1, tries)
	require.NoError(t, Patiently("x", func() error { return nil }))
	dir := t.TempDir()
	require.Error(t, Rename(filepath.Join(dir, "a"), filepath.Join(dir, "b")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), nil, 0o644))
	require.NoError(t, Rename(filepath.Join(dir, "a"), filepath.Join(dir, "b")))
	require.FileExists(t, filepath.Join(dir, "b"))
}

func TestWhoHoldsAFileIsSaid(t *testing.T) {
	cause := errors.New("sharing violation")
	err := error(&HeldError{"/games/quay/a", []Running{{7, "Cinder Quay"}}, cause})
	require.Equal(t, "Cinder Quay (process 7) has /games/quay/a open", err.Error())
	require.ErrorIs(t, err, cause)
	require.Equal(t, "/games/quay/a is held open by another program", (&HeldError{"/games/quay/a", nil, cause}).Error())
	require.Contains(t, (&HeldError{"/games/quay/a", nil, fs.ErrPermission}).Error(), "or you have no right to")
	if runtime.GOOS != "windows" {
		require.Empty(t, holders(t.TempDir()), "only Windows knows")
	}
}

func TestAppsAreFound(t *testing.T) {
	app := filepath.Join(t.TempDir(), "Cinder Quay.app")
	require.Equal(t, app, bundle(app))
	require.Equal(t, app, bundle(filepath.Join(app, "Contents", "Resources")))
	require.Empty(t, bundle(filepath.Dir(app)))
	cmd := Program(app, "--windowed")
	if runtime.GOOS == "darwin" {
		require.Equal(t, []string{"/usr/bin/open", "-n", "-W", "-a", app, "--args", "--windowed"}, cmd.Args)
	} else {
		require.Equal(t, []string{app, "--windowed"}, cmd.Args)
		require.Empty(t, Bundle(app))
	}
}
