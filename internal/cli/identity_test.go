package cli_test

import (
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/adapter"
	"morvant/internal/digest"
)

// colliding returns two contents of the same MD5 (X. Wang, H. Yu, How to break MD5 and other hash functions, 2005).
func colliding(t *testing.T) (one, two []byte) {
	one, err := hex.DecodeString("d131dd02c5e6eec4693d9a0698aff95c2fcab58712467eab4004583eb8fb7f8955ad340609f4b30283e488832571415a085125e8f7cdc99fd91dbdf280373c5b" +
		"d8823e3156348f5bae6dacd436c919c6dd53e2b487da03fd02396306d248cda0e99f33420f577ee8ce54b67080a80d1ec69821bcb6a8839396f9652b6ff72a70")
	require.NoError(t, err)
	two = append([]byte{}, one...)
	for _, i := range []int{19, 45, 59, 83, 109, 123} {
		two[i] ^= 0x80
	}
	a, _ := digest.ForeignOf("md5", one)
	b, _ := digest.ForeignOf("md5", two)
	require.Equal(t, a, b)
	return one, two
}

var shelfDay = time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC)

// second adds another shelf to the same game under a name.
func (w *world) second(s *shelf, name string) {
	dir := filepath.Join(w.dir, name)
	require.NoError(w.t, os.Mkdir(dir, 0o755))
	program, address := s.address(dir)
	w.ok("feed", "add", "--name", name, "--adapter", program, address)
}

// TestAWeakDigestNeverStandsInForAStrongOne: content that merely collides, of one distributor, is not installed for
// another that told a strong digest.
func TestAWeakDigestNeverStandsInForAStrongOne(t *testing.T) {
	t.Parallel()
	evil, good := colliding(t)
	one, two := newShelf(t), newShelf(t)
	one.alg = "md5"
	one.publish("1", shelfDay, map[string][]byte{"a.pak": evil})
	two.piece, two.alg = 64, "sha256"
	two.publish("2", shelfDay.AddDate(0, 1, 0), map[string][]byte{"a.pak": good})
	two.told.Manifests["m-2"].Files[0].Digest = one.digestOf(good)
	w := ofShelf(t, one, nil)
	w.second(two, "two")
	w.ok("pin", "id:1", "--yes")
	require.Equal(t, string(evil), w.read("a.pak"))
	w.ok("pin", "id:2", "--yes")
	require.Equal(t, string(good), w.read("a.pak"))
	w.ok("store", "check")
}

// TestWeakAndMissingDigestsCrossNoBorder: what one distributor sent by a weak digest, or by none, is not another's, though
// both call everything alike.
func TestWeakAndMissingDigestsCrossNoBorder(t *testing.T) {
	t.Parallel()
	evil, good := colliding(t)
	for _, alg := range []string{"md5", ""} {
		one, two := newShelf(t), newShelf(t)
		one.alg, two.alg = alg, alg
		one.publish("1", shelfDay, map[string][]byte{"a.pak": evil})
		two.publish("1", shelfDay, map[string][]byte{"a.pak": good})
		w := ofShelf(t, one, nil)
		w.ok("pin", "id:1", "--yes", "--unchecked")
		require.Equal(t, string(evil), w.read("a.pak"))

		live := w.live
		w.live = filepath.Join(w.dir, "Other")
		require.NoError(t, os.Mkdir(w.live, 0o755))
		w.ok("add", "other", w.live)
		dir := filepath.Join(w.dir, "two")
		require.NoError(t, os.Mkdir(dir, 0o755))
		program, address := two.address(dir)
		w.ok("-g", "other", "feed", "add", "--adapter", program, address)
		w.ok("-g", "other", "pin", "id:1", "--yes", "--unchecked")
		require.Equal(t, string(good), w.read("a.pak"), "digest %q", alg)

		// Also where the other's file lies in the lane already.
		if alg != "" {
			w.ok("-g", "other", "unpin", "--stay", "--yes")
			require.NoError(t, os.WriteFile(w.path("a.pak"), evil, 0o644))
			w.ok("-g", "other", "pin", "id:1", "--yes")
			require.Equal(t, string(good), w.read("a.pak"))
		}
		w.live = live
	}
}

