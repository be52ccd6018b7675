package scan

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/progress"
	"morvant/internal/rules"
)

func folder(t *testing.T, files map[string]string) (string, *os.Root) {
	t.Helper()
	dir := t.TempDir()
	for p, content := range files {
		name := filepath.Join(dir, filepath.FromSlash(p))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(content), 0o644))
	}
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return dir, root
}

func request() Request { return Request{Sink: Hash(), Meter: progress.None{}, Now: time.Now} }

func paths(t *Tree) (out []string) {
	for _, e := range t.Entries {
		out = append(out, e.Path)
	}
	return out
}

func TestWalkListsEverythingButScratchAndItsOwn(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("symbolic links take rights here that players do not have")
	}
	dir, root := folder(t, map[string]string{
		"b.txt": "b", "a/deep/x": "x", "logs/today": "l", ".morvant/lane.toml": "m", "sub/.morvant/x": "of saves in it", "a.log": "s",
	})
	require.NoError(t, os.Mkdir(filepath.Join(dir, "empty"), 0o755))
	require.NoError(t, os.Symlink("b.txt", filepath.Join(dir, "link")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(dir, "out")))
	tree, err := Walk(t.Context(), root, rules.Rules{Scratch: []string{"logs/**", "*.log"}})
	require.NoError(t, err)
	require.Equal(t, []string{"a", "a/deep", "a/deep/x", "b.txt", "empty", "link", "sub"}, paths(tree))
	require.ElementsMatch(t, []Oddity{{Path: "out", What: "a link that leads out of the folder", Target: "/etc"},
		{Path: "sub/.morvant", What: `"sub/.morvant" is in a folder that is Morvant's own`, Name: true}}, tree.Odd)
	require.NoError(t, tree.Read(t.Context(), root, request()))
	m := tree.Manifest()
	require.NoError(t, m.Validate())
	require.Equal(t, []string{"empty", "sub"}, m.EmptyDirs)
	require.Equal(t, "b.txt", m.Links[0].Target)
	require.Equal(t, digest.Of([]byte("x")), m.Files[0].Digest)
	require.Contains(t, tree.Attributes().Dirs, "a/deep")
}

func TestTheCacheTrustsOnlyWhatItCan(t *testing.T) {
	dir, root := folder(t, map[string]string{"a": "1", "d/b": "2"})
	cache := OpenCache(filepath.Join(t.TempDir(), "cache.db"))
	defer cache.Close()
	look := func() (known []string) {
		tree, err := Walk(t.Context(), root, rules.Rules{})
		require.NoError(t, err)
		require.NoError(t, cache.Recall(t.Context(), dir, tree))
		for _, e := range tree.Entries {
			if e.Known {
				known = append(known, e.Path)
			}
		}
		q := request()
		// Looked at as if some time had passed since the files were written.
		q.Now = func() time.Time { return time.Now().Add(time.Hour) }
		require.NoError(t, tree.Read(t.Context(), root, q))
		require.NoError(t, cache.Remember(t.Context(), dir, tree))
		return known
	}
	require.Empty(t, look())
	require.Equal(t, []string{"a", "d/b"}, look())
	info, err := os.Stat(filepath.Join(dir, "a"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("2"), 0o644))
	require.NoError(t, os.Chtimes(filepath.Join(dir, "a"), info.ModTime(), info.ModTime()))
	require.Equal(t, []string{"d/b"}, look(), "same size and time, but touched")
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "d")))
	require.Equal(t, []string{"a"}, look())
	rows, err := cache.rows(t.Context(), dir)
	require.NoError(t, err)
	require.Len(t, rows, 1, "folders that are gone are forgotten")
}

func TestALookTellsAFileFromOneThatTookItsPlace(t *testing.T) {
	dir, root := folder(t, map[string]string{"d/a": "1", "d/other": "2"})
	when := time.Unix(1_900_000_000, 0)
	for _, name := range []string{"a", "other"} {
		require.NoError(t, os.Chtimes(filepath.Join(dir, "d", name), when, when))
	}
	mode, was, err := Look(root, "d/a")
	require.NoError(t, err)
	require.True(t, mode.IsRegular())
	require.Equal(t, int64(1), was.Size)
	require.Equal(t, when.UnixNano(), was.MTime)
	require.NotZero(t, was.CTime)
	require.NotZero(t, was.Ino)
	_, again, err := Look(root, "d/a")
	require.NoError(t, err)
	require.Equal(t, was, again)
	f, err := OpenFile(root, "d/a")
	require.NoError(t, err)
	_, open, err := lookAt(f)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.Equal(t, was, open, "an open file tells the same")

	require.NoError(t, os.Rename(filepath.Join(dir, "d", "other"), filepath.Join(dir, "d", "a")))
	_, now, err := Look(root, "d/a")
	require.NoError(t, err)
	require.NotEqual(t, was.Ino, now.Ino)
	require.Equal(t, was.MTime, now.MTime)

	mode, _, err = Look(root, "d")
	require.NoError(t, err)
	require.True(t, mode.IsDir())
	_, _, err = Look(root, "d/nothing")
	require.ErrorIs(t, err, os.ErrNotExist)
	_, _, err = Look(root, "../outside")
	require.Error(t, err)
}

