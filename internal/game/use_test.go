package game

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAHomeThatAnotherComputerUses: a clock that is off makes no process look gone that is alive.
func TestAHomeThatAnotherComputerUses(t *testing.T) {
	file := filepath.Join(t.TempDir(), useFile)
	text, err := json.Marshal(holder{Host: "ada-pc", User: "ada", PID: 1, ID: "x"})
	require.NoError(t, err)
	me := holder{Host: "laptop"}
	touch := func(ago time.Duration) { require.NoError(t, os.Chtimes(file, time.Time{}, time.Now().Add(-ago))) }
	require.NoError(t, os.WriteFile(file, text, 0o644))

	var w watched
	other, gone, unclear := w.heldBy(file, me)
	require.Equal(t, "ada-pc", other.Host)
	require.False(t, gone || unclear, "just touched")

	touch(time.Hour) // a clock that is an hour behind, or a process that is gone
	_, gone, unclear = w.heldBy(file, me)
	require.False(t, gone)
	require.True(t, unclear)
	touch(time.Hour - useEvery) // it is alive
	w.since = w.since.Add(-useWatch)
	_, gone, unclear = w.heldBy(file, me)
	require.False(t, gone)
	require.True(t, unclear)
	w.since = w.since.Add(-useWatch) // and is not touched any more
	_, gone, _ = w.heldBy(file, me)
	require.True(t, gone)

	_, err = occupy(t.Context(), file+"-2", "nfs", HomeOptions{}, 0)
	require.NoError(t, err)
	_, err = occupy(t.Context(), file+"-2", "nfs", HomeOptions{}, 0)
	require.ErrorIs(t, err, ErrInUse)
	require.NoError(t, os.Remove(file))
	_, gone, _ = w.heldBy(file, me)
	require.True(t, gone, "given back meanwhile")
}
