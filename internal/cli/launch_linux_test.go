package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
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
	w.fails(2, "does not know which program to start", "launch")
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
	require.Contains(t, w.ok("launch").err, "Wrote bin/standalone.txt")
	r := w.ok("launch", "--", "--windowed")
	require.Contains(t, r.out, "--windowed")
	require.Contains(t, r.out, "Cinder Quay 1.1.1")
	require.Contains(t, r.err, "It reports version 1.1.1 (logs/last.txt)")
	require.Contains(t, w.ok("identify").out, "logs/last.txt says 1.1.1 (when it last ran)")

	w.launcher(0, "offer", "1.3.0")
	w.launcher(1, "idle", "--stop-after", "5")
	require.Equal(t, 3, w.run("launch", "--check-only").code)
	require.Equal(t, 4, w.run("launch").code, "a game that has drifted is not started unasked")
	require.Equal(t, 7, w.run("launch", "--yes").code, "the exit code is passed on")
	w.ok("verify", "--repair", "--yes")
	require.Contains(t, w.ok("launch", "--through", filepath.Join(w.live, "play.sh")).out, "1.1.1")
	line := w.ok("launch", "--look-again", "0", "--through", "sh '"+filepath.Join(w.live, "play.sh")+"' --windowed")
	require.Contains(t, line.out, "--windowed", "a command line, with arguments")
	w.fails(2, "go into --through itself", "launch", "--through", "sh play.sh", "--", "--windowed")
	r = w.ok("launch", "--look-again", "0", "--through", "true ")
	require.NotContains(t, r.err, "logs/last.txt", "the log is of an earlier start")
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
	require.Contains(t, r.out, "is closest to 1.1.1")
	require.Regexp(t, `bin/quay\.exe says 1\.2\.0\S*, but its content says otherwise`, r.out)
	require.Contains(t, w.ok("add", "again", other).out, "Its program reports version 1.2.0")
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
	w.fails(4, "needs a yes", "verify", "--repair")
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

func TestAProgramThatDoesNotStart(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	through := func(name, script string, mode os.FileMode) []string {
		file := filepath.Join(w.dir, name)
		require.NoError(t, os.WriteFile(file, []byte(script), mode))
		return []string{"launch", "--wait", "100ms", "--through", file}
	}
	w.fails(1, "no such file", "launch", "--through", filepath.Join(w.dir, "nothing"))
	w.fails(1, "permission denied", through("plain", "#!/bin/sh\n", 0o644)...)
	w.fails(1, "exec format error", through("text", "not a program", 0o755)...)
	crashed := w.run(through("crash", "#!/bin/sh\nexit 9\n", 0o755)...)
	require.Equal(t, 9, crashed.code, "the exit code is the program's")
	w.ok("game", "set", "--version-rule", `logs/last.txt=^Cinder Quay (\S+) started`, "--program", "bin/quay.exe")
	w.write("logs/last.txt", "nothing that the rule finds\n")
	require.Contains(t, w.ok(through("silent", "#!/bin/sh\n", 0o755)...).err, "The running game has reported none")
	w.fails(2, "pattern", "game", "set", "--version-rule", "logs/last.txt=no group")
	w.fails(2, "version", "game", "set", "--version-rule", "../out=(x)")
	require.Contains(t, w.ok("game", "show").out, "held at 1.1.1")
}

func TestAGameThatIsBlockedIsNotForgotten(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok(w.setting()...)
	w.ok("pin", "1.1.1", "--yes")
	w.fails(1, "still blocked", "game", "forget", "--yes")
	w.ok("unblock")
	w.ok("game", "forget", "--yes")
	require.Contains(t, w.stateText(), "at-once")
}

// TestAWatchSaysWhatTheSystemCannotWatch lets the system refuse to watch more than a
// few folders.
func TestAWatchSaysWhatTheSystemCannotWatch(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes")
	strace, err := exec.LookPath("strace")
	if err != nil {
		t.Skip("strace is not here")
	}
	cmd := w.command("--json", "watch", "--every", "200ms", "--calm", "50ms")
	cmd.Path = strace
	cmd.Args = slices.Concat([]string{"strace", "-D", "-f", "-qq", "-o", os.DevNull, "-e", "trace=inotify_add_watch",
		"-e", "inject=inotify_add_watch:error=ENOSPC:when=3+", program}, cmd.Args[1:])
	events, stop := w.watchingBy(cmd)
	require.Contains(t, w.next(events).Message, "as it should be")
	w.write("data/cargo.pak", "spoilt")
	require.Contains(t, w.next(events).Message, "1 file of")
	require.Contains(t, stop(), "sysctl fs.inotify.max_user_watches", "the look now and then still finds it, and the remedy is named")
}