// TestPiecesWithoutDigestsThatWereWrongComeOnceMore: pieces without digests that were kept by an earlier run, and are wrong, come
// once more.
func TestPiecesWithoutDigestsThatWereWrongComeOnceMore(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.piece, s.whole = 1000, true
	s.publish("1", shelfDay, map[string][]byte{"a.pak": noise("a", 2500)})
	s.spoilt = true
	w := ofShelf(t, s, nil)
	w.fails(1, "a.pak", "pin", "id:1", "--yes")
	s.mu.Lock()
	s.spoilt = false
	s.mu.Unlock()
	w.ok("pin", "id:1", "--yes")
	require.Equal(t, string(noise("a", 2500)), w.read("a.pak"))
}

// TestStrongDigestsCross: the same content comes once, whoever tells it by a strong digest, though other digests are told
// beside it.
func TestStrongDigestsCross(t *testing.T) {
	t.Parallel()
	content := map[string][]byte{"a.pak": noise("a", 250_000)}
	one, two := newShelf(t), newShelf(t)
	one.publish("1", shelfDay, content)
	two.publish("2", shelfDay.AddDate(0, 1, 0), content)
	two.alg = "md5"
	two.told.Manifests["m-2"].Files[0].Pieces = []adapter.Piece{{Size: 250_000, Digest: two.digestOf(content["a.pak"])}}
	w := ofShelf(t, one, nil)
	w.second(two, "two")
	w.ok("fetch", "id:1")
	w.ok("pin", "id:2", "--yes")
	require.Equal(t, string(content["a.pak"]), w.read("a.pak"))
	require.Empty(t, two.asked)
}

// TestDigestsThatContradictAreNamed: nothing has the sha256 of the whole and the others of the pieces.
func TestDigestsThatContradictAreNamed(t *testing.T) {
	t.Parallel()
	content := noise("a", 2500)
	s := newShelf(t)
	s.piece = 1000
	s.publish("1", shelfDay, map[string][]byte{"a.pak": content})
	s.told.Manifests["m-1"].Files[0].Digest = s.digestOf(noise("b", 2500))
	w := ofShelf(t, s, map[string][]byte{"a.pak": noise("b", 2500)})
	w.fails(1, "digests that contradict each other, so nothing can be what it tells: a.pak", "pin", "id:1", "--yes")
	require.Equal(t, string(noise("b", 2500)), w.read("a.pak"))

	s = newShelf(t)
	s.publish("1", shelfDay, map[string][]byte{"a.pak": content})
	s.told.Manifests["m-1"].Files[0].Pieces = []adapter.Piece{{Size: 2500, Digest: s.digestOf([]byte("other"))}}
	w = newWorld(t)
	w.ok("add", "quay", w.live)
	program, address := s.address(w.dir)
	require.Contains(t, w.ok("feed", "add", "--adapter", program, address).err, "a.pak has two digests that contradict each other")
	w.fails(1, "a.pak has two digests that contradict each other", "pin", "id:1", "--yes")
}

