package cli_test

import (
	"archive/tar"
	"database/sql"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

// versionOne unpacks what scripts/testdata wrote with the first version, and moves it to a
// folder of this test.
func versionOne(t *testing.T) *world { return versionOf(t, "v1") }

func versionOf(t *testing.T, version string) *world {
	t.Helper()
	if onWindows {
		t.Skip("the old home is of another system")
	}
	const was = "/tmp/morvant-testdata"
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	f, err := os.Open(filepath.Join("..", "..", "testdata", version, "whole.tar.zst"))
	require.NoError(t, err)
	defer f.Close()
	z, err := zstd.NewReader(f)
	require.NoError(t, err)
	defer z.Close()
	times := make(map[string]*tar.Header)
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		name := filepath.Join(dir, h.Name)
		switch h.Typeflag {
		case tar.TypeDir:
			require.NoError(t, os.MkdirAll(name, 0o755))
		case tar.TypeSymlink:
			require.NoError(t, os.Symlink(h.Linkname, name))
			continue
		default:
			b, err := io.ReadAll(r)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(name, []byte(moved(name, string(b), was, dir)), fs.FileMode(h.Mode)))
			require.NoError(t, os.Chmod(name, fs.FileMode(h.Mode)))
		}
		times[name] = h
	}
	db, err := sql.Open("sqlite", filepath.Join(dir, "home", "state.db"))
	require.NoError(t, err)
	for table, column := range map[string]string{"lane": "body", "saves": "parts", "begun": "body"} {
		_, err := db.Exec("UPDATE "+table+" SET "+column+" = replace("+column+", ?, ?)", was, dir)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	for name, h := range times {
		if !strings.Contains(name, ".db") { // these are in use
			require.NoError(t, os.Chtimes(name, h.ModTime, h.ModTime))
		}
	}
	return &world{t: t, dir: dir, home: filepath.Join(dir, "home"), live: filepath.Join(dir, "Quay")}
}

// moved gives texts their new place.
func moved(name, text, was, dir string) string {
	if strings.HasSuffix(name, ".toml") || strings.HasSuffix(name, "subscription.json") {
		return strings.ReplaceAll(text, was, dir)
	}
	return text
}

// TestAHomeOfVersionOneGoesOn: it was left in the middle of a pin. Everything that a player
// does goes on from there.
func TestAHomeOfVersionOneGoesOn(t *testing.T) {
	t.Parallel()
	w := versionOne(t)
	said := w.run("status")
	require.Equal(t, 0, said.code, said.out+said.err)
	require.Contains(t, said.out+said.err, "2.0")
	require.Equal(t, "Cinder Quay 2.0\n", w.read("version.txt"), "the pin has been ended")
	require.NoFileExists(t, w.path("notes.txt"))
	require.FileExists(t, w.path("Mods/mine.txt"))
	history := w.json(0, "history")["changes"].([]any)
	require.Len(t, history, 2)
	builds := w.json(0, "builds")["builds"].([]any)
	require.Len(t, builds, 4, "two snapshots and what the feed offers")
	w.ok("verify")
	w.ok("store", "check")

	w.ok("undo", "--yes")
	require.Equal(t, "Cinder Quay 1.0\n", w.read("version.txt"))
	require.Equal(t, "by the pin\n", w.read("notes.txt"))
	require.Equal(t, "display = full\n", w.read("settings.ini"))
	w.ok("verify")
	w.ok("-g", "quay", "lane", "switch", "old")
	require.Equal(t, "Cinder Quay 2.0\n", w.read("version.txt"))
	w.ok("-g", "quay", "lane", "switch", "main")

	w.write("data/harbour.txt", "another one")
	w.ok("snapshot", "3.0")
	w.ok("pin", "snapshot/2.0", "--yes")
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "saves", "slot1"), []byte("later"), 0o644))
	w.ok("saves", "restore", "1", "--yes")
	b, err := os.ReadFile(filepath.Join(w.dir, "saves", "slot1"))
	require.NoError(t, err)
	require.Equal(t, "saved\n", string(b))
	w.ok("feed", "refresh")
	w.ok("fetch", "public/1.0")
	w.ok("pinfile", "apply", filepath.Join(w.dir, "race.pin.toml"), "--yes")
	require.Equal(t, "display = full\n", w.read("settings.ini"))
	w.ok("publish", filepath.Join(w.dir, "feed"), "snapshot/3.0", "--component", "base")
	w.ok("store", "trim", "--yes")
	w.ok("verify")
}

