package adapter

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestACommandScriptIsAnAdapter(t *testing.T) {
	t.Setenv(asAdapter, "none")
	self, err := os.Executable()
	require.NoError(t, err)
	dir := t.TempDir()
	script := filepath.Join(dir, "morvant-adapter-crane.cmd")
	require.NoError(t, os.WriteFile(script, []byte("@echo off\r\n\""+self+"\"\r\n"), 0o600))
	t.Setenv("PATHEXT", ".COM;.EXE;.BAT;.CMD")
	found, err := Find("crane", dir)
	require.NoError(t, err)
	c, err := Start(t.Context(), found, dir, Options{Silence: time.Minute})
	require.NoError(t, err)
	said, err := c.Initialize(t.Context(), InitializeParams{Game: "quay"})
	require.NoError(t, err, c.Log())
	require.Equal(t, "harbour", said.Name)
	_, err = c.Builds(t.Context(), "public")
	require.NoError(t, err)
	require.NoError(t, c.Close())
}
