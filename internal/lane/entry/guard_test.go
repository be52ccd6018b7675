package entry_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/record"
)

// TestGuardingSomeFilesForgetsNothingOfTheOthers: none of them is taken for gone, and what is known of them stays known.
func TestGuardingSomeFilesForgetsNothingOfTheOthers(t *testing.T) {
	b := newBench(t, game.Settings{Keep: []string{"mine.txt"}, Guard: []string{"*.dll"}})
	for _, name := range []string{"a.pak", "mine.txt", "loader.dll"} {
		require.NoError(t, os.WriteFile(filepath.Join(b.live, name), []byte(name), 0o644))
	}
	b.on(func(l *lane.Lane) {
		l.Now = func() time.Time { return time.Now().Add(time.Hour) } // long after the files were written
		_, err := l.Look(t.Context(), 0)
		require.NoError(t, err)
		known, err := l.Cache.Files(t.Context(), l.CacheKey())
		require.NoError(t, err)
		require.Contains(t, known, "a.pak")
		o, err := record.Guard(t.Context(), l)
		require.NoError(t, err)
		require.Equal(t, 1, o.Files)
		still, err := l.Cache.Files(t.Context(), l.CacheKey())
		require.NoError(t, err)
		require.Equal(t, known, still)
		gone, err := l.Home.Player.Gone(t.Context(), l.Game.Name, l.Name)
		require.NoError(t, err)
		require.Empty(t, gone)
	})
}