func TestAWatchOfThousandsOfFolders(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	for i := range 3000 {
		require.NoError(t, os.MkdirAll(w.path(fmt.Sprintf("data/deep/%d/%d", i/100, i)), 0o755))
	}
	w.write("data/deep/29/2999/last.txt", "as recorded")
	w.ok("snapshot", "deep")
	w.ok("pin", "deep", "--yes")
	events, end := w.watching()
	w.next(events)
	w.write("data/deep/29/2999/last.txt", "changed")
	require.Contains(t, w.next(events).Message, "1 file of")
	end()
}

func TestALaneIsLaunchedByItsName(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	for _, dir := range []string{w.live, w.parked("old")} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "play.sh"), []byte("#!/bin/sh\ncat version.txt; echo \"$@\"\n"), 0o755))
	}
	w.ok("game", "set", "--program", "play.sh")
	r := w.ok("launch", "--live", "old", "--wait", "10ms", "--", "--windowed")
	require.Contains(t, r.err, "Lane old is live now")
	require.Equal(t, "Cinder Quay 1.1.1\n--windowed\n", r.out)
	require.Equal(t, "Cinder Quay 1.1.1\nold\n", w.ok("-g", "quay", "launch", "--wait", "10ms", "--", "old").out, "behind -- it is the game's")
	w.fails(1, `lane "nowhere"`, "-g", "quay", "launch", "nowhere")
	w.fails(2, "put -- before the game's own arguments", "-g", "quay", "launch", "old", "more")
}

// TestWhatTheGameReportsCountsLast: another build than the held one is exit 3; arguments and a command
// may be set; what the game's end brings is restored where that is asked for.
func TestWhatTheGameReportsCountsLast(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("data.pak", "as built")
	require.NoError(t, os.WriteFile(w.path("play.sh"), []byte("#!/bin/sh\necho \"$@\"\necho \"started $REPORTS\" > report.log\n[ -n \"$SPOIL\" ] && echo spoilt > data.pak\nexit 0\n"), 0o755))
	w.ok("add", "quay", w.live, "--program", "play.sh", "--scratch", "report.log")
	w.ok("snapshot", "1.1.0")
	w.ok("import", w.source("newer", map[string]string{"data.pak": "newer", "play.sh": "x"}), "1.3.0")
	w.ok("game", "set", "--version-rule", `report.log=^started (\S+)`, "--argument", "--windowed", "--argument=--skip intro")
	w.ok("pin", "1.1.0", "--yes")
	launch := func(env string, args ...string) result {
		cmd := w.command(append([]string{"launch", "--wait", "10s", "--look-again", "0"}, args...)...)
		cmd.Env = append(cmd.Env, env)
		return w.finish(cmd)
	}
	r := launch("REPORTS=1.1.0", "--", "--more")
	require.Zero(t, r.code, r.err)
	require.Equal(t, "--windowed --skip intro --more\n", r.out)
	r = launch("REPORTS=1.3.0")
	require.Equal(t, 3, r.code, r.err)
	lines := strings.Split(strings.TrimSpace(r.err), "\n")
	require.Contains(t, lines[len(lines)-1], "The game reported version 1.3.0, and it is held at 1.1.0")

	r = launch("SPOIL=1")
	require.Contains(t, r.err, "1 file of quay changed")
	require.Contains(t, r.err, "verify --repair")
	w.ok("verify", "--repair", "--yes")
	r = launch("SPOIL=1", "--repair")
	require.Contains(t, r.err, "It is restored")
	require.Equal(t, "as built", w.read("data.pak"))

	w.ok("game", "set", "--through", "sh play.sh --by-command", "--no-argument", "--windowed")
	require.Equal(t, "--by-command\n", launch("REPORTS=1.1.0").out)
	require.Contains(t, w.ok("game", "show").out, "sh play.sh --by-command")
	w.ok("game", "set", "--through", "")
	require.Equal(t, "--skip intro\n", launch("REPORTS=1.1.0").out)

	// Saves of its own are only in place while a lane is live.
	w.ok("lane", "new", "old", "--from", "1.1.0", "--yes")
	w.ok("game", "set", "--saves-per-lane")
	w.fails(4, "morvant launch --live old", "launch", "old")
}