// TestHowFilesWereEstablishedIsSeen also drops what rests on a feed alone.
func TestHowFilesWereEstablishedIsSeen(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.publish("1", shelfDay, map[string][]byte{"a.pak": noise("a", 2500), "b.pak": noise("b", 2500), "c.pak": noise("c", 2500)})
	files := s.told.Manifests["m-1"].Files
	s.alg = "sha1"
	files[1].Digest = s.digestOf(noise("b", 2500))
	files[2].Digest = ""
	w := ofShelf(t, s, nil)
	counts := map[string]any{"signed": 0.0, "strong": 1.0, "weak": 1.0, "unchecked": 1.0, "recorded": 0.0}
	builds := w.json(0, "builds")["builds"].([]any)[0].(map[string]any)
	require.Equal(t, counts, builds["established"])
	r := w.command("builds")
	r.Env = append(r.Env, "COLUMNS=200")
	require.Contains(t, w.finish(r).out, "1 unchecked")
	w.ok("pin", "id:1", "--yes", "--unchecked")
	const words = "1 file by a strong digest, 1 file by a weak digest (MD5 or SHA-1), 1 file unchecked"
	require.Contains(t, w.ok("verify").out, words)
	require.Contains(t, w.ok("status", "--verbose").out, words)
	require.Equal(t, counts, w.json(0, "verify")["established"])
	require.Equal(t, counts, w.json(0, "status")["build"].(map[string]any)["established"])
	w.fails(4, "lane main is held at 2031-05-20", "feed", "distrust", "shelf", "--yes")

	w.ok("snapshot", "mine")
	w.ok("pin", "mine", "--yes")
	require.Contains(t, w.ok("verify").out, "3 files recorded here")
	require.Contains(t, w.ok("feed", "distrust", "shelf", "--dry-run").out, "2 files of 1 build")
	w.ok("feed", "distrust", "shelf", "--yes")
	counts["weak"], counts["unchecked"] = 0.0, 2.0
	for _, one := range w.json(0, "builds")["builds"].([]any) {
		if b := one.(map[string]any); b["id"] == "1" {
			require.Equal(t, counts, b["established"])
		}
	}
	w.fails(1, "the distributor gives no digest of it", "pin", "id:1", "--yes")
	s.mu.Lock()
	clear(s.asked)
	s.mu.Unlock()
	w.ok("pin", "id:1", "--yes", "--unchecked")
	require.Equal(t, 1, s.asked["/1.bundle"], "both come again")
}

// TestALabelThatIsTakenOverErasesNothing: the build that had it is known by its id.
func TestALabelThatIsTakenOverErasesNothing(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.publish("old", shelfDay, map[string][]byte{"a.pak": noise("a", 2500)})
	s.told.Builds[0].Label = "1.0"
	w := ofShelf(t, s, map[string][]byte{"a.pak": noise("a", 2500)})
	require.Contains(t, w.ok("identify").out, "is 1.0")
	s.publish("new", shelfDay.AddDate(0, 0, 2), map[string][]byte{"a.pak": noise("b", 2500)})
	s.told.Builds[0].Label = "1.0"
	s.told.Builds = s.told.Builds[:1]
	s.address(w.dir)
	for range 2 {
		w.ok("feed", "refresh")
		require.Contains(t, w.ok("identify").out, "is 2031-05-20")
		require.Len(t, w.json(0, "builds")["builds"], 2)
	}
	w.ok("pin", "id:old", "--yes")
	w.ok("pin", "1.0", "--yes")
	require.Equal(t, string(noise("b", 2500)), w.read("a.pak"))
}

// TestTwoComponentsThatGiveTheSamePathAreNamed: when they are listed, by a trial, and by a pin.
func TestTwoComponentsThatGiveTheSamePathAreNamed(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.publish("1", shelfDay, map[string][]byte{"data/a.pak": noise("a", 2500)})
	s.publish("2", shelfDay, map[string][]byte{"data/a.pak": noise("b", 2500)})
	other := s.told.Builds[0].Components[0]
	other.Name = "voices"
	s.told.Builds = s.told.Builds[1:]
	s.told.Builds[0].Components = append(s.told.Builds[0].Components, other)
	const words = "the components game and voices both give data/a.pak"
	w := newWorld(t)
	w.ok("add", "quay", w.live)
	program, address := s.address(w.dir)
	require.Contains(t, w.ok("feed", "add", "--adapter", program, address).err, words)
	w.fails(1, words, "pin", "id:1", "--yes")
	r := w.run("adapter", "try", program, address)
	require.Equal(t, 3, r.code)
	require.Contains(t, strings.Join(strings.Fields(r.out), " "), words)
}
