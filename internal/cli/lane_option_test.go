package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestALaneThatIsNamedIsObeyedOrRefused: no command passes over --lane.
func TestALaneThatIsNamedIsObeyedOrRefused(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "1")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("pin", "1", "--yes")
	w.ok("pinfile", "write", filepath.Join(w.dir, "q.pin.toml"))
	file, list := filepath.Join(w.dir, "q.pin.toml"), filepath.Join(w.dir, "q.mods.toml")
	// What the commands that work on a lane need to come as far as the lane.
	args := map[string][]string{
		"pin": {"1"}, "diff": {"1"}, "lane new": {"x", "--from", "1"}, "lane switch": {"main"}, "lane share": {"Mods", "--to", filepath.Join(w.dir, "x")}, "lane unshare": {"Mods"},
		"mods record": {"x", "*"}, "mods show": {"x"}, "mods rename": {"x", "y"}, "mods remove": {"x"}, "mods lay": {"x"}, "mods lift": {"x"}, "mods share": {"x", "y"}, "mods take": {list},
		"carry": {w.dir}, "saves restore": {"1"}, "fetch": {"1"}, "pinfile show": {file}, "pinfile apply": {file}, "compare-with": {file},
		"export": {"1", filepath.Join(w.dir, "x.zip")}, "game move": {filepath.Join(w.dir, "there")},
	}
	obeyed := 0
	for _, command := range w.leaves("") {
		if strings.HasPrefix(command, "demo") || strings.HasPrefix(command, "help") || strings.HasPrefix(command, "completion") {
			continue // they are about no game
		}
		r := w.run(append(append([]string{"-l", "nowhere"}, strings.Fields(command)...), args[command]...)...)
		require.NotZero(t, r.code, command)
		if strings.Contains(r.err, "is not about one lane; leave --lane nowhere out") {
			require.Equal(t, 2, r.code, command)
			continue
		}
		obeyed++
		require.Contains(t, r.err, `there is no lane "nowhere"`, command)
	}
	require.Greater(t, obeyed, 20)
}

// leaves lists the commands that do something by themselves, as help names them.
func (w *world) leaves(of string) []string {
	w.t.Helper()
	help := w.ok(append(strings.Fields(of), "--help")...).out
	var list []string
	in := false
	for line := range strings.Lines(help) {
		switch {
		case strings.HasPrefix(line, "COMMANDS:"):
			in = true
		case in && !strings.HasPrefix(line, " ") && strings.TrimSpace(line) != "":
			in = false
		}
		words := strings.Fields(line)
		if !in || len(words) < 2 || strings.HasSuffix(strings.TrimSpace(line), ":") || !strings.HasPrefix(line, "     ") && of == "" || !strings.HasPrefix(line, "   ") {
			continue
		}
		name := strings.TrimSpace(of + " " + strings.TrimSuffix(words[0], ","))
		if of != "" {
			list = append(list, name)
			continue
		}
		list = append(list, name)
		list = append(list, w.leaves(name)...)
	}
	return list
}

// TestLaunchIsAboutTheLaneThatIsMeant: never the check of one and the program of another.
func TestLaunchIsAboutTheLaneThatIsMeant(t *testing.T) {
	t.Parallel()
	if onWindows {
		t.Skip("a script plays the game")
	}
	w := newWorld(t)
	play := func(says string) { // a program that says which it is
		w.write("play.sh", "#!/bin/sh\necho "+says+"\n")
		require.NoError(t, os.Chmod(w.path("play.sh"), 0o755))
	}
	play("old")
	w.ok("add", "quay", w.live, "--program", "play.sh")
	w.ok("snapshot", "old")
	play("new")
	w.ok("snapshot", "new")
	w.ok("pin", "new", "--yes")
	w.ok("lane", "new", "old", "--from", "old", "--yes")
	parked := w.live + " [old]"
	inside := func(args ...string) result {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = parked, w.command().Env
		return w.finish(cmd)
	}
	launch := []string{"launch", "--wait", "10ms", "--look-again", "0"}
	require.Contains(t, inside(launch...).out, "old", "the lane that one is in, where it lies")
	require.DirExists(t, parked)
	for _, args := range [][]string{{"launch", "old", "--check-only"}, {"-l", "old", "launch", "--check-only"}} {
		require.Contains(t, w.ok(args...).err, "is held at old")
		require.DirExists(t, parked, "looking switches nothing")
	}
	require.Contains(t, inside("launch", "--check-only").err, "is held at old")
	w.fails(2, "name two lanes", "-l", "old", "launch", "main")
	require.Contains(t, w.ok(append([]string{"-l", "old"}, launch...)...).out, "old")
	require.Contains(t, w.ok(append(launch, "old")...).out, "old")
	require.DirExists(t, parked, "it is started where it lies")
	require.Contains(t, w.ok(append(launch, "--live", "old")...).out, "old")
	require.NoDirExists(t, parked)
	require.Contains(t, w.ok(append(launch, "--live", "main")...).out, "new")
	w.ok("-l", "old", "let-update", "--dry-run")
	w.fails(2, "name two lanes", "-l", "old", "let-update", "main")
	w.fails(1, `lane "nowhere"`, "let-update", "nowhere")
	w.fails(2, "works on the live lane", "-l", "old", "saves", "backup")
	w.ok("-l", "main", "lane", "switch", "old")
}
