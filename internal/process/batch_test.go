package process

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatABatchFileIsGivenIsNoCommand: cmd reads the line first.
func TestWhatABatchFileIsGivenIsNoCommand(t *testing.T) {
	for _, bad := range []string{`x"&echo gone>done.txt`, "a&b", "100%", "a|b", "<x", "^", "a\nb", "(x)", "!x!"} {
		for _, name := range []string{`C:\Quay\start.bat`, "start.CMD", "bin/start.cmd"} {
			require.ErrorIs(t, Batch(name, `C:\Quay`, []string{"-windowed", bad}), ErrBatch, "%s %s", name, bad)
		}
		require.NoError(t, Batch(`C:\Quay\quay.exe`, `C:\Quay`, []string{bad}), "a program gets it as it is")
	}
	require.NoError(t, Batch("start.bat", `C:\Quay`, []string{"-windowed", "a b", `C:\x y`, "--size=3"}))
	require.ErrorIs(t, Batch("start.bat", `\\server\share\Quay`, nil), ErrShare)
	require.NoError(t, Batch("quay.exe", `\\server\share\Quay`, nil))
}

// TestALineOnAShareRunsNowhereElse: cmd would go on in the system's folder.
func TestALineOnAShareRunsNowhereElse(t *testing.T) {
	for _, dir := range []string{`\\server\share\Quay`, `\\?\UNC\server\share`} {
		_, err := Shell(t.Context(), "echo x", dir)
		require.ErrorIs(t, err, ErrShare, dir)
	}
	for _, dir := range []string{`C:\Quay`, `\\?\C:\Quay`, "/games/quay"} {
		cmd, err := Shell(t.Context(), "echo x", dir)
		require.NoError(t, err, dir)
		require.Equal(t, dir, cmd.Dir)
	}
}
