package cli_test

import (
	"bytes"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

func TestFoldersThatCannotBeAddedAreRefused(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("file.txt", "x")
	user := filepath.Join(w.dir, "user")
	require.NoError(t, os.MkdirAll(filepath.Join(user, "inside"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(w.home, "games"), 0o755))
	w.ok("games")
	require.NoError(t, os.MkdirAll(filepath.Join(w.home, "sub"), 0o755))
	for _, c := range []struct{ name, dir, words string }{
		{"quay", filepath.Join(w.dir, "nowhere"), "does not exist"},
		{"quay", w.path("file.txt"), "is not a folder"},
		{"quay", "/", "is the root of a file system"},
		{"quay", user, "is your home folder"},
		{"quay", w.dir, "is your home folder or holds it"},
		{"quay", w.home, "is inside Morvant's own folder"},
		{"quay", filepath.Join(w.home, "sub"), "is inside Morvant's own folder"},
		{"Quay!", w.live, "lower-case letters, digits and dashes"},
		{"", w.live, "lower-case letters, digits and dashes"},
		{"../x", w.live, "lower-case letters, digits and dashes"},
		{strings.Repeat("x", 65), w.live, "at most 64"},
	} {
		code := 1
		if strings.Contains(c.words, "letters") || strings.Contains(c.words, "at most") {
			code = 2 // it is a name that was typed
		}
		w.fails(code, c.words, "add", c.name, c.dir)
	}
	if onWindows {
		w.fails(1, "belongs to the system", "add", "quay", os.Getenv("SystemRoot"))
		w.fails(1, "belongs to the system", "add", "quay", os.Getenv("ProgramFiles"))
		w.fails(2, "leave that backslash out", "add", "quay", w.live+`" --keep Mods/**`)
	} else {
		w.fails(1, "belongs to the system", "add", "quay", "/usr")
		w.fails(1, "belongs to the system", "add", "quay", "/etc")
	}
	w.fails(2, "keeps this name for a device", "add", "con", w.live)
	require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "a game"), 0o755))
	w.fails(2, "A path with spaces needs quotes: \""+w.dir, "add", "quay", filepath.Join(w.dir, "a"), "game")
	w.fails(2, "A path with spaces needs quotes: \""+w.dir, "lane", "new", "x", "--to", filepath.Join(w.dir, "a"), "game")
	w.fails(2, "this pattern", "add", "quay", w.live, "--keep", "Mods/[")
	w.fails(2, "must be relative", "add", "quay", w.live, "--scratch", "/logs")
	require.NoDirExists(t, w.path(".morvant"))
	require.Contains(t, w.ok("games").out, "No game is registered")

	holder := filepath.Join(w.dir, "holder")
	cmd := w.command("--home", filepath.Join(holder, "deep", "home"), "add", "quay", holder)
	require.NoError(t, os.MkdirAll(holder, 0o755))
	r := w.finish(cmd)
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "holds Morvant's own folder")

	w.ok("add", "quay", w.live)
	if onWindows {
		w.fails(1, "lie within each other", "add", "other", `\\?\`+w.live)
	}
	require.NoError(t, os.Mkdir(w.path("inner"), 0o755))
	w.fails(1, "lie within each other", "add", "other", w.path("inner"))
	w.fails(1, "already there", "add", "quay", user+"/inside")
	if onWindows {
		return // symbolic links take rights here that players do not have
	}
	require.NoError(t, os.Symlink(w.live, filepath.Join(w.dir, "alias")))
	w.fails(1, "lie within each other", "add", "other", filepath.Join(w.dir, "alias"))
}

func TestWithoutRightsNothingIsChanged(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("needs root to become an ordinary user")
	}
	w := newWorld(t)
	ordinary := w.ordinary()
	require.NoError(t, os.Mkdir(w.home, 0o777))
	require.NoError(t, os.Chmod(w.home, 0o777))
	r := ordinary("add", "quay", w.live)
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "is protected: you may not write there. Move the game to a folder of your own")
	require.NoError(t, os.Chmod(w.live, 0o777))
	w.write("mine.txt", "1")
	w.write("locked.txt", "2")
	w.write("data/theirs/a.pak", "3")
	r = ordinary("add", "quay", w.live)
	require.Equal(t, 0, r.code)
	require.Contains(t, r.err, "you may not change files in data and 1 folder more")
	require.Contains(t, r.err, "you may not rename folders in "+filepath.Dir(w.live))
	require.NoError(t, os.Chmod(w.path("locked.txt"), 0))
	r = ordinary("snapshot", "1")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "read locked.txt: permission denied")
	require.NoError(t, os.Chmod(w.path("locked.txt"), 0o644))
	require.Equal(t, 0, ordinary("snapshot", "1").code)

	w.write("mine.txt", "changed")
	before := w.picture()
	require.NoError(t, os.Chmod(w.live, 0o755))
	r = ordinary("pin", "1", "--yes")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "is protected: you may not write there")
	require.Equal(t, before, w.picture())
	require.NoError(t, os.Chmod(w.live, 0o311))
	r = ordinary("status")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "permission denied")
	require.NoError(t, os.Chmod(w.live, 0o777))
}

func TestLabelsThatMeanSomethingElseAreRefused(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a", "1")
	w.fails(1, "there is no Morvant home at "+w.home, "status")
	require.NoDirExists(t, w.home, "a home that is named is not made by looking")
	require.NoError(t, os.MkdirAll(filepath.Join(w.home, "games"), 0o755))
	w.fails(1, "no game is registered yet. Register one", "status")
	w.ok("add", "quay", w.live)
	for _, label := range []string{"newest", "here", "before", "@2031-08-05", "=3fa9c1", "a/b", "a  b", "a ", ".hidden", strings.Repeat("x", 81)} {
		w.fails(2, "this name cannot be used", "snapshot", label)
	}
	w.fails(2, "the label is empty", "snapshot", "")
	w.ok("snapshot", "1.0")
	w.fails(1, "already there", "snapshot", "1.0")
	w.fails(2, "not recorded yet", "pin", "here", "--yes")
	w.fails(1, "not held at any build", "verify")
	w.fails(1, "there is nothing to undo", "undo", "--yes")
	w.fails(2, "is not the number of a change", "undo", "first")
	w.fails(1, `there is no game "quai"; the nearest: quay`, "-g", "quai", "status")
	w.fails(2, "is none of", "--color", "purple", "status")
	w.fails(1, `no file "nothing.txt"`, "diff", "1.0", "--text", "nothing.txt")
	w.write("a", "bin\x00ary")
	w.fails(2, "is not a text file", "diff", "1.0", "--text", "a")
}

func TestWhichGameIsMeantIsAskedWhenItMatters(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	other := filepath.Join(w.dir, "Other")
	require.NoError(t, os.Mkdir(other, 0o755))
	w.ok("add", "quay", w.live)
	w.ok("add", "other", other)
	cmd := w.command("status")
	cmd.Dir = w.dir
	r := w.finish(cmd)
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "Say which one with -g: other, quay")
	require.Contains(t, w.ok("status").out, "quay is not held", "the one around the working folder")
	require.Contains(t, w.ok("-g", "other", "status").out, "other is not held")
}

func TestSettingsThatCannotBeReadAreNamedByLine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a", "1")
	w.ok("add", "quay", w.live)
	file := filepath.Join(w.home, "games", "quay.toml")
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	for text, words := range map[string]string{
		"kepe = ['Mods/**']\n": `unknown key "kepe"`,
		"keep = ['Mods/[']\n":  "cannot be read",
		"keep = ['../x/**']\n": "must be relative",
		"keep = 'Mods/**\n":    "line 4",
		"program = '/bin/x'\n": "inside the live folder",
	} {
		require.NoError(t, os.WriteFile(file, append(bytes.Clone(good), text...), 0o644))
		w.fails(1, words, "status")
		w.fails(1, "quay.toml", "status")
	}
	require.NoError(t, os.WriteFile(file, []byte("live = 'relative'\n"), 0o644))
	require.Contains(t, w.ok("games").err, "live must be the full path")
	require.NoError(t, os.WriteFile(file, good, 0o644))
	require.NoError(t, os.Rename(w.live, w.live+" moved"))
	cmd := w.command("status")
	cmd.Dir = w.dir
	r := w.finish(cmd)
	require.Equal(t, 4, r.code)
	require.Contains(t, r.err, "morvant game set -g quay --live")
	cmd = w.command("game", "set", "--live", w.live+" moved")
	cmd.Dir = w.dir
	require.Equal(t, 0, w.finish(cmd).code)
}

func packs(t *testing.T, w *world) []string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(w.home, "store", "packs", "*.pack"))
	require.NoError(t, err)
	require.NotEmpty(t, list)
	return list
}

func TestALostIndexIsRebuiltFromThePacks(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	w.update("1.3.0")
	for _, harm := range []func(index string){
		func(index string) { require.NoError(t, os.Remove(index)) },
		func(index string) { require.NoError(t, os.WriteFile(index, bytes.Repeat([]byte("x"), 5000), 0o644)) },
	} {
		for _, suffix := range []string{"-wal", "-shm"} {
			os.Remove(filepath.Join(w.home, "store", "index.db"+suffix))
		}
		harm(filepath.Join(w.home, "store", "index.db"))
		require.Contains(t, w.ok("pin", "1.1.1", "--yes", "--dry-run").err, "The index of the store was lost or damaged; Morvant has rebuilt it")
		harm(filepath.Join(w.home, "store", "index.db"))
		require.Contains(t, w.ok("store", "check").out, "rebuilt from")
		w.ok("pin", "1.1.1", "--yes")
		w.ok("verify")
		w.ok("undo", "--yes")
	}
}

func (w *world) flip(file string, at int64) {
	w.t.Helper()
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	require.NoError(w.t, err)
	defer f.Close()
	b := make([]byte, 1)
	_, err = f.ReadAt(b, at)
	require.NoError(w.t, err)
	b[0] ^= 0x40
	_, err = f.WriteAt(b, at)
	require.NoError(w.t, err)
}

func TestDamageIsNamedByBuildAndFileAndMended(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	intact := w.picture()
	for _, file := range packs(t, w) {
		info, err := os.Stat(file)
		require.NoError(t, err)
		for at := int64(200); at < info.Size()*3/4; at += info.Size() / 5 {
			w.flip(file, at)
		}
	}
	r := w.ok("store", "check")
	require.Contains(t, r.out, "1.1.1 of cinder-quay")
	require.Contains(t, r.out, "Everything was mended")
	w.ok("store", "check")
	w.update("1.3.0")
	w.ok("pin", "1.1.1", "--clean", "--yes")
	require.Equal(t, intact, w.picture())

	// Now nothing has the content any more: the update is in the folder.
	w.update("1.3.0")
	for _, file := range packs(t, w) {
		info, err := os.Stat(file)
		require.NoError(t, err)
		w.flip(file, info.Size()/2)
	}
	check := w.json(3, "store", "check")
	require.Positive(t, check["unmended"])
	require.NotEmpty(t, check["losses"].([]any)[0].(map[string]any)["path"])
	before := w.picture()
	w.fails(1, "store check", "pin", "1.1.1", "--yes")
	require.Equal(t, before, w.picture())
}

func TestATruncatedPackIsFoundOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	require.NoError(t, os.Truncate(packs(t, w)[0], 100_000))
	r := w.ok("store", "check")
	require.Contains(t, r.out, "damaged chunk")
	require.Contains(t, r.out, "mended")
	w.ok("store", "check")
}

func TestAStoreByANewerVersionIsLeftAlone(t *testing.T) {
	t.Parallel()
	for _, file := range []string{"state.db", "store/index.db"} {
		w := newWorld(t)
		w.write("a", "1")
		w.ok("add", "quay", w.live)
		w.ok("snapshot", "1")
		db, err := sql.Open("sqlite", filepath.Join(w.home, filepath.FromSlash(file)))
		require.NoError(t, err)
		_, err = db.Exec("PRAGMA user_version = 99")
		require.NoError(t, err)
		require.NoError(t, db.Close())
		w.fails(1, "written by a newer Morvant. Use that newer version", "snapshot", "2")
	}
	w := newWorld(t)
	w.write("a", "1")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	f, err := os.OpenFile(packs(t, w)[0], os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{9}, 8)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, os.Remove(filepath.Join(w.home, "store", "index.db")))
	w.fails(1, "written by a newer Morvant", "store", "check")
}

func TestADamagedStateIsPutAsideAndTheSnapshotsFoundAgain(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1", "--note", "works")
	intact := w.picture()
	for _, suffix := range []string{"-wal", "-shm"} {
		os.Remove(filepath.Join(w.home, "state.db"+suffix))
	}
	require.NoError(t, os.WriteFile(filepath.Join(w.home, "state.db"), bytes.Repeat([]byte("junk"), 4000), 0o644))
	require.Contains(t, w.ok("status").err, "put together again from the copy of")
	require.Contains(t, w.ok("builds").out, "works")
	// Without a copy the packs tell which builds there were.
	require.NoError(t, os.RemoveAll(filepath.Join(w.home, "state-copies")))
	require.NoError(t, os.WriteFile(filepath.Join(w.home, "state.db"), bytes.Repeat([]byte("junk"), 4000), 0o644))
	require.Contains(t, w.ok("status").err, "there is no copy of it. Use morvant store check --recover-builds")
	w.fails(1, "Nothing was dropped; run morvant store check --recover-builds first", "store", "trim", "--yes")
	w.ok("store", "check", "--recover-builds")
	require.Contains(t, w.ok("builds").out, "works")
	w.ok("store", "trim", "--yes")
	w.update("1.3.0")
	w.ok("pin", "1.1.1", "--clean", "--yes")
	require.Equal(t, intact, w.picture())
}

func TestADamagedCacheCostsOnlyTime(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	for _, suffix := range []string{"-wal", "-shm"} {
		os.Remove(filepath.Join(w.home, "cache.db"+suffix))
	}
	require.NoError(t, os.WriteFile(filepath.Join(w.home, "cache.db"), []byte("junk junk junk junk"), 0o644))
	require.Contains(t, w.ok("status").out, "It is the same as 1.1.1")
}

// TestATildeIsTheHomeFolderEverywhere: no shell of Windows makes it one.
func TestATildeIsTheHomeFolderEverywhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "1")
	user := filepath.Join(w.dir, "user")
	require.NoError(t, os.MkdirAll(user, 0o755))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("export", "1", "~/1.zip")
	require.FileExists(t, filepath.Join(user, "1.zip"))
	w.ok("import", "~/1.zip", "again")
	w.ok("pin", "1", "--yes")
	w.ok("pinfile", "write", "~/quay.pin.toml")
	w.ok("compare-with", "~/quay.pin.toml")
	w.ok("lane", "new", "other", "--from", "1", "--to", "~/other", "--yes")
	require.FileExists(t, filepath.Join(user, "other", "a.txt"))
	w.ok("identify", `~/other`)
	w.ok("diff", "1", "--report", "~/r.html")
	require.FileExists(t, filepath.Join(user, "r.html"))
	w.ok("--home", "~/home", "add", "other", filepath.Join(user, "other"))
	require.DirExists(t, filepath.Join(user, "home"))
	require.NoDirExists(t, w.path("~"))
}

// TestABrokenGameDoesNotHideTheOthers: a word too much in one settings file.
func TestABrokenGameDoesNotHideTheOthers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	other := filepath.Join(w.dir, "Other")
	require.NoError(t, os.Mkdir(other, 0o755))
	w.ok("add", "quay", w.live)
	w.ok("add", "other", other)
	file := filepath.Join(w.home, "games", "quay.toml")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append([]byte("kep = ['Mods/**']\n"), b...), 0o644))
	r := w.ok("games")
	require.Regexp(t, `(?m)^other .*not held`, r.out)
	require.Regexp(t, `(?m)^quay +broken`, r.out)
	require.Contains(t, r.err, file)
	list := w.json(0, "games")["games"].([]any)
	require.Len(t, list, 2)
	require.Contains(t, list[1].(map[string]any)["broken"], "kep")
	w.ok("status", "-g", "other")
	w.fails(1, "lie within each other", "add", "third", w.live)
}
