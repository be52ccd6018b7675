package lanes

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/plan"
	"morvant/internal/rules"
	"morvant/internal/scan"
)

// TestAFileThatHasChangedSinceItWasRecordedStays, be it at its size, at its time, or by coming since; all else goes.
func TestAFileThatHasChangedSinceItWasRecordedStays(t *testing.T) {
	long := time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC)
	for name, c := range map[string]struct {
		change func(dir string) error
		left   int
	}{
		"nothing":             {func(string) error { return nil }, 0},
		"at its size":         {func(dir string) error { return os.WriteFile(filepath.Join(dir, "data", "a"), []byte("two"), 0o644) }, 1},
		"at its time":         {func(dir string) error { return sized(filepath.Join(dir, "data", "a"), "longer", long) }, 1},
		"come since":          {func(dir string) error { return sized(filepath.Join(dir, "data", "new"), "new", long) }, 1},
		"scratch, come since": {func(dir string) error { return sized(filepath.Join(dir, "logs"), "new", long) }, 0},
		"gone since":          {func(dir string) error { return os.Remove(filepath.Join(dir, "data", "a")) }, 0},
	} {
		dir := filepath.Join(t.TempDir(), "Quay")
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "data", "deep"), 0o755))
		require.NoError(t, sized(filepath.Join(dir, "data", "a"), "one", long))
		require.NoError(t, sized(filepath.Join(dir, "data", "deep", "b"), "b", long))
		root, err := os.OpenRoot(dir)
		require.NoError(t, err)
		tree, err := scan.Walk(t.Context(), root, rules.Rules{})
		require.NoError(t, err)
		require.NoError(t, root.Close())
		known := plan.FromTree(tree)
		require.NoError(t, c.change(dir), name)
		left, err := removeKnown(t.Context(), dir, known, rules.Rules{Scratch: []string{"logs"}}.Matcher())
		require.NoError(t, err, name)
		require.Equal(t, c.left, left, name)
		require.NoFileExists(t, filepath.Join(dir, "data", "deep", "b"), name)
		if c.left == 0 {
			require.NoDirExists(t, dir, name)
		}
	}
}

func sized(file, content string, at time.Time) error {
	if err := os.WriteFile(file, []byte(content), 0o644); err != nil {
		return err
	}
	return os.Chtimes(file, at, at)
}
