package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestACommaIsPartOfAValue: of every option that may be repeated.
func TestACommaIsPartOfAValue(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("Maps/a.map", "mine")
	w.write("Trees/b.tree", "mine")
	w.write("game.ini", "w = 640\nh = 480\n")
	w.write("server/s.dat", "1")
	w.write("Source/c.txt", "2")
	saves := filepath.Join(w.dir, "Saves, mine")
	require.NoError(t, os.MkdirAll(saves, 0o755))
	w.ok("add", "quay", w.live, "--keep", "{Maps,Trees}/**", "--saves", saves)
	settings, err := os.ReadFile(filepath.Join(w.home, "games", "quay.toml"))
	require.NoError(t, err)
	require.Contains(t, string(settings), `keep = ['{Maps,Trees}/**']`)
	require.Contains(t, string(settings), "Saves, mine")
	w.ok("snapshot", "1")
	w.ok("game", "set", "--after-pin", "echo a, b")
	r := w.ok("pin", "1", "--yes", "--companion", `o.json={"a":1,"b":2}`, "--edit", `game.ini:^w = (\d{1,5})=1280`)
	require.Contains(t, r.out+r.err, "a, b")
	require.Equal(t, `{"a":1,"b":2}`, w.read("o.json"))
	require.Equal(t, "w = 1280\nh = 480\n", w.read("game.ini"))
	w.ok("unpin", "--stay")
	w.ok("snapshot", "2")
	feed := filepath.Join(w.dir, "feed")
	r = w.ok("publish", feed, "2", "--dry-run", "--component", "server=server/**", "--component", "server=Source/**", "--component", "base")
	require.Contains(t, r.out+r.err, "server")
	require.Regexp(t, `server +2 files`, r.out)
}

func TestStatusKnowsABuildOfAFeedThatIsNotHeld(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("builds", "forget", "1.1.1", "--yes")
	require.Contains(t, w.ok("status").out, "is not held at any build")
	w.ok("feed", "add", w.feed)
	require.Contains(t, w.ok("status").out, "It is the same as 1.1.1")
}

func TestNothingOfTheGameItselfIsHeldAsAStagingPath(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("data/cargo.pak", "of the game")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("block", "add", "staging-folder", "path=data")
	r := w.run("pin", "1", "--yes")
	require.Equal(t, 3, r.code, "nothing keeps updates away")
	require.Contains(t, r.err, `"data" holds files of the game itself, such as data/cargo.pak`)
	require.FileExists(t, w.path("data/cargo.pak"))
	w.fails(1, "holds files of the game itself", "block")
}

// TestAPartOfAFolderIsNotTheWhole: neither a build that the folder's own has grown out of, nor what an
// overlay has recorded of a single file.
func TestAPartOfAFolderIsNotTheWhole(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "1")
	w.write("b.txt", "2")
	w.ok("add", "quay", w.live, "--keep", "Mods/**")
	w.ok("snapshot", "grown")
	require.NoError(t, os.Remove(w.path("b.txt")))
	w.ok("snapshot", "small") // recorded later
	w.write("b.txt", "2")
	w.write("Mods/mine.txt", "so that it is no snapshot to the byte")
	require.Contains(t, w.ok("status").out, "It is the same as grown.")

	w = newWorld(t)
	for _, p := range []string{"a.txt", "b.txt", "c.txt"} {
		w.write(p, p)
	}
	w.ok("add", "quay", w.live, "--keep", "Mods/**")
	w.ok("snapshot", "1")
	other := filepath.Join(w.dir, "other")
	require.NoError(t, os.Mkdir(other, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(other, "a.txt"), []byte("another"), 0o644))
	w.ok("pin", "1", "--overlay", other+":a.txt", "--yes")
	w.ok("unpin", "--stay")
	w.write("b.txt", "changed as well")
	require.Contains(t, w.ok("status").out, "is like none that is known", "the overlay's single file is no build of it")
}
