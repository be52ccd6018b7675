package userpath

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/volume"
)

func TestWhatLiesWithinAFolder(t *testing.T) {
	dir := t.TempDir()
	for path, within := range map[string]bool{
		dir: true, filepath.Join(dir, "a", "b"): true, filepath.Join(dir, "..a"): true,
		filepath.Dir(dir): false, dir + "a": false, filepath.Join(dir, "..", "other"): false, "": false,
		strings.ToUpper(dir): volume.UsualFold("A") == "a",
	} {
		require.Equal(t, within, Within(path, dir), path)
	}
}

func TestPathsOfPeopleAreMadeFull(t *testing.T) {
	base, home := t.TempDir(), t.TempDir()
	t.Setenv("QUAY_DIR", filepath.Join(base, "data"))
	for path, want := range map[string]string{
		"~/Saved Games":         filepath.Join(home, "Saved Games"),
		"~":                     home,
		`~\Games`:               filepath.Clean(home + filepath.FromSlash(`\Games`)),
		"$QUAY_DIR/saves":       filepath.Join(base, "data", "saves"),
		"${QUAY_DIR}/saves":     filepath.Join(base, "data", "saves"),
		"%QUAY_DIR%/saves":      filepath.Join(base, "data", "saves"),
		"saves/slot":            filepath.Join(base, "saves", "slot"),
		"saves/../other":        filepath.Join(base, "other"),
		"~quay/x":               filepath.Join(base, "~quay", "x"),
		"100% sure/%NOT_THERE%": filepath.Join(base, "100% sure"),
	} {
		require.Equal(t, want, Expand(path, home, base), path)
	}
}

// TestAFolderHoldsWhatLiesInItByAnySpelling: a link is one.
func TestAFolderHoldsWhatLiesInItByAnySpelling(t *testing.T) {
	dir := t.TempDir()
	inner := filepath.Join(dir, "game", "bin")
	require.NoError(t, os.MkdirAll(inner, 0o755))
	alias := filepath.Join(t.TempDir(), "alias")
	if volume.Link(filepath.Join(dir, "game"), alias) != nil {
		t.Skip("links to folders cannot be made here")
	}
	require.True(t, Holds(filepath.Join(dir, "game"), filepath.Join(alias, "bin")))
	require.True(t, Holds(alias, inner))
	require.True(t, Holds(alias, filepath.Join(inner, "not there yet")))
	require.False(t, Holds(alias, dir))
	require.False(t, Holds(inner, alias))
}

func TestFoldersOfTheSystemAreKnown(t *testing.T) {
	for path, want := range map[string]bool{
		systemFolders()[0]: true, filepath.Join(systemFolders()[0], "game"): true,
		sharedFolders()[0]: true, filepath.Join(sharedFolders()[0], "my game"): false, t.TempDir(): false,
	} {
		require.Equal(t, want, System(path) != "", path)
	}
}
