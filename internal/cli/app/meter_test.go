package app

import (
	"os"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

func TestALineSaysHowFarTheWorkIs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		m := &meter{task: "Recording", total: 4_000_000, started: time.Now()}
		time.Sleep(2 * time.Second) // by the clock of the test
		m.Advance(1_000_000, "data/harbour.pak")
		require.Equal(t, "Recording: 25%, 1.0 MB of 4.0 MB, 500 kB/s, 6s left", m.line())
		m.total = -1
		require.Equal(t, "Recording: 1.0 MB, 500 kB/s", m.line())
	})
}

func TestShortWorkIsDoneSilently(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "err"))
	require.NoError(t, err)
	defer f.Close()
	m := NewMeter(f, false)
	m.Begin("Reading", 10)
	m.Advance(10, "a")
	m.End()
	m.End()
	m.Warn("a has gone")
	b, err := os.ReadFile(f.Name())
	require.NoError(t, err)
	require.Equal(t, "Note: a has gone\n", string(b))
}
