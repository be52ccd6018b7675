package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEachPageOfEachDatabaseHarmed overwrites each page of each database of a home, one at a time, and expects every
// command to work: a database is mended, or begun anew where what was in it can be found out again. The full sweep
// (-tags long) does each page in two ways.
func TestEachPageOfEachDatabaseHarmed(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	files := map[string][]byte{"data/a.pak": noise("a", 5000), "data/b.pak": noise("b", 5000)}
	for i := range 60 { // several pages of aliases
		files["data/small-"+strings.Repeat("x", i)] = noise("small", 100+i)
	}
	s.alg = "sha1"
	s.publish("1", shelfDay, files)
	w := ofShelf(t, s, files)
	w.ok("pin", "id:1", "--yes")
	w.ok("snapshot", "mine")
	w.write("data/a.pak", "an update")
	w.ok("verify", "--repair", "--yes")
	kept := filepath.Join(w.dir, "kept")
	require.NoError(t, os.CopyFS(kept, os.DirFS(w.home)))
	const pageSize = 4096
	for _, file := range []string{"state.db", "store/index.db", "cache.db", "aliases.db"} {
		info, err := os.Stat(filepath.Join(kept, file))
		require.NoError(t, err)
		pages := int(info.Size() / pageSize)
		require.Greater(t, pages, 1, file)
		step := 1
		if stride(1) > 1 {
			step = max(1, pages/3)
		}
		for page := 0; page < pages; page += step {
			for _, kind := range []string{"noise", "zeros"} {
				if stride(1) > 1 && kind == "zeros" {
					continue
				}
				harm := noise(kind, pageSize)
				if kind == "zeros" {
					clear(harm)
				}
				require.NoError(t, os.RemoveAll(w.home))
				require.NoError(t, os.CopyFS(w.home, os.DirFS(kept)))
				for _, suffix := range []string{"-wal", "-shm"} {
					os.Remove(filepath.Join(w.home, file+suffix))
				}
				f, err := os.OpenFile(filepath.Join(w.home, file), os.O_WRONLY, 0)
				require.NoError(t, err)
				_, err = f.WriteAt(harm, int64(page)*pageSize)
				require.NoError(t, err)
				require.NoError(t, f.Close())
				for _, args := range [][]string{{"status"}, {"identify"}, {"diff", "id:1"}, {"fetch", "id:1"}, {"pin", "mine", "--yes"}, {"pin", "id:1", "--yes"}, {"store", "check", "--recover-builds"}, {"verify"}} {
					r := w.run(append([]string{"-g", "quay"}, args...)...)
					require.Contains(t, []int{0, 3}, r.code, "%s page %d of %d, %s: %v\n%s%s", file, page, pages, kind, args, r.out, r.err)
					require.NotContains(t, r.err, "malformed", "%s page %d: %v", file, page, args)
				}
			}
		}
	}
}

// TestADamagedSubscriptionMendsItself, and a check of the store says so.
func TestADamagedSubscriptionMendsItself(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.publish("1", shelfDay, map[string][]byte{"a": []byte("a file")})
	w := ofShelf(t, s, nil)
	feed := filepath.Join(w.home, "feeds", "quay", "shelf")
	intact, err := os.ReadFile(filepath.Join(feed, "subscription.json"))
	require.NoError(t, err)
	for _, harmed := range []string{"", "{", strings.Replace(string(intact), "shelf.json", "shalf.json", 1)} {
		require.NoError(t, os.WriteFile(filepath.Join(feed, "subscription.json"), []byte(harmed), 0o600))
		require.Contains(t, w.ok("store", "check").out, "The subscription of the feed shelf was damaged; it is restored from its copy.")
		now, err := os.ReadFile(filepath.Join(feed, "subscription.json"))
		require.NoError(t, err)
		require.Equal(t, string(intact), string(now))
	}
	require.NoError(t, os.Remove(filepath.Join(feed, "subscription.json")))
	w.ok("fetch", "id:1")
}

// TestWhatCanBeFoundOutAgainIsBegunAnew names it in a check of the store.
func TestWhatCanBeFoundOutAgainIsBegunAnew(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.publish("1", shelfDay, map[string][]byte{"a": []byte("a file")})
	w := ofShelf(t, s, map[string][]byte{"a": []byte("a file")})
	w.ok("pin", "id:1", "--yes")
	for _, file := range []string{"aliases.db", "cache.db"} {
		f, err := os.OpenFile(filepath.Join(w.home, file), os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteAt(noise("harm", 4096), 4096)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		require.Contains(t, w.ok("store", "check").out, file+" was damaged; Morvant has begun it anew")
		require.NotContains(t, w.ok("store", "check").out, "damaged")
		w.ok("verify")
	}
}