func TestATouchWithinTheClocksResolutionIsRacy(t *testing.T) {
	looked := time.Unix(2_000_000_000, 0)
	at := func(m, c time.Duration) Stamp {
		return Stamp{MTime: looked.Add(m).UnixNano(), CTime: looked.Add(c).UnixNano()}
	}
	for _, c := range []struct {
		stamp Stamp
		racy  bool
	}{
		{at(-time.Hour, -time.Hour), false}, {at(-time.Second, -time.Hour), true}, {at(time.Second, -time.Hour), true},
		{at(-time.Hour, -time.Millisecond), true}, {at(-time.Hour, -time.Second), false}, {at(time.Hour, -time.Hour), false},
		{Stamp{MTime: looked.Add(-time.Hour).UnixNano()}, false},
	} {
		require.Equal(t, c.racy, c.stamp.Racy(looked), "%v", c)
	}
}

func TestAFileThatGrowsWhileItIsReadIsReadAgain(t *testing.T) {
	dir, root := folder(t, map[string]string{"a": "start"})
	tree, err := Walk(t.Context(), root, rules.Rules{})
	require.NoError(t, err)
	times := 0
	q := request()
	q.Sink = func(ctx context.Context, r io.Reader, read func(int)) (digest.Digest, int64, error) {
		d, n, err := Hash()(ctx, r, read)
		if times++; times < 3 {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte(fmt.Sprint("grown ", strings.Repeat("x", times))), 0o644))
		}
		return d, n, err
	}
	require.NoError(t, tree.Read(t.Context(), root, q))
	require.Equal(t, 3, times)
	require.Equal(t, digest.Of([]byte("grown xx")), tree.Entry("a").Digest)
	require.Equal(t, int64(8), tree.Entry("a").Stamp.Size)

	tree.Entry("a").Known = false
	q.Sink = func(ctx context.Context, r io.Reader, read func(int)) (digest.Digest, int64, error) {
		times++
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte(strings.Repeat("y", times)), 0o644))
		return Hash()(ctx, r, read)
	}
	require.ErrorIs(t, tree.Read(t.Context(), root, q), ErrUnstable)
}

func TestAFileThatVanishesIsLeftOutAndSaid(t *testing.T) {
	dir, root := folder(t, map[string]string{"a": "1", "b": "2"})
	tree, err := Walk(t.Context(), root, rules.Rules{})
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(dir, "a")))
	q := request()
	warnings := &warned{}
	q.Meter = warnings
	require.NoError(t, tree.Read(t.Context(), root, q))
	require.Equal(t, []string{"b"}, paths(tree))
	require.Equal(t, []string{"a disappeared while the folder was read; it is left out"}, warnings.list)
}

type warned struct {
	progress.None
	list []string
}

func (w *warned) Warn(s string) { w.list = append(w.list, s) }

func TestALimitLeavesTheLargestUnread(t *testing.T) {
	_, root := folder(t, map[string]string{"small": "1", "large": strings.Repeat("x", 1000), "medium": strings.Repeat("y", 100)})
	tree, err := Walk(t.Context(), root, rules.Rules{})
	require.NoError(t, err)
	q := request()
	q.Limit = 150
	require.NoError(t, tree.Read(t.Context(), root, q))
	require.False(t, tree.Entry("large").Known)
	require.True(t, tree.Entry("medium").Known && tree.Entry("small").Known)
}

func TestAReadThatFailsNamesTheFile(t *testing.T) {
	_, root := folder(t, map[string]string{"a": "1"})
	tree, err := Walk(t.Context(), root, rules.Rules{})
	require.NoError(t, err)
	q := request()
	q.Sink = func(context.Context, io.Reader, func(int)) (digest.Digest, int64, error) {
		return digest.Digest{}, 0, errors.New("bad sector")
	}
	require.EqualError(t, tree.Read(t.Context(), root, q), "read a: bad sector")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Walk(ctx, root, rules.Rules{})
	require.ErrorIs(t, err, context.Canceled)
}

func FuzzCacheRow(f *testing.F) {
	f.Add(appendCached(nil, "name", cached{Stamp{1, 2, 3, 4, 5}, time.Unix(6, 7), digest.Of(nil)}))
	f.Add([]byte{255, 255})
	f.Fuzz(func(t *testing.T, b []byte) {
		m := make(map[string]cached)
		decodeDir("d", b, m)
		if len(m)*cachedSize > len(b) {
			t.Fatalf("%d entries out of %d bytes", len(m), len(b))
		}
	})
}

func TestAPathIsFoundInAnySpelling(t *testing.T) {
	_, root := folder(t, map[string]string{"Data/Voices.pak": "1", "readme": "2"})
	tree, err := Walk(t.Context(), root, rules.Rules{})
	require.NoError(t, err)
	require.Nil(t, tree.Entry("data/voices.PAK"))
	tree.IgnoreCase()
	require.Equal(t, "Data/Voices.pak", tree.Entry("data/voices.PAK").Path)
	require.Equal(t, "readme", tree.Entry("readme").Path)
	require.Nil(t, tree.Entry("data/other"))
}
