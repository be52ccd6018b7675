package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTiedGamesChangeBothOrNeither: where the second cannot be changed, the first is as it was.
func TestTiedGamesChangeBothOrNeither(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	server := w.source("server", map[string]string{"bin/server": "server of 1.2.0", "data/maps.pak": "maps of 1.2.0"})
	w.ok("add", "quay-server", server)
	w.ok("-g", "quay", "import", w.source("old", older("base", "voices")), "1.1.0")
	w.fails(2, "tied to no game", "-g", "quay", "pin", "1.1.0", "--with-tied", "--yes")
	w.fails(2, "cannot be tied to itself", "-g", "quay", "game", "set", "--with", "quay")
	w.fails(1, `there is no game "nobody"`, "-g", "quay", "game", "set", "--with", "nobody")
	w.ok("-g", "quay", "game", "set", "--with", "quay-server")
	before, theirs := w.picture(), picture(t, server)
	w.fails(1, `quay-server: there is no build "1.1.0"`, "-g", "quay", "pin", "1.1.0", "--with-tied", "--yes")
	require.Equal(t, before, w.picture())
	w.ok("-g", "quay-server", "import", w.source("old-server", map[string]string{"bin/server": "server of 1.1.0", "data/maps.pak": "maps of 1.1.0"}), "1.1.0")
	w.fails(4, "needs a yes", "-g", "quay", "pin", "1.1.0", "--with-tied")
	require.Equal(t, before, w.picture())

	canTrace(t)
	r := w.traced([]string{"-g", "quay", "pin", "1.1.0", "--with-tied", "--yes"}, "-P", filepath.Join(server, "data", "maps.pak"), "-P", filepath.Join(server, ".morvant", "change", "new"),
		"-e", "trace=mkdirat,openat", "-e", "inject=mkdirat,openat:error=EIO")
	require.Equal(t, 1, r.code, r.out+r.err)
	require.Contains(t, r.err, "quay is as it was before")
	require.Equal(t, before, w.picture())
	require.Equal(t, theirs, picture(t, server))

	j := w.json(0, "-g", "quay", "pin", "1.1.0", "--with-tied", "--yes")
	require.Equal(t, "quay-server", j["tied"].(map[string]any)["game"])
	require.Equal(t, "program of 1.1.0", w.read("bin/quay.exe"))
	require.Equal(t, "server of 1.1.0", readFile(t, filepath.Join(server, "bin", "server")))
	require.Equal(t, true, w.json(0, "-g", "quay", "status")["tied"].(map[string]any)["same"])
	w.ok("-g", "quay-server", "unpin", "--yes")
	require.Contains(t, w.ok("-g", "quay", "status").out, "quay-server is not held")
}

// TestKilledAtAnyPointTiedGamesAreAtOneBuild: whichever of the two is looked at first.
func TestKilledAtAnyPointTiedGamesAreAtOneBuild(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newPlayed(t)
	server := w.source("server", map[string]string{"bin/server": "server of 1.2.0", "data/maps.pak": "maps of 1.2.0"})
	w.ok("add", "quay-server", server)
	w.ok("-g", "quay", "import", w.source("old", older("base", "voices")), "1.1.0")
	w.ok("-g", "quay-server", "import", w.source("old-server", map[string]string{"bin/server": "server of 1.1.0", "data/maps.pak": "maps of 1.1.0"}), "1.1.0")
	w.ok("-g", "quay-server", "snapshot", "1.2.0")
	w.ok("-g", "quay", "game", "set", "--with", "quay-server")
	w.ok("-g", "quay", "pin", "1.2.0", "--with-tied", "--yes")
	template := filepath.Join(w.dir, "template")
	require.NoError(t, os.Mkdir(template, 0o755))
	require.NoError(t, exec.Command("cp", "-a", w.live, server, w.home, template).Run())
	fresh := func() {
		for _, dir := range []string{w.live, server, w.home} {
			require.NoError(t, os.RemoveAll(dir))
			require.NoError(t, exec.Command("cp", "-a", filepath.Join(template, filepath.Base(dir)), dir).Run())
		}
	}
	pin := func(calls, fault string, n int) result {
		return w.traced([]string{"-g", "quay", "pin", "1.1.0", "--with-tied", "--yes"}, "-e", "trace="+calls, "-e", "inject="+calls+":"+fault+":when="+strconv.Itoa(n))
	}
	together := func(n int, where string) {
		order := []string{"quay", "quay-server"}
		if n%2 == 0 {
			order = []string{"quay-server", "quay"}
		}
		held := make(map[string]string)
		for _, game := range append(order, order...) { // the first look may come to the other one later
			j := w.json(0, "-g", game, "status")
			held[game] = j["build"].(map[string]any)["label"].(string)
		}
		require.Equal(t, held["quay"], held["quay-server"], where)
		require.Equal(t, "program of "+held["quay"], w.read("bin/quay.exe"), where)
		require.Equal(t, "server of "+held["quay"], readFile(t, filepath.Join(server, "bin", "server")), where)
	}
	kills := 0
	for _, calls := range some([]string{"renameat,renameat2", "fsync,fdatasync", "pwrite64", "unlinkat", "mkdirat"}) {
		for n := 1; ; n += 1 + coarse(n)/2 {
			fresh()
			if pin(calls, "signal=KILL", n).code == 0 {
				break
			}
			kills++
			together(n, calls+" "+strconv.Itoa(n))
		}
	}
	// An error where the second change is recorded: it is finished by the next command, and so is the first.
	for n := 1; n <= 45; n += coarse(1) {
		fresh()
		pin("pwrite64", "error=EACCES", n)
		together(n, "EACCES at "+strconv.Itoa(n))
	}
	require.Greater(t, kills, least(8))
}
