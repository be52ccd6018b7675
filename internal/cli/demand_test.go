package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func lstat(path string) error {
	_, err := os.Lstat(path)
	return err
}

// newArchive is a distributor with many builds of a few files each, of which one changes each time.
func newArchive(t *testing.T, builds int) *shelf {
	s := newShelf(t)
	for n := range builds {
		id := fmt.Sprint(n)
		s.publish(id, time.Date(2024, 1, 1, 12, 0, 0, 0, time.UTC).Add(time.Duration(n)*time.Hour), map[string][]byte{
			"quay.exe": []byte("the program " + fmt.Sprint(n/100)), "data/a.pak": []byte("content of build " + id), "readme.txt": []byte("read me"),
		})
	}
	return s
}

// added registers a game and adds the distributor as its feed, every request of which is noted.
func (s *shelf) added(w *world) (asked func() []string) {
	s.told.Log = filepath.Join(w.dir, "asked")
	w.ok("add", "quay", w.live)
	program, address := s.address(w.dir)
	w.ok("feed", "add", "--adapter", program, address)
	return func() []string {
		b, err := os.ReadFile(s.told.Log)
		if err == nil {
			err = os.Remove(s.told.Log)
		}
		if err != nil {
			return nil
		}
		return strings.Fields(string(b))
	}
}

// TestADistributorIsAskedWhenItIsNeeded: with three thousand builds, a command asks for what it is about, and for nothing else.
func TestADistributorIsAskedWhenItIsNeeded(t *testing.T) {
	t.Parallel()
	s, w := newArchive(t, 3000), newWorld(t)
	w.write("quay.exe", "the program 14")
	w.write("data/a.pak", "content of build 1417")
	w.write("readme.txt", "read me")
	asked := s.added(w)
	first := asked()
	require.Equal(t, "builds", first[0])
	require.Len(t, first, 21, "the list, and the manifests of the newest")
	require.Equal(t, "m-2999", first[1])
	for _, look := range [][]string{{"builds"}, {"status"}, {"feed", "list"}, {"builds", "--find", "m-17"}} {
		w.ok(look...)
		require.Empty(t, asked(), look)
	}
	require.Contains(t, w.ok("builds", "--find", "m-17").out, "not read")
	w.ok("diff", "id:1000", "id:1001")
	require.Equal(t, []string{"m-1000", "m-1001"}, asked())
	require.Contains(t, w.ok("diff", "m-1000", "m-1001").out, "data/a.pak", "a manifest's number leads to its build")
	require.Empty(t, asked(), "what has come is kept")
	r := w.ok("identify")
	require.Len(t, asked(), 50)
	require.Contains(t, r.out, "2,928 builds of a distributor are not compared")
	w.ok("pin", "id:1417", "--yes", "--no-block")
	require.Equal(t, []string{"m-1417"}, asked())
	w.ok("status")
	require.NotContains(t, w.ok("identify").out, "not compared", "it is found")
	asked()
	w.ok("feed", "refresh")
	require.Equal(t, "builds", asked()[0])
	require.NotContains(t, w.ok("builds", "--find", "m-1417").out, "not read")
}

// TestWhichBuildsHaveAFile: wherever it lies, by Morvant's digest and the distributor's, read or not.
func TestWhichBuildsHaveAFile(t *testing.T) {
	t.Parallel()
	s, w := newArchive(t, 6), newWorld(t)
	w.write("quay.exe", "the program 0")
	s.added(w)
	w.ok("snapshot", "mine")
	from := filepath.Join(w.dir, "download.bin")
	require.NoError(t, os.WriteFile(from, []byte("content of build 3"), 0o644))
	r := w.ok("builds", "--with", from)
	require.Contains(t, r.out, "id 3")
	require.Contains(t, r.out, "as data/a.pak")
	require.NotContains(t, r.out, "id 2")
	r = w.ok("builds", "--with", "quay.exe")
	require.Contains(t, r.out, "mine", "as it is called in the game")
	require.Contains(t, r.out, "id 5")
	require.NoError(t, os.WriteFile(from, []byte("of none"), 0o644))
	require.Contains(t, w.ok("builds", "--with", from).out, "No known build")
	w.fails(1, "no-such-file", "builds", "--with", "no-such-file")
}

