package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAGameIsCheckedStartedAndSaysItsVersion starts the stand-in game by a script.
func TestAGameIsCheckedStartedAndSaysItsVersion(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.write("play.sh", "#!/bin/sh\necho \"$@\"\n"+program+" demo game . --size 2MB || exit 7\n")
	require.NoError(t, os.Chmod(w.path("play.sh"), 0o755))
	w.ok("snapshot", "mine")
	w.fails(2, "it is not known what to start", "launch")
	w.ok("game", "set", "--program", "play.sh")
	settings := filepath.Join(w.home, "games", "quay.toml")
	text, err := os.ReadFile(settings)
	require.NoError(t, err)
	text = append(text, []byte("\n[[version]]\nfile = \"logs/last.txt\"\nfind = '^Cinder Quay (\\S+) started'\n")...)
	require.NoError(t, os.WriteFile(settings, text, 0o644))
	w.ok("pin", "mine", "--yes", "--companion", `bin/standalone.txt=240117\n`)

	w.ok("launch", "--check-only")
	require.NoError(t, os.Remove(w.path("bin/standalone.txt")))
	require.Equal(t, 3, w.run("launch", "--check-only").code)
	require.Contains(t, w.ok("launch").err, "Written: bin/standalone.txt")
	r := w.ok("launch", "--", "--windowed")
	require.Contains(t, r.out, "--windowed")
	require.Contains(t, r.out, "Cinder Quay 1.1.1")
	require.Contains(t, r.err, "It says that it is 1.1.1 (logs/last.txt)")
	require.Contains(t, w.ok("identify").out, "logs/last.txt says 1.1.1 (when it last ran)")

	w.launcher(0, "offer", "1.3.0")
	w.launcher(1, "idle", "--stop-after", "5")
	require.Equal(t, 3, w.run("launch", "--check-only").code)
	require.Equal(t, 4, w.run("launch").code, "a game that has drifted is not started unasked")
	require.Equal(t, 7, w.run("launch", "--yes").code, "the exit code is passed on")
	w.ok("verify", "--repair", "--yes")
	require.Contains(t, w.ok("launch", "--through", filepath.Join(w.live, "play.sh")).out, "1.1.1")
}

func TestWhatAProgramSaysIsComparedWithItsContent(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("feed", "add", w.feed)
	require.Contains(t, w.ok("identify").out, "bin/quay.exe says 1.1.1")
	other := filepath.Join(w.dir, "other")
	w.ok("demo", "write", other, "1.2.0", "--size", "2MB")
	b, err := os.ReadFile(filepath.Join(other, "bin", "quay.exe"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.path("bin/quay.exe"), b, 0o755))
	r := w.ok("identify")
	require.Contains(t, r.out, "is nearest to 1.1.1")
	require.Regexp(t, `bin/quay\.exe says 1\.2\.0\S*, which its content does not bear out`, r.out)
	require.Contains(t, w.ok("add", "again", other).out, "Its program says that it is 1.2.0")
}

func TestImmutableFilesAreLetGoForMorvantsOwnWork(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	probe := filepath.Join(w.dir, "probe")
	require.NoError(t, os.WriteFile(probe, nil, 0o644))
	if out, err := exec.Command("chattr", "+i", probe).CombinedOutput(); err != nil {
		t.Skipf("files cannot be made immutable here: %s", out)
	}
	require.NoError(t, exec.Command("chattr", "-i", probe).Run())
	t.Cleanup(func() { exec.Command("chattr", "-R", "-i", w.live).Run() })
	settings := filepath.Join(w.home, "games", "quay.toml")
	text, err := os.ReadFile(settings)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(settings, append(text, []byte("\n[[block]]\nkind = \"read-only\"\nimmutable = true\n")...), 0o644))
	before := w.picture()
	w.ok("pin", "1.1.1", "--yes")
	require.Error(t, os.Remove(w.path("readme.txt")), "not even root removes it")
	require.NoError(t, exec.Command("chattr", "-i", w.path("readme.txt")).Run())
	require.NoError(t, os.Remove(w.path("readme.txt")))
	require.Equal(t, 3, w.run("status").code)
	w.ok("verify", "--repair", "--yes")
	require.Error(t, os.Remove(w.path("readme.txt")))
	w.ok("snapshot", "again")
	w.ok("pin", "again", "--yes")
	require.NoError(t, exec.Command("chattr", "-i", w.path("version.txt")).Run())
	require.NoError(t, os.Remove(w.path("version.txt")))
	w.fails(4, "needs an answer", "verify", "--repair")
	require.Error(t, os.Remove(w.path("data/cargo.pak")), "also after a change that was declined")
	w.ok("verify", "--repair", "--yes")
	w.ok("unpin", "--stay")
	now := w.picture()
	for _, dir := range []map[string]string{before, now} {
		delete(dir, "readme.txt") // written anew
		delete(dir, "version.txt")
	}
	require.Equal(t, before, now)
	require.NoError(t, os.Remove(w.path("readme.txt")))
}
