package damage

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/scan"
)

func TestWhatNoUpdateDoesIsDamage(t *testing.T) {
	whole := strings.Repeat("content ", 200)
	blank := strings.Repeat("\x00", len(whole))
	many := func(n int) map[string]string {
		files := make(map[string]string)
		for i := range n {
			files[fmt.Sprintf("f%04d", i)] = whole
		}
		return files
	}
	for _, c := range []struct {
		name         string
		before, then map[string]string
		says         string
	}{
		{"nothing", many(3), many(3), ""},
		{"an update", many(3), map[string]string{"f0000": whole + "more", "f0002": whole, "new": ""}, ""},
		{"one is empty", map[string]string{"a": whole, "b": whole}, map[string]string{"a": "", "b": whole}, "a is empty, and was not in 1.0"},
		{"one was empty before", map[string]string{"a": "", "b": whole}, map[string]string{"a": "", "b": whole}, ""},
		{"a short one", map[string]string{"a": "1"}, map[string]string{"a": ""}, ""},
		{"zeros", map[string]string{"a": whole, "b": whole, "c": whole}, map[string]string{"a": blank, "b": blank + "\x00", "c": ""}, "a and 2 more hold nothing, and were not in 1.0"},
		{"zeros before", map[string]string{"a": blank}, map[string]string{"a": blank}, ""},
		{"zeros but for the end", map[string]string{"a": whole}, map[string]string{"a": blank + "1"}, ""},
		{"the player's", map[string]string{"own": whole}, map[string]string{"own": ""}, ""},
		{"half of many are gone", many(200), many(100), "100 of the 200 files of 1.0 are gone"},
		{"fewer are gone", many(200), many(101), ""},
		{"most of few are gone", many(99), nil, ""},
	} {
		before := &manifest.Manifest{}
		for p, content := range c.before {
			before.Files = append(before.Files, manifest.File{Path: p, Size: int64(len(content)), Digest: digest.Of([]byte(content))})
		}
		before.Sort()
		tree := &scan.Tree{}
		for p, content := range c.then {
			tree.Entries = append(tree.Entries, scan.Entry{Path: p, Kind: scan.File, Known: true, Digest: digest.Of([]byte(content)), Stamp: scan.Stamp{Size: int64(len(content))}})
		}
		slices.SortFunc(tree.Entries, func(a, b scan.Entry) int { return strings.Compare(a.Path, b.Path) })
		d := Since("1.0", 1<<10)
		require.NoError(t, d.compare(before, tree, func(p string) bool { return p == "own" }, func(e *scan.Entry) (bool, error) {
			return strings.Trim(c.then[e.Path], "\x00") == "", nil
		}), c.name)
		require.Equal(t, c.says, d.String(), c.name)
	}
	broken := errors.New("broken")
	d := Found{}
	err := d.compare(&manifest.Manifest{Files: []manifest.File{{Path: "a", Size: 5000}}}, &scan.Tree{Entries: []scan.Entry{{Path: "a", Kind: scan.File, Stamp: scan.Stamp{Size: 1}}}},
		func(string) bool { return false }, func(*scan.Entry) (bool, error) { return false, broken })
	require.ErrorIs(t, err, broken)
}
