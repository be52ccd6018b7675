package cli_test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestKilledAtAnyPointAnImportGoesOn: a killed import is no build; started again it ends as if
// nothing had happened, also where it moves files, of which none is ever lost.
func TestKilledAtAnyPointAnImportGoesOn(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("strace"); err != nil {
		t.Skip("strace is not installed")
	}
	canTrace(t)
	w := newPlayed(t)
	want := older("base", "voices")
	template := filepath.Join(w.dir, "template")
	require.NoError(t, exec.Command("cp", "-a", w.home, template).Run())
	for _, calls := range some([]string{"unlinkat", "fsync", "pwrite64", "renameat"}) {
		kills := 0
		for n := 1; ; n += 1 + n/3 {
			require.NoError(t, errors.Join(os.RemoveAll(w.home), os.RemoveAll(filepath.Join(w.dir, "download"))))
			require.NoError(t, exec.Command("cp", "-a", template, w.home).Run())
			download := w.source("download", want)
			r := w.traced([]string{"import", download, "1.1.0", "--move", "--yes"}, "-e", "trace="+calls, "-e", "inject="+calls+":signal=KILL:when="+strconv.Itoa(n))
			if r.code == 0 {
				break
			}
			kills++
			where := calls + " " + strconv.Itoa(n)
			if !strings.Contains(w.ok("builds").out, "1.1.0") {
				w.ok("store", "trim", "--yes") // which must not take away what is nowhere else
				w.ok("import", download, "1.1.0", "--move", "--yes")
			}
			w.ok("pin", "1.1.0", "--yes")
			for p, content := range want {
				require.Equal(t, content, w.read(p), where)
			}
			w.ok("undo", "--yes")
		}
		if calls == "unlinkat" || calls == "fsync" {
			require.Positive(t, kills, calls)
		}
	}
}
