package cli_test

import (
	"bytes"
	"database/sql"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// inDatabase runs a statement on one of the home's databases.
func (w *world) inDatabase(file, statement string, args ...any) {
	w.t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(w.home, file))
	require.NoError(w.t, err)
	_, err = db.Exec(statement, args...)
	require.NoError(w.t, err)
	require.NoError(w.t, db.Close())
}

func TestOneFlippedBitOfTheIndexCostsNoContent(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	intact := w.picture()
	for _, statement := range []string{
		`UPDATE record SET digest = x'` + strings.Repeat("ab", 32) + `' WHERE rowid IS NULL OR digest = (SELECT min(digest) FROM record)`,
		`UPDATE record SET digest = x'` + strings.Repeat("ab", 32) + `' WHERE digest = (SELECT max(digest) FROM record WHERE kind = 2)`,
		`UPDATE record SET offset = offset + 1 WHERE digest = (SELECT min(digest) FROM record)`,
		`UPDATE layout SET file = x'` + strings.Repeat("cd", 32) + `' WHERE file = (SELECT min(file) FROM layout)`,
		`DELETE FROM layout`,
		`DELETE FROM record WHERE kind = 1`,
	} {
		w.inDatabase("store/index.db", strings.ReplaceAll(statement, "rowid IS NULL OR ", ""))
		r := w.run("store", "trim", "--yes")
		if r.code != 0 {
			require.Contains(t, r.err, "Nothing was dropped; run morvant store check", statement)
		}
		r = w.ok("store", "check")
		require.Contains(t, r.out, "whole", "%s: %s", statement, r.out)
		w.ok("store", "trim", "--yes")
		require.NoError(t, os.RemoveAll(w.path("data")))
		w.ok("pin", "1.1.1", "--yes")
		require.Equal(t, len(intact), len(w.picture()), statement)
		w.ok("verify")
	}
}

func TestALostStateComesBackWithEverything(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("pin", "1.1.1", "--yes")
	w.ok("lane", "new", "old", "--from", "1.1.1", "--yes")
	w.write("readme.txt", "changed by hand")
	w.ok("verify", "--repair", "--yes")
	saves := filepath.Join(w.dir, "Saves")
	require.NoError(t, os.Mkdir(saves, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(saves, "1.sav"), []byte("a save"), 0o644))
	w.ok("game", "set", "--saves", saves)
	w.ok("saves", "backup")
	seen := func() string {
		out := ""
		for _, c := range [][]string{{"history"}, {"lane", "list"}, {"saves", "list"}, {"builds"}, {"block", "--show"}} {
			r := w.ok(c...)
			out += r.out
		}
		return out
	}
	before := seen()
	for _, harm := range []func(file string) error{
		os.Remove,
		func(file string) error { return os.Truncate(file, 0) },
		func(file string) error { return os.WriteFile(file, bytes.Repeat([]byte("x"), 30_000), 0o644) },
	} {
		for _, suffix := range []string{"-wal", "-shm"} {
			os.Remove(filepath.Join(w.home, "state.db"+suffix))
		}
		require.NoError(t, harm(filepath.Join(w.home, "state.db")))
		require.Contains(t, w.run("status").err, "The state of this home was")
		require.Equal(t, before, seen())
		w.ok("store", "trim", "--yes")
		w.ok("store", "check")
	}
	copies, err := filepath.Glob(filepath.Join(w.home, "state-copies", "*.db"))
	require.NoError(t, err)
	require.Len(t, copies, 1)
	// Only the last days are kept.
	for _, day := range []string{"2026-01-01", "2026-01-02", "2026-01-03", "2026-01-04"} {
		copied, err := os.ReadFile(copies[0])
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(w.home, "state-copies", day+".db"), copied, 0o644))
	}
	w.ok("snapshot", "another")
	copies, err = filepath.Glob(filepath.Join(w.home, "state-copies", "*.db"))
	require.NoError(t, err)
	require.Len(t, copies, 3)
}

// TestAnEntryOfTheStateThatCannotBeReadIsPutRight flips bytes that no structure of the
// database file covers.
func TestAnEntryOfTheStateThatCannotBeReadIsPutRight(t *testing.T) {
	t.Parallel()
	for _, statement := range some([]string{
		`UPDATE change SET totals = '{"repl' WHERE id = 1`,
		`UPDATE change SET steps = x'00' WHERE id = 1`,
		`UPDATE build SET manifest = x'0102' WHERE label = '1.1.1'`,
		`UPDATE build SET components = 'nul' WHERE label = '1.1.1'`,
		`UPDATE lane SET body = '{' WHERE name = 'main'`,
		`UPDATE lane SET pin = '' WHERE name = 'main'`,
	}) {
		w := newWorld(t)
		w.install("1.1.1")
		w.ok("snapshot", "1.1.1")
		w.ok("pin", "1.1.1")
		w.update("1.3.0")
		w.ok("pin", "1.1.1", "--yes")
		history := w.ok("history").out
		w.inDatabase("state.db", statement)
		r := w.run("undo", "--dry-run")
		if r.code == 0 {
			r = w.run("builds")
		}
		require.Equal(t, 1, r.code, statement)
		require.Contains(t, r.err, "morvant store check --recover-builds", statement)
		require.Contains(t, w.ok("store", "check", "--recover-builds").err, "put together again", statement)
		require.Equal(t, history, w.ok("history").out, statement)
		w.ok("undo", "--yes")
		w.ok("pin", "1.1.1", "--yes")
	}
}

