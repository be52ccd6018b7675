package cli_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/standin"
)

func TestAFetchedBuildCanBeHandedOn(t *testing.T) {
	t.Parallel()
	m := newMarket(t, "1.3.0")
	m.ok("feed", "add", m.address)
	mine := filepath.Join(m.dir, "mine")
	m.ok("pin", "1.1.0", "--yes")
	m.fails(1, "not all of 1.1.0 is on this computer", "publish", mine, "1.1.0", "--feed", "mine")
	m.ok("fetch", "1.1.0")
	m.ok("publish", mine, "1.1.0", "--feed", "mine")
	m.ok("feed", "remove", "quay-archive", "--yes")
	friend := newMarket(t, "1.3.0")
	friend.ok("feed", "add", mine)
	friend.ok("pin", "1.1.0", "--clean", "--yes")
	friend.isBuild("1.1.0", "base", "voices-en")
	require.Contains(t, friend.ok("builds").out, "2031-08-05", "with its own date")
}

// chunksIn lists the chunks of every pack below dir.
func chunksIn(t *testing.T, dir string) map[digest.Digest]bool {
	t.Helper()
	found := make(map[digest.Digest]bool)
	names, err := filepath.Glob(filepath.Join(dir, "packs", "*.pack"))
	require.NoError(t, err)
	require.NotEmpty(t, names)
	for _, name := range names {
		b, err := os.ReadFile(name)
		require.NoError(t, err)
		_, entries, err := pack.ReadIndex(bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err)
		for _, e := range entries {
			if e.Kind == pack.Chunk {
				found[e.Digest] = true
			}
		}
	}
	return found
}

func TestPublishWritesOnlyTheBuildsNamed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	q := standin.Quay{Bytes: 1 << 20}
	require.NoError(t, q.Write(w.live, "1.1.0"))
	require.NoError(t, q.AddPlayerFiles(w.live))
	w.write("notes/diary.txt", "mine alone")
	w.ok("add", "quay", w.live, "--keep", "Mods/**", "--keep", "Harbours/**", "--keep", "settings.ini", "--keep", "notes", "--scratch", "logs/**")
	w.ok("snapshot", "1.1.0")
	w.write("data/secret-of-another-build.txt", "not published")
	w.ok("snapshot", "later")
	feed := filepath.Join(w.dir, "feed")
	r := w.ok("publish", feed, "1.1.0", "--feed", "mine", "--component", "voices=voices/**", "--component", "base", "--date", "2031-08-05", "--note", "tides")
	require.Contains(t, r.out, "Published in mine: public/1.1.0")

	published := chunksIn(t, feed)
	game := t.TempDir()
	require.NoError(t, q.Write(game, "1.1.0"))
	whole := 0
	for p, what := range contentOf(t, game, nil) {
		d, err := digest.Parse(strings.Fields(what)[0])
		require.NoError(t, err)
		if published[d] {
			whole++
			delete(published, d)
		}
		_ = p
	}
	require.Greater(t, whole, 20)
	for _, secret := range []string{"mine alone", "not published"} {
		require.False(t, published[digest.Of([]byte(secret))])
	}
	mods := t.TempDir()
	require.NoError(t, q.AddPlayerFiles(mods))
	for p, what := range contentOf(t, mods, nil) {
		d, err := digest.Parse(strings.Fields(what)[0])
		require.NoError(t, err)
		require.False(t, published[d], p)
	}
	// What is left must be pieces of the large files: nothing else is in them.
	left := 0
	for range published {
		left++
	}
	require.Less(t, left, 40)
	require.NoError(t, filepath.WalkDir(feed, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(p)
		for _, word := range []string{"mine alone", "not published", "settings.ini", "Mods", w.home, w.live} {
			require.NotContains(t, string(b), word, p)
		}
		return err
	}))
}

func TestPublishingAgainAddsOnlyWhatIsNew(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	q := standin.Quay{Bytes: 2 << 20}
	require.NoError(t, q.Write(w.live, "1.1.0"))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.1.0")
	feed := filepath.Join(w.dir, "feed")
	w.fails(1, "a new feed needs a name (--feed NAME)", "publish", feed, "1.1.0")
	w.ok("publish", feed, "1.1.0", "--feed", "mine")
	first := contentOf(t, feed, nil)
	require.NoError(t, q.Write(w.live, "1.1.1"))
	w.ok("snapshot", "1.1.1")
	j := w.json(0, "publish", feed, "1.1.1", "1.1.0")
	require.Equal(t, []any{"public/1.1.1"}, j["added"])
	require.Equal(t, []any{"public/1.1.0"}, j["same"])
	require.Less(t, j["written_bytes"].(float64), 1e6)
	second := contentOf(t, feed, nil)
	for p, what := range first {
		if !strings.HasPrefix(p, "channels/") && !strings.HasPrefix(p, "feed.json") {
			require.Equal(t, what, second[p], "what is published is never changed")
		}
	}
	require.NoError(t, q.Write(w.live, "1.2.0"))
	w.ok("snapshot", "1.2.0")
	w.fails(1, "already published with other content", "publish", feed, "1.2.0", "--label", "1.1.1")
	w.fails(1, "belong to no component", "publish", feed, "1.2.0", "--component", "voices=voices/**")
	require.NoError(t, os.Remove(filepath.Join(w.home, "publish.key"))) // so another is made
	w.fails(1, "signed by another key", "publish", feed, "1.2.0")
}

