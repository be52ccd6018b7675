package version

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestOnlyWhatWasWrittenSinceCounts: a log that is only added to says what it said before, too.
func TestOnlyWhatWasWrittenSinceCounts(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	r := Rule{File: "log.txt", Find: `^started (\S+)`}
	write := func(text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "log.txt"), []byte(text), 0o644))
	}
	says := func(was Seen) string {
		v, err := Since(root, r, was)
		if err != nil {
			require.ErrorIs(t, err, ErrNone)
		}
		return v
	}
	none := Look(root, r)
	write("started 1.0\n")
	require.Equal(t, "1.0", says(none), "the first of all")
	was := Look(root, r)
	require.Empty(t, says(was), "nothing was written")
	write("started 1.0\nhello\n")
	require.Empty(t, says(was), "nothing that tells a version")
	write("started 1.0\nhello\nstarted 1.1\n")
	require.Equal(t, "1.1", says(was))
	write("started 2\n")
	require.Equal(t, "2", says(was), "written anew, and shorter")
	write("other words\nstarted 1.0\n")
	require.Equal(t, "1.0", says(was), "written anew, and longer")
	write("started 1.0\n")
	later := time.Now().Add(time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(dir, "log.txt"), later, later))
	require.Equal(t, "1.0", says(was), "written anew, and the same")
}