// TestOneManifestThatIsWrongLocksOutNothing: the feed is added, other builds can be pinned, and what was wrong is said once.
func TestOneManifestThatIsWrongLocksOutNothing(t *testing.T) {
	t.Parallel()
	s, w := newArchive(t, 6), newWorld(t)
	s.told.Manifests["m-3"].Files[0].Path = "../outside"
	s.told.Log = filepath.Join(w.dir, "asked")
	w.ok("add", "quay", w.live)
	program, address := s.address(w.dir)
	r := w.ok("feed", "add", "--adapter", program, address)
	require.Contains(t, r.err, "of 6 manifests 5 were read")
	require.Contains(t, w.ok("builds", "--find", "m-3").out, "refused")
	w.ok("pin", "id:4", "--yes")
	require.Equal(t, "content of build 4", w.read("data/a.pak"))
	w.fails(1, "../outside", "pin", "id:3", "--yes")
	// It is put right.
	s.told.Manifests["m-3"].Files[0].Path = "data/a.pak"
	s.address(w.dir)
	w.ok("pin", "id:3", "--yes")
	require.Equal(t, "content of build 3", w.read("data/a.pak"))
}

// TestWhatComesLaterIsWaitedForOnce: a distributor that asks for more patience than it gets is left alone, in its own words.
func TestWhatComesLaterIsWaitedForOnce(t *testing.T) {
	t.Parallel()
	s, w := newArchive(t, 6), newWorld(t)
	s.told.Later = map[string]bool{"m-3": true}
	s.told.Log = filepath.Join(w.dir, "asked")
	w.ok("add", "quay", w.live)
	program, address := s.address(w.dir)
	r := w.ok("feed", "add", "--adapter", program, address)
	require.Contains(t, r.err, "of 6 manifests 2 were read")
	require.Contains(t, r.err, "the distributor is at lunch")
	require.NotContains(t, r.err, "HTTP")
	w.ok("pin", "id:5", "--yes")
	r = w.run("pin", "id:3", "--yes")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "the distributor is at lunch")
	require.Contains(t, r.err, "Run the same command later")
	require.NotContains(t, r.err, "HTTP")
	w.ok("pin", "id:2", "--yes")
	require.NotContains(t, w.ok("builds").out, "refused", "it was put off")
	// What is on its way beside it is not refused either.
	s, w = newArchive(t, 20), newWorld(t)
	s.told.Later, s.told.AtOnce = map[string]bool{"m-17": true}, 8
	s.added(w)
	require.NotContains(t, w.ok("builds").out, "refused")
}

// TestIdentifyAsksForNothingThatTheFolderCannotBe: by the sizes that are told.
func TestIdentifyAsksForNothingThatTheFolderCannotBe(t *testing.T) {
	t.Parallel()
	s, w := newArchive(t, 40), newWorld(t)
	for i := range s.told.Builds {
		s.told.Builds[i].Components[0].Bytes = 1 << 30
	}
	s.told.Builds[39].Components[0].Bytes = 10
	w.write("quay.exe", "the program 0")
	asked := s.added(w)
	require.Len(t, asked(), 21)
	w.ok("identify")
	require.Equal(t, []string{"m-0"}, asked())
}

// TestDearManifestsAreReadOnlyWhenNamed: and several at once where the adapter takes that.
func TestDearManifestsAreReadOnlyWhenNamed(t *testing.T) {
	t.Parallel()
	s, w := newArchive(t, 40), newWorld(t)
	s.told.Dear, s.told.AtOnce = true, 4
	s.told.Builds[0].Withdrawn = true
	no := false
	s.told.Builds[1].Components[0].Owned = &no
	w.write("quay.exe", "the program 0")
	asked := s.added(w)
	require.Equal(t, []string{"builds"}, asked())
	w.ok("identify")
	require.Empty(t, asked())
	list := w.ok("builds").out
	require.Contains(t, list, "withdrawn")
	require.Contains(t, list, "not owned")
	w.ok("pin", "id:7", "--yes")
	require.Equal(t, []string{"m-7"}, asked())
	w.ok("feed", "refresh", "--all")
	require.Len(t, asked(), 1+40-1)
	require.NotContains(t, w.ok("builds").out, "not read")
}

// TestAnAdapterIsToldWhatCanGoAndHowFast: the files that it made for content have been read, and the player wants no more than this.
func TestAnAdapterIsToldWhatCanGoAndHowFast(t *testing.T) {
	t.Parallel()
	s, w := newShelf(t), newWorld(t)
	s.told.Texts = map[string]string{"a": "a file", "data/b": "another one"}
	s.publish("1", shelfDay, map[string][]byte{"a": []byte("a file"), "data/b": []byte("another one")})
	s.told.Scratch, s.told.AtOnce = true, 2
	asked := s.added(w)
	asked()
	w.ok("pin", "id:1", "--yes", "--limit", "50MB")
	require.Equal(t, "another one", w.read("data/b"))
	told := asked()
	require.Contains(t, told, "done:a")
	require.Contains(t, told, "done:data-b")
	require.Contains(t, told, "limit:50000000")
	require.NoFileExists(t, filepath.Join(w.home, "feeds", "quay", "shelf", "adapter", "data-b"))
}
