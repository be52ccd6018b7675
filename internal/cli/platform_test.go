package cli_test

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/volume"
)

const onWindows = runtime.GOOS == "windows"

// needsLinks skips a test where links to folders cannot be made: the junctions of
// Windows are missing under Wine.
func needsLinks(t *testing.T) {
	t.Helper()
	dir := t.TempDir()
	target := filepath.Join(dir, "target")
	require.NoError(t, os.Mkdir(target, 0o755))
	if err := volume.Link(target, filepath.Join(dir, "link")); err != nil {
		t.Skip("links to folders cannot be made here: ", err)
	}
}

// TestNamesOfWindows tries what Windows does with names, where it is Windows.
func TestNamesOfWindows(t *testing.T) {
	t.Parallel()
	if !onWindows {
		t.Skip("for Windows")
	}
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes", "--companion", `bin\standalone.txt=1`)
	require.Equal(t, "1", w.read("bin/standalone.txt"), "backslashes at the prompt")
	require.Contains(t, w.ok("diff", "1.1.1", "--text", `bin\standalone.txt`).out, "+1")

	deep := `long`
	for len(filepath.Join(w.live, deep)) < 300 {
		deep = filepath.Join(deep, "a folder with a long name of its own")
	}
	w.write(filepath.ToSlash(deep)+"/file.txt", "beyond 260 characters")
	w.ok("snapshot", "long")
	require.NoError(t, os.RemoveAll(w.path("long")))
	w.ok("pin", "long", "--yes")
	require.Equal(t, "beyond 260 characters", w.read(filepath.ToSlash(deep)+"/file.txt"))

	upper := w.command("status")
	upper.Dir = filepath.Join(filepath.Dir(w.live), "QUAY")
	require.Equal(t, 0, w.finish(upper).code, "the folder is found whatever its letters' case")
	w.fails(1, "lie within each other", "add", "again", filepath.Join(filepath.Dir(w.live), "QUAY"))
}

// TestAFileHeldOpenIsNamed holds a file open in a way that lets nobody replace it.
func TestAFileHeldOpenIsNamed(t *testing.T) {
	t.Parallel()
	if !onWindows {
		t.Skip("for Windows; elsewhere a file that is open can be replaced")
	}
	w := newLaunched(t)
	w.write("readme.txt", "altered")
	held, err := os.Open(w.path("readme.txt"))
	require.NoError(t, err)
	r := w.run("pin", "1.1.1", "--yes")
	require.NoError(t, held.Close())
	if r.code == 0 {
		t.Skip("files that are open can be replaced here, as under Wine")
	}
	require.Contains(t, r.err, "readme.txt")
	require.Contains(t, r.err, "Close it, then try again")
	require.Equal(t, "altered", w.read("readme.txt"))
	w.ok("pin", "1.1.1", "--yes")
}
