package alias

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
)

func TestContentIsKnownOnceItHasBeenSeen(t *testing.T) {
	file := filepath.Join(t.TempDir(), "aliases.db")
	table := At(file)
	name, own := digest.Unseen("sha1:00/3"), digest.Of([]byte("abc"))
	require.Equal(t, name, table.Own(name))
	require.NoFileExists(t, file, "asking makes nothing")
	require.NoError(t, table.Learn(t.Context(), map[digest.Digest]digest.Digest{name: own}))
	require.Equal(t, own, table.Own(name))
	require.Equal(t, own, table.Own(own))
	require.NoError(t, table.Close())

	table = At(file)
	m := &manifest.Manifest{Files: []manifest.File{{Path: "a", Size: 3, Digest: name}, {Path: "b", Size: 1, Digest: digest.Unseen("x")}}}
	seen := table.Manifest(m)
	require.Equal(t, own, seen.Files[0].Digest)
	require.True(t, seen.Files[1].Digest.IsUnseen())
	require.Equal(t, name, m.Files[0].Digest, "the first is left alone")
	require.NoError(t, table.Close())

	require.NoError(t, os.WriteFile(file, []byte("no database, just some text that is long enough to be looked at"), 0o600))
	table = At(file)
	require.Equal(t, name, table.Own(name))
	require.NoError(t, table.Learn(t.Context(), map[digest.Digest]digest.Digest{name: own}), "it is made anew")
	require.NoError(t, table.Close())
}

// TestANameThatTurnsOutToBeOtherContent: what was learned last counts, for this run and the next.
func TestANameThatTurnsOutToBeOtherContent(t *testing.T) {
	file := filepath.Join(t.TempDir(), "aliases.db")
	name, other := digest.Unseen("md5:00/3"), digest.Unseen("md5:01/3")
	first, second := digest.Of([]byte("abc")), digest.Of([]byte("abd"))
	table := At(file)
	require.NoError(t, table.Learn(t.Context(), map[digest.Digest]digest.Digest{name: first, other: first}))
	require.NoError(t, table.Learn(t.Context(), map[digest.Digest]digest.Digest{name: second}))
	require.Equal(t, second, table.Own(name))
	require.NoError(t, table.Close())
	table = At(file)
	require.Equal(t, second, table.Own(name))
	require.Equal(t, first, table.Own(other))
	require.NoError(t, table.Forget(t.Context(), name))
	require.Equal(t, name, table.Own(name))
	require.NoError(t, table.Close())
	table = At(file)
	_, known := table.Known(name)
	require.False(t, known)
	require.Equal(t, first, table.Own(other))
	require.NoError(t, table.Close())
}
