package userpath

import (
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
