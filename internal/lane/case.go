package lane

import (
	"path"
	"strings"

	"morvant/internal/scan"
)

// forWindows reports whether the game's program is one of Windows; where none is set, whether any is at
// the top of the tree or in a folder there.
func (l *Lane) forWindows(t *scan.Tree) bool {
	windows := func(p string) bool { return strings.EqualFold(path.Ext(p), ".exe") }
	if l.Game.Program != "" {
		return windows(l.Game.Program)
	}
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == scan.File && windows(e.Path) && strings.Count(e.Path, "/") <= 1 {
			return true
		}
	}
	return false
}

// SuggestsIgnoringCase reports whether letter case most likely does not count to the game, though it does to
// the disk, and nobody has said so.
func (l *Lane) SuggestsIgnoringCase(t *scan.Tree) bool {
	return !l.Game.IgnoreCase && !l.DiskIgnoresCase() && l.forWindows(t)
}

// Doubles lists names in a tree of the lane that are one to the game, and two to the disk.
func (l *Lane) Doubles(t *scan.Tree) []scan.Double {
	if l.DiskIgnoresCase() || !l.Game.IgnoreCase && !l.forWindows(t) {
		return nil
	}
	return t.Doubles()
}
