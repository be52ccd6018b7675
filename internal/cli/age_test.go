package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// backedUp copies what a backup program would of the home's state.
func (w *world) backedUp() (back func()) {
	w.t.Helper()
	kept := w.t.TempDir()
	var files []string
	for _, name := range []string{"state.db", "state.db-wal", "state.db-shm"} {
		b, err := os.ReadFile(filepath.Join(w.home, name))
		if os.IsNotExist(err) {
			continue
		}
		require.NoError(w.t, err)
		require.NoError(w.t, os.WriteFile(filepath.Join(kept, name), b, 0o600))
		files = append(files, name)
	}
	return func() {
		w.t.Helper()
		for _, name := range []string{"state.db", "state.db-wal", "state.db-shm"} {
			require.NoError(w.t, os.RemoveAll(filepath.Join(w.home, name)))
		}
		for _, name := range files {
			b, err := os.ReadFile(filepath.Join(kept, name))
			require.NoError(w.t, err)
			require.NoError(w.t, os.WriteFile(filepath.Join(w.home, name), b, 0o600))
		}
	}
}

// TestAnOlderStateBesideNewerPacksLosesNothing: a backup of the state that is put back is noticed, what the store knows beyond it
// is listed again, and a trim leaves what nobody knows.
func TestAnOlderStateBesideNewerPacksLosesNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("data/a.pak", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	back := w.backedUp()
	w.write("data/a.pak", "two, which only the newer snapshot has")
	w.ok("snapshot", "2", "--note", "the newer one")
	w.write("data/a.pak", "an edit that a pin saves")
	w.ok("pin", "1", "--yes")
	back()
	r := w.ok("builds")
	require.Contains(t, r.err, "What this home remembers is older than its store, as if a backup of it had been put back. 1 build that only the store knew is listed again; what else is in it stays for 30 days.")
	require.Contains(t, r.out, "the newer one")
	require.NotContains(t, w.ok("builds").err, "older", "said once")
	trim := w.json(0, "store", "trim", "--yes")
	require.EqualValues(t, 0, trim["packs_dropped"])
	require.Positive(t, trim["packs_kept"])
	require.Contains(t, w.ok("store", "trim", "--yes").out, "for now: what this home remembers was older than its store")
	w.ok("pin", "2", "--yes")
	require.Equal(t, "two, which only the newer snapshot has", w.read("data/a.pak"))
}

// TestAHomeThatIsOlderThanTheFolderSaysSo, when all of it has gone back, store and all; and two homes for one folder.
func TestAHomeThatIsOlderThanTheFolderSaysSo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	before := w.home + "-before"
	require.NoError(t, os.CopyFS(before, os.DirFS(w.home)))
	w.write("a", "two")
	w.ok("snapshot", "2")
	w.ok("pin", "1", "--yes")
	newest := w.home
	require.NoError(t, os.Rename(w.home, w.home+"-newer"))
	require.NoError(t, os.Rename(before, newest))
	const older = "is older than this folder, as if a backup of it had been put back"
	require.Contains(t, w.ok("status").err, older)
	require.NotContains(t, w.ok("status").err, older, "said once")
	require.NotContains(t, w.ok("history").out, "pin")
	w.ok("snapshot", "now")
	w.ok("pin", "now", "--yes")
	require.NotContains(t, w.ok("verify").err, older)

	other := filepath.Join(w.dir, "other home")
	require.NoError(t, os.MkdirAll(other, 0o755))
	mine := w.home
	w.home = other
	r := w.run("add", "quay", w.live, "--yes")
	require.Contains(t, r.out+r.err, mine, "the home that looks after it already is named")
}

// TestChangesThatOnlyTheFolderTellsOfAreHistoryAgain, when an older state comes back beside its newer packs.
func TestChangesThatOnlyTheFolderTellsOfAreHistoryAgain(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a", "one")
	w.age()
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	before, err := os.ReadFile(filepath.Join(w.home, "state.db"))
	require.NoError(t, err)
	w.write("a", "two")
	w.age()
	w.ok("snapshot", "2")
	w.write("a", "mine")
	w.age()
	w.ok("pin", "1", "--yes")
	w.ok("pin", "2", "--yes")
	w.ok("undo", "--yes")
	history := w.ok("history").out
	for _, name := range []string{"-wal", "-shm"} {
		require.NoError(t, os.RemoveAll(filepath.Join(w.home, "state.db"+name)))
	}
	require.NoError(t, os.WriteFile(filepath.Join(w.home, "state.db"), before, 0o600))
	r := w.ok("status")
	require.Contains(t, r.err, "the history has it again")
	require.Contains(t, r.out, "held at 1")
	require.Equal(t, history, w.ok("history").out)
	w.ok("store", "trim", "--yes")
	w.ok("undo", "--yes")
	require.Equal(t, "mine", w.read("a"), "what the first pin had replaced, and no build has")
}

