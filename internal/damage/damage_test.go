package damage

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/rules"
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
		now, blanks := &manifest.Manifest{}, make(map[digest.Digest]bool)
		for p, content := range c.then {
			is := digest.Of([]byte(content))
			now.Files = append(now.Files, manifest.File{Path: p, Size: int64(len(content)), Digest: is})
			z := &Zeros{Reader: strings.NewReader(content)}
			_, err := io.Copy(io.Discard, z)
			require.NoError(t, err)
			blanks[is] = z.Only()
		}
		now.Sort()
		d := Since("1.0", 1<<10)
		d.CompareLists(before, now, func(p string) bool { return p == "own" }, blanks)
		require.Equal(t, c.says, d.String(), c.name)
	}
}

func TestAFolderIsComparedAsALookSawIt(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	blank := strings.Repeat("\x00", 200_000)
	for p, content := range map[string]string{"zeros": blank, "late": blank + "1", "same": blank} {
		require.NoError(t, root.WriteFile(p, []byte(content), 0o644))
	}
	require.NoError(t, root.Mkdir("folder", 0o755))
	before := &manifest.Manifest{}
	for _, p := range []string{"folder", "late", "same", "zeros"} {
		before.Files = append(before.Files, manifest.File{Path: p, Size: 5000, Digest: digest.Of([]byte(p))})
	}
	before.Files[2].Digest = digest.Of([]byte(blank))
	tree, err := scan.Walk(t.Context(), root, rules.Rules{})
	require.NoError(t, err)
	e := tree.Entry("same")
	e.Digest, e.Known = before.Files[2].Digest, true
	d := Since("1.0", 1)
	require.NoError(t, d.Compare(t.Context(), root, before, tree, func(string) bool { return false }))
	require.Equal(t, []string{"zeros"}, d.Zeros)
	require.Equal(t, "zeros holds nothing but zeros, and was not in 1.0", d.String())
	ctx, stop := context.WithCancel(t.Context())
	stop()
	require.ErrorIs(t, Since("1.0", 1).Compare(ctx, root, before, tree, func(string) bool { return false }), context.Canceled)
}