func TestBuildsToPublishFromAList(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	require.NoError(t, standin.Quay{Bytes: 1 << 20}.Write(w.live, "1.2.0"))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "summer")
	list := filepath.Join(w.dir, "list.toml")
	feed := filepath.Join(w.dir, "feed")
	require.NoError(t, os.WriteFile(list, []byte(`feed = "mine"
game = "cinder-quay"
[[component]]
name = "night"
title = "Night Shift"
files = ["expansion/**"]
[[component]]
name = "base"
required = true
[[channel]]
name = "preview"
locked = true
[[build]]
from = "summer"
label = "1.2.0"
channel = "preview"
date = 2031-11-02T09:00:00Z
`), 0o644))
	w.ok("publish", feed, "--list", list, "--dry-run")
	require.NoDirExists(t, feed)
	r := w.ok("publish", feed, "--list", list)
	require.Contains(t, r.out, "preview/1.2.0")
	require.Contains(t, r.err, "asks nobody for the key of preview")
	w.ok("feed", "add", feed)
	require.Contains(t, w.ok("builds", "--channel", "preview").out, "base, night")
	require.NoError(t, os.WriteFile(list, []byte("feed = \"mine\"\n[[build]]\nfrom = \"summer\"\nlable = \"x\"\n"), 0o644))
	w.fails(2, `line 4: unknown key "build.lable"`, "publish", feed, "--list", list)
}

func TestTwoPublishersAtTheSameTime(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	require.NoError(t, standin.Quay{Bytes: 8 << 20}.Write(w.live, "1.2.0"))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.2.0")
	feed := filepath.Join(w.dir, "feed")
	w.ok("publish", feed, "1.2.0", "--feed", "mine")
	require.NoError(t, standin.Quay{Bytes: 8 << 20}.Write(w.live, "1.3.0"))
	w.ok("snapshot", "1.3.0")
	var wg sync.WaitGroup
	results := make([]result, 4)
	for i := range results {
		wg.Add(1)
		go func() {
			defer wg.Done()
			results[i] = w.run("publish", feed, "1.3.0", "--label", fmt.Sprintf("1.3.%d", i))
		}()
	}
	wg.Wait()
	published := 0
	for _, r := range results {
		if r.code == 0 {
			published++
		} else {
			require.Contains(t, r.err, "another Morvant is publishing there")
		}
	}
	require.Positive(t, published)
	w.ok("feed", "add", feed)
	require.Len(t, w.json(0, "builds", "--channel", "public")["builds"], published+1)
}

// TestPublishingGivesAwayNothingOfThePlayers fills a home with marked secrets and searches
// everything that is published for each mark.
func TestPublishingGivesAwayNothingOfThePlayers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	secrets := []string{"SECRET-kept-by-game", "SECRET-kept-by-pin", "SECRET-companion", "SECRET-save", "SECRET-scratch", "SECRET-note", "SECRET-own-note", "SECRET-other-lane", w.dir}
	w.ok("game", "set", "--keep", "Mine/**", "--scratch", "logs/**", "--saves", "profiles/*")
	w.write("Mine/a.txt", secrets[0])
	w.write("pinned/b.txt", secrets[1])
	w.write("profiles/ada/1.sav", secrets[3])
	w.write("logs/last.txt", secrets[4])
	w.ok("snapshot", "1.1.1", "--note", secrets[5]+" in "+w.live)
	w.ok("pin", "1.1.1", "--yes", "--keep", "pinned/**", "--companion", "bin/standalone.txt="+secrets[2])
	w.ok("lane", "new", "second", "--from", "1.1.1", "--yes")
	w.ok("-l", "second", "pin", "1.1.1", "--yes", "--keep", "theirs/**")
	w.write("theirs/c.txt", secrets[7])
	w.ok("snapshot", "all")
	w.ok("builds", "note", "all", secrets[6])
	dest := filepath.Join(w.dir, "feed")
	dry := w.ok("publish", dest, "1.1.1", "all", "--feed", "mine", "--dry-run").out
	require.Contains(t, dry, "base: bin/quay.exe")
	require.NotContains(t, dry, "b.txt")
	seen := w.json(0, "publish", dest, "all", "--feed", "mine", "--dry-run")["builds"].([]any)[0].(map[string]any)
	require.Contains(t, seen["files"], "readme.txt")
	w.ok("publish", dest, "1.1.1", "all", "--feed", "mine")
	// Also what is packed is searched: a store of its own takes it in.
	reader := newWorld(t)
	reader.ok("add", "quay", reader.live)
	reader.ok("feed", "add", dest)
	reader.ok("pin", "public/all", "--yes")
	all := ""
	for _, dir := range []string{dest, reader.live, filepath.Join(reader.home, "feeds")} {
		require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() && filepath.Base(p) != "subscription.json" {
				b, readErr := os.ReadFile(p)
				require.NoError(t, readErr)
				all += p + "\n" + string(b)
			}
			return err
		}))
	}
	all = strings.ReplaceAll(all, dest, "")
	for _, secret := range secrets {
		require.NotContains(t, all, secret)
	}
	require.NotContains(t, reader.ok("builds").out, "SECRET")
	require.FileExists(t, reader.path("bin/quay.exe"))
	w.ok("publish", filepath.Join(w.dir, "other"), "1.1.1", "--feed", "mine", "--note", "for everybody")
	require.Contains(t, readFile(t, filepath.Join(w.dir, "other", "channels", "public.json")), "for everybody")
}