func TestWithoutRightsToTheStoreNothingIsCalledDamaged(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ordinary := w.ordinary()
	w.install("1.1.1")
	w.ok("snapshot", "1.1.1")
	w.ok("pin", "1.1.1")
	require.NoError(t, exec.Command("chown", "-R", "65534:65534", w.dir).Run())
	list := packs(t, w)
	for _, p := range list {
		require.NoError(t, os.Chown(p, 0, 0))
		require.NoError(t, os.Chmod(p, 0o600))
	}
	r := ordinary("store", "check")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "permission denied")
	require.Contains(t, r.err, "which is no damage")
	require.NotContains(t, r.out, "damaged")
	r = ordinary("store", "trim", "--yes")
	require.Equal(t, 1, r.code, r.out)
	for _, p := range list {
		require.FileExists(t, p)
		require.NoError(t, os.Chmod(p, 0o644))
	}
	r = ordinary("store", "check")
	require.Equal(t, 0, r.code, r.err)
	require.Contains(t, r.out, "Everything in the store is whole.")
	// What an earlier check has dropped is taken in again.
	w.inDatabase("store/index.db", `DELETE FROM record WHERE kind = 1`)
	require.NoError(t, exec.Command("chown", "-R", "65534:65534", w.dir).Run())
	r = ordinary("store", "check")
	require.Equal(t, 0, r.code, r.err)
	require.Contains(t, r.out, "are taken in again")
	require.Equal(t, 0, ordinary("pin", "1.1.1", "--yes").code)
}

func TestAnAdministratorLeavesThePlayersFilesToThePlayer(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	ordinary := w.ordinary()
	w.ok(w.setting()...)
	w.ok("block", "add", "staging-folder", "path="+w.state+".staging")
	require.NoError(t, exec.Command("chown", "-R", "65534:65534", w.dir).Run())
	require.NoError(t, exec.Command("chown", "65533:65533", w.state).Run())
	require.NoError(t, os.RemoveAll(w.path("data")))
	w.write("readme.txt", "changed by root")
	require.NoError(t, os.Chown(w.path("readme.txt"), 65534, 65534))
	for _, args := range [][]string{{"pin", "1.1.1", "--yes"}, {"snapshot", "again"}, {"store", "check"}} {
		cmd := w.command(args...)
		cmd.Env = append(cmd.Env, "SUDO_UID=65534") // as root, which the player has become
		r := w.finish(cmd)
		require.Equal(t, 0, r.code, "%v: %s", args, r.err)
	}
	require.NoError(t, filepath.WalkDir(w.dir, func(p string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		uid := "65534"
		if p == w.state {
			uid = "65533"
		}
		if strings.HasPrefix(p, filepath.Join(w.dir, "user")) {
			return nil // root's own
		}
		out, err := exec.Command("stat", "-c", "%u", p).Output()
		require.NoError(t, err)
		require.Equal(t, uid, strings.TrimSpace(string(out)), p)
		return nil
	}))
	require.Equal(t, 0, ordinary("undo", "--yes").code)
}

func TestADamagedCopyOfAFeedIsLeftOut(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	w.ok("pin", "public/1.1.1", "--yes")
	feeds := filepath.Join(w.home, "feeds", "quay")
	list, err := os.ReadDir(feeds)
	require.NoError(t, err)
	require.Len(t, list, 1)
	copyDir := filepath.Join(feeds, list[0].Name())
	var files []string
	require.NoError(t, filepath.WalkDir(copyDir, func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && filepath.Base(p) != ".lock" && filepath.Base(p) != "subscription.json" {
			files = append(files, p)
		}
		return err
	}))
	kept := filepath.Join(w.dir, "kept")
	require.NoError(t, os.CopyFS(kept, os.DirFS(copyDir)))
	require.Greater(t, len(files), 4)
	for i, file := range files {
		if stride(1) > 1 && i%5 != 0 {
			continue // with -tags long all
		}
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		for name, harm := range map[string]func() error{
			"emptied": func() error { return os.Truncate(file, 0) },
			"flipped": func() error {
				b := bytes.Clone(content)
				b[len(b)/2] ^= 0x20
				return os.WriteFile(file, b, 0o644)
			},
			"cut": func() error { return os.Truncate(file, int64(len(content)/2)) },
		} {
			if stride(1) > 1 && name == "cut" {
				continue
			}
			where := fmt.Sprintf("%s %s", file, name)
			require.NoError(t, harm())
			for _, c := range [][]string{{"status"}, {"builds"}, {"pin", "1.1.1", "--dry-run"}, {"feed", "list"}} {
				w.ok(c...)
			}
			w.ok("feed", "refresh")
			r := w.ok("builds", "--find", "1.3.0")
			require.Contains(t, r.out, "1.3.0", where)
			require.NotContains(t, r.err, "left out", where)
			require.NoError(t, os.RemoveAll(copyDir))
			require.NoError(t, os.CopyFS(copyDir, os.DirFS(kept)))
		}
	}
	for _, both := range []string{"subscription.json", "subscription.copy.json"} {
		require.NoError(t, os.WriteFile(filepath.Join(copyDir, both), []byte("{"), 0o644))
	}
	require.Contains(t, w.ok("status").err, "its subscription cannot be read")
	w.ok("feed", "remove", list[0].Name(), "--yes")
	w.ok("feed", "add", w.feed)
	w.ok("status")
}

