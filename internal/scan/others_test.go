package scan

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/rules"
)

func TestOtherNamesAreFoundAgainOnceTheirFolderIsBack(t *testing.T) {
	dir, root := folder(t, map[string]string{"a": "1", "b": "2"})
	mods := filepath.Join(t.TempDir(), "mods")
	require.NoError(t, os.Mkdir(mods, 0o755))
	require.NoError(t, os.Link(filepath.Join(dir, "a"), filepath.Join(mods, "a.pak")))
	away := mods + "-away"
	require.NoError(t, os.Rename(mods, away))
	c := OpenCache(filepath.Join(t.TempDir(), "cache.db"))
	defer c.Close()
	name := func(key string) string {
		tree, err := Walk(t.Context(), root, rules.Rules{})
		require.NoError(t, err)
		require.NoError(t, c.Others(t.Context(), key, tree, &Names{Folders: []string{mods}}))
		require.True(t, tree.Entry("b").Other.IsZero(), "it has one name")
		require.False(t, tree.Entry("a").Other.IsZero())
		return tree.Entry("a").Other.Name
	}
	require.Empty(t, name("lane"), "a folder that is not there is no error")
	require.NoError(t, os.Rename(away, mods))
	require.Equal(t, filepath.Join(mods, "a.pak"), name("lane"), "nor is its absence remembered")

	// What is remembered goes with the folder's name.
	remembered := func(key string) int {
		was, err := c.names(t.Context(), key)
		require.NoError(t, err)
		return len(was.Names)
	}
	require.NoError(t, c.Rename(t.Context(), "lane", "other"))
	require.Equal(t, [2]int{0, 1}, [2]int{remembered("lane"), remembered("other")})
	require.NoError(t, c.Forget(t.Context(), "other"))
	require.Zero(t, remembered("other"))
}

func TestALargeFileThatChangesAtEachLookIsTold(t *testing.T) {
	dir, root := folder(t, map[string]string{"a": "1"})
	large := filepath.Join(dir, "large.bin")
	file := filepath.Join(t.TempDir(), "cache.db")
	look := func() *Entry {
		c := OpenCache(file)
		defer c.Close()
		var e *Entry
		for n := range 3 { // in one run, the first counts
			tree, err := Walk(t.Context(), root, rules.Rules{})
			require.NoError(t, err)
			require.NoError(t, c.Recall(t.Context(), "lane", tree))
			require.NoError(t, c.Restless(t.Context(), "lane", tree))
			is := tree.Entry("large.bin")
			require.True(t, n == 0 || is.Changes == e.Changes)
			e = is
		}
		return e
	}
	write := func(size int64) {
		require.NoError(t, os.WriteFile(large, nil, 0o644))
		require.NoError(t, os.Truncate(large, size))
	}
	write(RestlessFrom)
	require.Zero(t, look().Changes)
	write(RestlessFrom + 1)
	e := look()
	require.Equal(t, 1, e.Changes)
	require.True(t, e.Alone)
	write(RestlessFrom + 2)
	require.Equal(t, 2, look().Changes)
	require.Zero(t, look().Changes, "it has rested")
}
