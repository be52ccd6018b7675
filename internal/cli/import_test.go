package cli_test

import (
	"archive/zip"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// source writes files into a folder beside the game's; content that starts with / makes nothing.
func (w *world) source(name string, files map[string]string) string {
	w.t.Helper()
	dir := filepath.Join(w.dir, name)
	for p, content := range files {
		file := filepath.Join(dir, filepath.FromSlash(p))
		require.NoError(w.t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(w.t, os.WriteFile(file, []byte(content), 0o644))
	}
	return dir
}

// newPlayed is a game with one known build, at which files can be laid beside.
func newPlayed(t *testing.T) *world {
	t.Helper()
	w := newWorld(t)
	w.write("bin/quay.exe", "program of 1.2.0")
	w.write("data/cargo.pak", strings.Repeat("cargo of 1.2.0 ", 3000))
	w.write("data/voices.pak", strings.Repeat("voices of 1.2.0 ", 2000))
	w.write("readme.txt", "CINDER QUAY 1.2.0")
	w.age()
	w.ok("add", "quay", w.live, "--keep", "Mods/**")
	w.ok("snapshot", "1.2.0")
	return w
}

func older(parts ...string) map[string]string {
	all := map[string]map[string]string{
		"base":   {"bin/quay.exe": "program of 1.1.0", "data/cargo.pak": strings.Repeat("cargo of 1.1.0 ", 3000), "readme.txt": "CINDER QUAY 1.1.0"},
		"voices": {"data/voices.pak": strings.Repeat("voices of 1.1.0 ", 2000), "readme.txt": "with voices"},
	}
	files := make(map[string]string)
	for _, p := range parts {
		for name, content := range all[p] {
			files[name] = content
		}
	}
	return files
}

func TestImportOfFoldersInOrder(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	before := w.picture()
	base, voices := w.source("base", older("base")), w.source("voices", older("voices"))
	dry := w.ok("import", base, voices, "1.1.0", "--dry-run")
	require.Contains(t, dry.out, "nothing was recorded")
	require.NotContains(t, w.ok("builds").out, "1.1.0")
	r := w.ok("import", base, voices, "1.1.0", "--date", "2021-08-05", "--note", "from two folders")
	require.Contains(t, r.out, "1 file was in several sources; for 1 that differ, the later source counts: readme.txt")
	require.Contains(t, r.err, "the store grows by at most")
	require.NotContains(t, r.err, "resemble")
	require.Equal(t, before, w.picture(), "the folder is as it was")
	require.Contains(t, w.ok("builds", "--on", "2021-08-06").out, "1.1.0")
	w.ok("pin", "1.1.0", "--yes")
	require.Equal(t, "with voices", w.read("readme.txt"))
	require.Equal(t, "program of 1.1.0", w.read("bin/quay.exe"))
	w.ok("undo", "--yes")
	require.Equal(t, before, w.picture())

	j := w.json(0, "import", voices, base, "turned")
	require.EqualValues(t, 1, j["overlaps"])
	require.Equal(t, []any{"readme.txt"}, j["replaced"])
	w.ok("pin", "turned", "--yes")
	require.Equal(t, "CINDER QUAY 1.1.0", w.read("readme.txt"))

	// The last word is the label; what cannot be one is not taken for it in silence.
	w.fails(2, "the last word is the build's label", "import", base, voices)
	w.fails(1, "already there", "import", base, "1.1.0")
	w.fails(2, "is no date", "import", base, "x", "--date", "yesterday")
	w.fails(2, "is not NAME=SOURCE", "import", "x", "--component", "base")
	w.fails(1, "no such file", "import", filepath.Join(w.dir, "nowhere"), "x")
	spaced := w.source("two words", older("base"))
	first, second, _ := strings.Cut(spaced, " ")
	w.fails(2, "needs quotes", "import", first, second, "x")
	w.fails(1, "there are no files in it", "import", base, "x", "--exclude", "**")
}

func TestImportInComponents(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	base, voices := w.source("base", older("base")), w.source("voices", older("voices"))
	r := w.ok("import", "1.1.0", "--component", "base="+base, "--component", "voices="+voices)
	require.Contains(t, r.out, "Its components: base, voices.")
	require.Contains(t, r.out, "morvant pin imported/1.1.0")
	require.Contains(t, w.ok("builds").out, "base, voices")
	w.ok("pin", "1.1.0", "--yes")
	require.Equal(t, "with voices", w.read("readme.txt"))
	require.Contains(t, w.ok("identify").out, "1.1.0")
	require.Contains(t, w.ok("verify").out, "every byte of it")
	w.ok("pin", "1.1.0", "--component", "base", "--yes")
	require.NoFileExists(t, w.path("data/voices.pak"), "a component less")
	w.ok("store", "trim", "--yes")
	require.Contains(t, w.ok("store", "check").out, "read")
	w.ok("pin", "1.1.0", "--component", "voices", "--component", "base", "--yes")
	require.Equal(t, "with voices", w.read("readme.txt"))
	require.FileExists(t, w.path("data/voices.pak"))
	out := filepath.Join(w.dir, "only")
	w.ok("export", "1.1.0", out, "--component", "voices", "--only")
	require.FileExists(t, filepath.Join(out, "data", "voices.pak"))
	require.NoFileExists(t, filepath.Join(out, "bin", "quay.exe"))
	w.fails(1, "no such component", "pin", "1.1.0", "--component", "music", "--yes")
	w.fails(1, "already there", "import", base, "1.1.0")
	w.ok("unpin", "--yes")
	w.ok("builds", "forget", "1.1.0", "--yes")
	require.NotContains(t, w.ok("builds").out, "1.1.0")
}

// TestImportLeavesOutWhatIsNoGame: a folder on top, the download program's own folder.
func TestImportLeavesOutWhatIsNoGame(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	files := map[string]string{".lading/state.bin": "state", "notes.txt": "mine"}
	for p, content := range older("base", "voices") {
		files["Cinder Quay/"+p] = content
	}
	files["Cinder Quay/.lading/parts.bin"] = "parts"
	download := w.source("download", files)
	w.fails(4, `--inside "Cinder Quay"`, "import", download, "1.1.0")
	w.fails(4, `--exclude ".lading/**"`, "import", download, "1.1.0", "--inside", "Cinder Quay")
	require.NotContains(t, w.ok("builds").out, "1.1.0")
	r := w.ok("import", download, "1.1.0", "--yes")
	require.Contains(t, r.err, "its folder Cinder Quay does")
	require.Contains(t, r.err, "no known build of quay has such a hidden folder")
	require.Contains(t, r.out, "1 file was left out")
	w.ok("import", download, "with-lading", "--inside", "Cinder Quay", "--exclude", "none")
	require.Contains(t, w.run("diff", "1.1.0", "with-lading").out, ".lading/parts.bin")
	w.ok("builds", "forget", "with-lading", "--yes")
	w.ok("import", download, "without", "--inside", "Cinder Quay", "--exclude", ".lading/**")
	require.Contains(t, w.ok("diff", "1.1.0", "without").out, "are the same")

	// A pin takes the folder itself, in one question; a no leaves nothing.
	before := w.picture()
	plan := w.ok("pin", download, "--dry-run") // a dry run leaves out what a yes would
	require.Contains(t, plan.err, "has the same content as snapshot/without")
	other := w.source("other", older("base"))
	w.fails(4, "", "pin", other)
	w.ok("pin", other, "--dry-run")
	require.NotContains(t, w.ok("builds").out, "other-")
	require.Equal(t, before, w.picture())
	require.Contains(t, w.ok("pin", other, "--yes").err, "Something may be missing: data/voices.pak")
	require.Contains(t, w.ok("status").out, "other-")
	require.Equal(t, "program of 1.1.0", w.read("bin/quay.exe"))
	w.ok("lane", "new", "spare", "--from", download, "--yes")
	require.Contains(t, w.ok("lane", "list").out, "spare")

	// What is no game at all is said.
	mods := w.source("mods", map[string]string{"Brighter Lamps/lamps.dat": "bright"})
	require.Contains(t, w.ok("import", mods, "mods").err, "does not resemble")
	require.Contains(t, w.ok("lane", "new", "odd", "--adopt", w.source("water", map[string]string{"Clear Water/water.dat": "clear"}), "--yes").err, "does not resemble")
}

func TestImportByMoving(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	want := older("base", "voices")
	download := w.source("download", want)
	w.fails(4, "needs a yes", "import", download, "1.1.0", "--move")
	require.FileExists(t, filepath.Join(download, "readme.txt"))
	r := w.ok("import", download, "1.1.0", "--move", "--yes")
	require.Contains(t, r.out, "were moved into the store")
	left, err := os.ReadDir(download)
	require.NoError(t, err)
	require.Empty(t, left)
	w.ok("pin", "1.1.0", "--yes")
	for p, content := range want {
		require.Equal(t, content, w.read(p))
	}
	w.fails(1, "cannot be moved", "import", w.live, "x", "--move", "--yes")
}

// TestImportsThatCannotBeRead: one clear line each, and nothing half recorded.
func TestImportsThatCannotBeRead(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	archives := filepath.Join("..", "exchange", "testdata")
	at := func(name string) string {
		p, err := filepath.Abs(filepath.Join(archives, name))
		require.NoError(t, err)
		return p
	}
	w.fails(1, "protected by a password", "import", at("locked.7z"), "x")
	w.fails(1, "protected by a password", "import", at("sealed.7z"), "x")
	w.fails(1, "protected by a password", "import", at("locked.zip"), "x")
	w.fails(1, "one part of an archive in several parts", "import", at("parts.7z.002"), "x")
	b, err := os.ReadFile(at("quay.7z"))
	require.NoError(t, err)
	short := filepath.Join(w.dir, "short.7z")
	require.NoError(t, os.WriteFile(short, b[:len(b)/2], 0o644))
	w.fails(1, "incomplete or damaged", "import", short, "x")
	require.NoError(t, os.WriteFile(short, []byte("no archive at all"), 0o644))
	w.fails(1, "no format that Morvant can read", "import", short, "x")
	require.NotContains(t, w.ok("builds").out, "x ")
	require.Contains(t, w.ok("import", at("parts.7z.001"), "parts", "--yes").out, "3 files")
	require.Contains(t, w.ok("import", at("quay.tar.bz2"), "tar", "--yes").out, "3 files")
	require.Contains(t, w.ok("diff", "parts", "tar").out, "are the same")
}

// TestAnImportOfZerosIsRecordedInDoubt, from a folder and from an archive; the same path empty counts as well.
func TestAnImportOfZerosIsRecordedInDoubt(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	files := older("base")
	files["data/cargo.pak"] = strings.Repeat("\x00", 300_000)
	files["data/voices.pak"] = ""
	src := w.source("cut off", files)
	const why = "data/cargo.pak and 1 more hold nothing, and were not in 1.2.0"
	require.Contains(t, w.ok("import", src, "folder", "--dry-run", "--yes").err, why)
	require.Contains(t, w.ok("import", src, "folder", "--yes").err, why)
	require.Contains(t, w.ok("builds", "--find", "folder").out, "possibly incomplete")
	archive := filepath.Join(w.dir, "cut off.zip")
	f, err := os.Create(archive)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	require.NoError(t, z.AddFS(os.DirFS(src)))
	require.NoError(t, errors.Join(z.Close(), f.Close()))
	require.Contains(t, w.ok("import", archive, "archive", "--yes").err, why)
	w.ok("import", w.source("whole", older("base", "voices")), "1.1.0", "--yes")
	require.NotContains(t, w.ok("builds", "--find", "1.1.0").out, "possibly")
	w.ok("import", src, "moved", "--move", "--yes")
	require.Contains(t, w.ok("builds", "--find", "moved").out, "possibly incomplete")
}
