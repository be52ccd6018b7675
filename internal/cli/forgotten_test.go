package cli_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// rows counts what a query of one of the home's databases finds.
func (w *world) rows(file, query string) (n int) {
	w.t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(w.home, file))
	require.NoError(w.t, err)
	defer db.Close()
	require.NoError(w.t, db.QueryRow(query).Scan(&n))
	return n
}

func TestWhatIsForgottenLeavesNothingBehind(t *testing.T) {
	t.Parallel()
	w, _, _ := newBlocked(t)
	w.write("Mods/a.txt", "mine")
	w.ok("game", "set", "--keep", "Mods/**")
	w.ok("snapshot", "2")
	w.ok("watch", "--once")
	w.ok("lane", "new", "second", "--from", "1", "--yes")
	w.ok("-l", "second", "status")
	require.Positive(t, w.rows("cache.db", `SELECT count(*) FROM dir WHERE root = 'quay/second'`))
	w.ok("lane", "remove", "second", "--delete", "--yes")
	require.Zero(t, w.rows("cache.db", `SELECT count(*) FROM dir WHERE root = 'quay/second'`))
	require.Positive(t, w.rows("cache.db", `SELECT count(*) FROM dir WHERE root = 'quay/main'`))
	w.ok("unblock")
	require.Positive(t, w.rows("state.db", `SELECT count(*) FROM fact WHERE name LIKE 'block originals%'`))
	w.ok("game", "forget", "--yes")
	require.Zero(t, w.rows("cache.db", `SELECT count(*) FROM dir`))
	for _, table := range []string{"build", "lane", "change", "own", "gone", "saves", "operation", "block"} {
		require.Zero(t, w.rows("state.db", `SELECT count(*) FROM `+table), table)
	}
	require.Zero(t, w.rows("state.db", `SELECT count(*) FROM fact WHERE name LIKE 'block originals%'`))
}

func TestALaneThatIsRenamedKeepsWhatItsBlockFound(t *testing.T) {
	t.Parallel()
	w, config, _ := newBlocked(t)
	w.ok("unblock")
	w.ok("lane", "rename", "main", "mine")
	require.Equal(t, 1, w.rows("state.db", `SELECT count(*) FROM fact WHERE name = 'block originals quay'`))
	require.NoError(t, os.WriteFile(config, []byte("updates = by-hand\n"), 0o644)) // as a launcher does that had it in memory
	w.ok("block")
	w.ok("unblock")
	require.Equal(t, "updates = at-once\n", readFile(t, config))
}

// TestALaneThatIsMadeLeavesTheLiveOnesBlock: what is remembered of the launcher's settings is put back
// for the live lane alone, and when it is asked for.
func TestALaneThatIsMadeLeavesTheLiveOnesBlock(t *testing.T) {
	t.Parallel()
	w, config, _ := newBlocked(t)
	w.ok("unblock")
	w.ok("block")
	w.ok("lane", "new", "other", "--from", "1", "--yes")
	require.Contains(t, readFile(t, config), "by-hand")
	w.ok("lane", "remove", "other", "--delete", "--yes")
	require.Contains(t, readFile(t, config), "by-hand")
}
