package database

import (
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/problem"
)

var one = Schema{Steps: []string{`CREATE TABLE a (x INTEGER)`}}
var two = Schema{Steps: append(one.Steps, `ALTER TABLE a ADD COLUMN y INTEGER`)}

func TestAnOlderSchemaIsBroughtUpToDateAndANewerRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "sub folder", "a#b%20.db")
	db, err := Open(t.Context(), file, one)
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO a VALUES (1)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	db, err = Open(t.Context(), file, two)
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE a SET y = 2`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(t.Context(), file, one)
	require.ErrorIs(t, err, problem.ErrNewer)
	require.FileExists(t, file)
}

func TestADamagedFileIsToldApart(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a.db")
	require.NoError(t, os.WriteFile(file, []byte("this is no database, but it is long enough to be read as one"), 0o644))
	_, err := Open(t.Context(), file, one)
	require.ErrorIs(t, err, ErrDamaged)
	require.True(t, Damaged(err))
	require.NoError(t, Remove(file))
	db, err := Open(t.Context(), file, one)
	require.NoError(t, err)
	require.NoError(t, db.Close())
}

func TestSeveralWritersWaitForEachOther(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a.db")
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			db, err := Open(t.Context(), file, one)
			if err != nil {
				t.Error(err)
				return
			}
			defer db.Close()
			for range 20 {
				tx, err := db.Begin()
				if err == nil {
					_, err = tx.Exec(`INSERT INTO a SELECT count(*) FROM a`)
				}
				if err == nil {
					err = tx.Commit()
				}
				if err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	wg.Wait()
	db, err := Open(t.Context(), file, one)
	require.NoError(t, err)
	defer db.Close()
	var n, distinct int
	require.NoError(t, db.QueryRow(`SELECT count(*), count(DISTINCT x) FROM a`).Scan(&n, &distinct))
	require.Equal(t, 80, n)
	require.Equal(t, 80, distinct)
}

func TestPathsAsTheDriverTakesThem(t *testing.T) {
	path, start := "/home/ada/a b.db", "file:///home/ada/a%20b.db?"
	if runtime.GOOS == "windows" {
		path, start = `C:\Users\Ada\a b.db`, "file:///C:/Users/Ada/a%20b.db?"
		require.True(t, strings.HasPrefix(dsn(`\\server\share\a.db`), "file:////server/share/a.db?"), dsn(`\\server\share\a.db`))
	}
	require.True(t, strings.HasPrefix(dsn(path), start), dsn(path))
}
