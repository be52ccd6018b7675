package scan

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/progress"
	"morvant/internal/rules"
)

func TestWhatIsLostIsWhatWasThereAtTheLastLook(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	c := OpenCache(filepath.Join(t.TempDir(), "cache.db"))
	defer c.Close()
	for _, p := range []string{"a", "b", "c", "d"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, p), []byte("content of "+p), 0o644))
	}
	look := func() (lost []string) {
		tree, err := Walk(t.Context(), root, rules.Rules{})
		require.NoError(t, err)
		require.NoError(t, c.Recall(t.Context(), "r", tree))
		require.NoError(t, tree.Read(t.Context(), root, Request{Sink: Hash(), Meter: progress.None{}, Now: time.Now}))
		for _, f := range c.Lost("r", tree) {
			require.Equal(t, int64(len("content of a")), f.Bytes)
			lost = append(lost, f.Path)
		}
		require.NoError(t, c.Remember(t.Context(), "r", tree))
		return lost
	}
	require.Empty(t, look(), "nothing was known before")
	require.NoError(t, os.Remove(filepath.Join(dir, "a")))
	require.NoError(t, os.Rename(filepath.Join(dir, "b"), filepath.Join(dir, "B2")))
	require.NoError(t, os.Remove(filepath.Join(dir, "c")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "c"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "d"), []byte("other content"), 0o644))
	require.Equal(t, []string{"a"}, look(), "another name is no loss, nor what stands in its place")
	require.Empty(t, look(), "it is told once")
}