// TestAStateThatIsAsItWasSaysNothing: neither other processes nor a state that is copied away look like another age.
func TestAStateThatIsAsItWasSaysNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a", "a")
	w.ok("add", "quay", w.live)
	for i := range 4 {
		w.write("a", string(rune('a'+i)))
		require.Empty(t, w.ok("snapshot", string(rune('a'+i))).err)
	}
	moved := w.home + "-moved"
	require.NoError(t, os.Rename(w.home, moved))
	require.NoError(t, os.CopyFS(w.home, os.DirFS(moved)))
	require.NotContains(t, w.ok("builds").err, "older")
}

// TestADamagedFolderIsNotRecordedUnseen: files that have become zeros or empty make a snapshot a doubtful one, which is said
// and shown, and no such one is what the next is compared with.
func TestADamagedFolderIsNotRecordedUnseen(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	whole := strings.Repeat("a large archive ", 1000)
	w.write("data/a.pak", whole)
	w.write("data/b.pak", whole+"b")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.write("data/a.pak", strings.Repeat("\x00", len(whole)))
	r := w.ok("snapshot", "2")
	require.Contains(t, r.err, "data/a.pak holds nothing but zeros, and was not in 1. That is what a sync program, a full disk or half an update leaves.")
	require.Contains(t, w.json(0, "builds")["builds"].([]any)[0].(map[string]any)["doubt"], "holds nothing but zeros")
	r = w.ok("snapshot", "3")
	require.Contains(t, r.err, "was not in 1", "compared with the last good one")
	w.write("data/a.pak", whole+" of 4")
	require.NotContains(t, w.ok("snapshot", "4").err, "zeros")
	require.NotContains(t, w.json(0, "builds")["builds"].([]any)[0].(map[string]any), "doubt")
}

// TestSavesThatHaveVanishedAreSaidFirst, until they are back or the player says that they are gone on purpose.
func TestSavesThatHaveVanishedAreSaidFirst(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	saved := filepath.Join(w.dir, "Saves")
	one := filepath.Join(saved, "deep", "1.sav")
	write := func() {
		require.NoError(t, os.MkdirAll(filepath.Dir(one), 0o755))
		require.NoError(t, os.WriteFile(one, []byte("far into the game"), 0o644))
	}
	write()
	w.write("a", "a")
	w.ok("add", "quay", w.live, "--saves", saved)
	w.ok("snapshot", "1")
	w.ok("pin", "1", "--yes")
	require.NotContains(t, w.ok("status").out, "saves are gone")
	const gone = "The saves are gone: 1 file of them is in backup 1 of "
	require.NoError(t, os.Remove(one))
	require.True(t, strings.HasPrefix(w.ok("status").out, gone))
	require.EqualValues(t, 1, w.json(0, "status")["saves_gone"])
	require.NoError(t, os.RemoveAll(saved))
	require.Contains(t, w.ok("saves", "list").out, gone)
	require.NotContains(t, w.ok("status", "--seen").out, gone)
	require.NotContains(t, w.ok("status").out, gone)
	w.ok("saves", "restore", "1", "--yes")
	require.FileExists(t, one)
	require.NotContains(t, w.ok("status").out, gone)
	require.NoError(t, os.Remove(one))
	require.Contains(t, w.ok("status").out, gone, "once they were back, it is news again")
	write()
	w.ok("saves", "stash", "--yes")
	require.NoFileExists(t, one)
	require.NotContains(t, w.ok("status").out, gone, "they were put away")
	w.ok("saves", "restore", "--yes")
	require.FileExists(t, one)
}

// TestABlockThatStandsIsKnownToAnOlderHome: what it found is kept in the lane's folder as well, and put back exactly.
func TestABlockThatStandsIsKnownToAnOlderHome(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	cfg, staging := filepath.Join(w.dir, "state.cfg"), filepath.Join(w.dir, "staging")
	before := "# mine\r\nupdates = at-once\r\n"
	require.NoError(t, os.WriteFile(cfg, []byte(before), 0o644))
	w.write("a", "a")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("block", "add", "key-value-setting", "file="+cfg, "key=updates", "value=by-hand")
	w.ok("block", "add", "staging-folder", "path="+staging)
	old := w.home + "-old"
	require.NoError(t, os.CopyFS(old, os.DirFS(w.home)))
	w.ok("pin", "1", "--yes")
	text, err := os.ReadFile(cfg)
	require.NoError(t, err)
	require.Contains(t, string(text), "by-hand")
	require.NoError(t, os.Rename(w.home, w.home+"-newer"))
	require.NoError(t, os.Rename(old, w.home))
	r := w.ok("unblock")
	require.Contains(t, r.err, "The block of quay that stands is known again, from a note in its folder.")
	require.Contains(t, r.err, "is older than this folder")
	text, err = os.ReadFile(cfg)
	require.NoError(t, err)
	require.Equal(t, before, string(text))
	require.NoFileExists(t, staging)
	require.NotContains(t, w.ok("unblock").err, "known again")
}