// TestEachFileOfTheHomeHarmed deletes, empties, cuts and flips each file of a home, one
// at a time, and expects everything recoverable to be recovered: the table in docs/design.md.
func TestEachFileOfTheHomeHarmed(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("feed", "add", w.feed)
	w.ok("pin", "1.1.1", "--yes")
	w.ok("lane", "new", "old", "--from", "1.1.1", "--yes")
	intact := w.picture()
	kept := filepath.Join(w.dir, "kept")
	require.NoError(t, os.CopyFS(kept, os.DirFS(w.home)))
	var files []string
	require.NoError(t, filepath.WalkDir(w.home, func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			rel, _ := filepath.Rel(w.home, p)
			files = append(files, filepath.ToSlash(rel))
		}
		return err
	}))
	manifests := 0
	for _, rel := range files {
		if strings.Contains(rel, "manifests") {
			if manifests++; manifests > 2 {
				continue // they are all alike
			}
		}
		file := filepath.Join(w.home, rel)
		size := int64(0)
		if info, err := os.Stat(file); err == nil {
			size = info.Size()
		}
		for i, harm := range []string{"deleted", "emptied", "cut", "flipped"} {
			if stride(1) > 1 && (i+len(rel))%8 != 0 {
				continue // one of them; with -tags long all
			}
			where := rel + " " + harm
			require.NoError(t, os.RemoveAll(w.home))
			require.NoError(t, os.CopyFS(w.home, os.DirFS(kept)))
			switch harm {
			case "deleted":
				require.NoError(t, os.Remove(file))
			case "emptied":
				require.NoError(t, os.Truncate(file, 0))
			case "cut":
				require.NoError(t, os.Truncate(file, size/2))
			case "flipped":
				if size == 0 {
					continue
				}
				w.flip(file, size/2)
			}
			first := w.run("-g", "quay", "status")
			require.NotContains(t, first.err, "goroutine", where)
			require.NotContains(t, first.err, "panic", where)
			said := strings.TrimSpace(strings.ReplaceAll(first.err, w.dir, ""))
			if !strings.HasPrefix(rel, "games/") { // what the player wrote is the player's to write again
				if pack := strings.HasSuffix(rel, ".pack"); !pack || first.code != 1 {
					require.Contains(t, []int{0, 3}, first.code, "%s: %s", where, first.err)
				} else {
					require.Contains(t, first.err, "store check", where)
				}
				r := w.run("-g", "quay", "store", "check", "--recover-builds")
				require.Contains(t, []int{0, 3}, r.code, "%s: %s%s", where, r.out, r.err)
				said += " | " + strings.TrimSpace(r.out)
				r = w.run("-g", "quay", "pin", "1.1.1", "--yes")
				require.Equal(t, 0, r.code, "%s: %s%s", where, r.out, r.err)
				require.Equal(t, len(intact), len(w.picture()), where)
				require.Len(t, w.lanes(), 2, where)
				w.ok("-g", "quay", "history")
			}
			t.Logf("%s: %s", where, said)
		}
	}
}

func TestAStackTraceNeverReachesAPlayer(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("it has no limit of this kind")
	}
	w := newWorld(t)
	w.write("a.txt", "one")
	w.ok("add", "quay", w.live)
	for n := 7; n < 60; n += 3 { // with fewer than that the system starts no program of this kind
		cmd := exec.Command("sh", "-c", fmt.Sprintf("ulimit -n %d; exec %q snapshot", n, program))
		cmd.Env, cmd.Dir = w.command().Env, w.live
		r := w.finish(cmd)
		require.NotContains(t, r.err, "goroutine", "%d: %s", n, r.err)
		require.LessOrEqual(t, strings.Count(r.err, "\n"), 2, "%d: %s", n, r.err)
		if r.code == 0 {
			break
		}
	}
	require.NotEmpty(t, w.json(0, "builds")["builds"])
}