// TestAHomeFromBeforeLayersGoesOn: a pin that notes with each set of mods what it lies over, and does not know the folder from before it.
func TestAHomeFromBeforeLayersGoesOn(t *testing.T) {
	t.Parallel()
	w := versionOf(t, "v2")
	require.Contains(t, w.ok("status").out, "Every file is as it should be")
	laid := w.picture()
	w.ok("mods", "lift", "trees", "--yes")
	require.Equal(t, "mine", w.read("Mods/mine.txt"))
	require.Equal(t, "data/a.pak of 1.0", w.read("data/a.pak"))
	require.NoFileExists(t, w.path("Mods/trees.txt"))
	w.ok("undo", "--yes")
	require.Equal(t, len(laid), len(w.picture()))
	require.Equal(t, "of trees", w.read("Mods/mine.txt"))
	w.ok("pin", "1.0", "--plain", "--yes")
	require.Equal(t, "name = me\nfov = 70\n", w.read("user.ini"))
	require.NoFileExists(t, w.path("note.txt"))
	require.Equal(t, "mine", w.read("Mods/mine.txt"))
	require.Equal(t, "data/b.pak of 1.0", w.read("data/b.pak"))
	w.ok("undo", "--yes")
	w.ok("store", "check")
	w.ok("store", "trim", "--yes")
	w.ok("unpin", "--yes")
	for _, f := range []string{"version.txt", "data/a.pak", "data/b.pak", "data/c.pak"} {
		require.Equal(t, f+" of 1.1", w.read(f))
	}
	require.Equal(t, "mine", w.read("Mods/mine.txt"))
	require.Equal(t, "name = me\nfov = 70\n", w.read("user.ini"))
}

// TestThePageOfFormatsHasEveryColumnAndDocument: what another program may read.
func TestThePageOfFormatsHasEveryColumnAndDocument(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "formats.md"))
	require.NoError(t, err)
	s := newShelf(t)
	s.publish("1", shelfDay, map[string][]byte{"a": []byte("a file")})
	w := ofShelf(t, s, map[string][]byte{"a": []byte("a file")})
	w.ok("pin", "id:1", "--yes")
	_, described, ok := strings.Cut(string(page), "\n## Databases\n")
	require.True(t, ok)
	described, _, _ = strings.Cut(described, "\n## Output for programs\n")
	described += string(page)
	for _, file := range []string{"state.db", "cache.db", "aliases.db", "store/index.db"} {
		db, err := sql.Open("sqlite", filepath.Join(w.home, file))
		require.NoError(t, err)
		rows, err := db.Query(`SELECT m.name, c.name FROM sqlite_master m, pragma_table_info(m.name) c WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite_%'`)
		require.NoError(t, err)
		n := 0
		for rows.Next() {
			var table, column string
			require.NoError(t, rows.Scan(&table, &column))
			require.Regexp(t, "`"+table+"[`(]", described, "%s: table %s", file, table)
			require.Regexp(t, "[`(, ]"+column+"[`,) ]", described, "%s: %s.%s", file, table, column)
			n++
		}
		require.NoError(t, rows.Err())
		require.Positive(t, n, file)
		require.NoError(t, db.Close())
	}
	known, err := schemas()
	require.NoError(t, err)
	for name := range known {
		require.Contains(t, string(page), "`"+name+"`", "the table of documents")
	}
}
