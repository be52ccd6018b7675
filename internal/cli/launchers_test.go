package cli_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/block"
	"morvant/internal/keyed"
)

// TestALauncherThatRunsIsAskedToEnd: it writes its own copy of its settings at its end.
func TestALauncherThatRunsIsAskedToEnd(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("the steps of this test are for a Unix shell")
	}
	w := newLaunched(t)
	b, err := os.ReadFile(program)
	require.NoError(t, err)
	exe := filepath.Join(w.dir, "quay-launcher")
	require.NoError(t, os.WriteFile(exe, b, 0o755))
	launcher := func(pause string) *exec.Cmd {
		cmd := exec.Command(exe, "demo", "launcher", "idle", w.state, "--size", "2MB", "--habit", "resident", "--pause", pause)
		cmd.Dir = w.dir
		_ = os.Remove(w.state + ".running") // of one that was killed
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool {
			_, err := os.Stat(w.state + ".running")
			return err == nil
		}, waitLong, 10*time.Millisecond)
		return cmd
	}
	w.ok("game", "set", "--launcher", "quay-launcher")
	w.ok(w.setting()...)
	running := launcher("60s")
	require.Contains(t, w.ok("pin", "1.1.1", "--yes").err, "the launcher is running", "a pin sets the block as well")
	require.NoError(t, running.Process.Kill())
	_ = running.Wait()
	require.Contains(t, w.stateText(), "updates = by-hand")

	running = launcher("60s")
	r := w.run("unblock")
	require.Equal(t, 1, r.code, r.err)
	require.Contains(t, r.err, "the launcher is running, and may overwrite its settings when it ends")
	require.Contains(t, r.err, "--when-closed")
	require.NoError(t, running.Process.Kill())
	_ = running.Wait()

	running = launcher("1500ms")
	require.Contains(t, w.ok("unblock", "--when-closed").err, "Waiting: the launcher is running")
	require.NoError(t, running.Wait())
	require.Contains(t, w.stateText(), "updates = at-once", "what it wrote at its end is taken back")

	// By force it is overwritten; but what was found first is not forgotten.
	w.ok("block")
	running = launcher("4s")
	w.ok("unblock", "--force")
	require.Contains(t, w.stateText(), "updates = at-once")
	require.NoError(t, running.Wait())
	require.Contains(t, w.stateText(), "updates = by-hand", "the launcher has had the last word")
	w.ok("block")
	w.ok("unblock")
	require.Contains(t, w.stateText(), "updates = at-once", "its own value, not the block's")

	// The same without a block in between.
	require.NoError(t, os.WriteFile(w.state, []byte(strings.Replace(w.stateText(), "at-once", "by-hand", 1)), 0o644))
	w.ok("unblock")
	require.Contains(t, w.stateText(), "updates = at-once")
}

func TestAStagingFolderOfAnotherNameIsNoticed(t *testing.T) {
	t.Parallel()
	w := newLaunched(t)
	w.ok("block", "add", "staging-folder", "path="+w.state+".staging")
	w.ok("pin", "1.1.1", "--yes")
	w.launcher(0, "offer", "1.3.0")
	w.launcher(1, "idle", "--habit", "elsewhere", "--stop-after", "1")
	status := w.run("status")
	require.Contains(t, status.out, "1 of 1 block rule broken")
	r := w.ok("block", "--show")
	require.Contains(t, strings.Join(strings.Fields(r.out), " "), "an updater is preparing an update in")
	require.Contains(t, w.run("watch", "--once", "--repair").out, "morvant block add staging-folder path=")
	require.Contains(t, w.run("watch", "--once").out, "an updater is preparing an update in "+w.state+".staging-2")
	w.ok("block", "add", "staging-folder", "path="+w.state+".staging-2")
	w.ok("block")
	require.Contains(t, w.ok("status").out, "blocked (2 rules)")
	w.launcher(1, "idle", "--habit", "elsewhere")
	w.ok("unblock")
	require.NoFileExists(t, w.state+".staging")
	require.DirExists(t, w.state+".staging-2", "what it had begun there is back")
}

// kinds of launcher's files, with two games of which one is blocked.
var launcherFiles = map[keyed.Format]struct {
	text func(r *rand.Rand, name func(string) string, quay, other string) string
	key  string
}{
	keyed.KeyValue: {func(r *rand.Rand, n func(string) string, quay, other string) string {
		return shuffled(r, "", "", "# a remark\n", n("other")+" = "+other+"\n", opt(quay, n("updates")+" = %s\n"), "folder = /games\n")
	}, "updates"},
	keyed.INI: {func(r *rand.Rand, n func(string) string, quay, other string) string {
		return shuffled(r, "", "", "["+n("other")+"]\n"+n("updates")+"="+other+"\n", "["+n("quay")+"]\nname=Quay\n"+opt(quay, n("updates")+"=%s\n"))
	}, "quay/updates"},
	keyed.JSON: {func(r *rand.Rand, n func(string) string, quay, other string) string {
		in := fmt.Sprintf("%q: {\"name\": \"Quay\"%s}", n("quay"), opt(quay, ", \""+n("updates")+"\": \"%s\""))
		list := []string{in, fmt.Sprintf("%q: {%q: %q}", n("other"), n("updates"), other)}
		r.Shuffle(2, func(i, j int) { list[i], list[j] = list[j], list[i] })
		return "{\n  " + strings.Join(list, ",\n  ") + "\n}\n"
	}, "quay/updates"},
	keyed.XML: {func(r *rand.Rand, n func(string) string, quay, other string) string {
		return shuffled(r, "<launcher>\n", "</launcher>\n", `  <game id="other" `+n("updates")+`="`+other+"\"/>\n", "  <game id=\"quay\""+opt(quay, " "+n("updates")+`="%s"`)+"/>\n")
	}, "launcher/game[id=quay]/@updates"},
	keyed.Nested: {func(r *rand.Rand, n func(string) string, quay, other string) string {
		return shuffled(r, "\"apps\"\n{\n", "}\n", "\t\"other\"\n\t{\n\t\t\""+n("updates")+"\"\t\t\""+other+"\"\n\t}\n", "\t\"quay\"\n\t{\n"+opt(quay, "\t\t\""+n("updates")+"\"\t\t\"%s\"\n")+"\t}\n")
	}, "apps/quay/updates"},
	keyed.Registry: {func(r *rand.Rand, n func(string) string, quay, other string) string {
		return shuffled(r, "Registry\r\n\r\n", "", `[HKCU\Other]`+"\r\n\""+n("Updates")+"\"=\""+other+"\"\r\n", `[HKCU\Quay]`+"\r\n\"Name\"=\"Quay\"\r\n"+opt(quay, "\""+n("Updates")+"\"=\"%s\"\r\n"))
	}, `HKCU\Quay/Updates`},
}

func shuffled(r *rand.Rand, head, tail string, parts ...string) string {
	r.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
	return head + strings.Join(parts, "") + tail
}

// opt is a line with a value; nothing where there is no value.
func opt(value, format string) string {
	if value == "" {
		return ""
	}
	return fmt.Sprintf(format, value)
}

// TestABlockComesOffInAnyOrder compares a launcher's file byte by byte after random orders of:
// block, the launcher rewriting its file (in another order, in another case, dropping the key,
// adding one), a switch to another game, a run that is killed, unblock.
func TestABlockComesOffInAnyOrder(t *testing.T) {
	t.Parallel()
	orders := 200 / stride(10)
	for seed := range orders {
		r := rand.New(rand.NewPCG(uint64(seed), 7))
		formats := keyed.Formats()
		format := formats[seed%len(formats)]
		f := launcherFiles[format]
		w := newWorld(t)
		file := filepath.Join(w.dir, "launcher settings")
		upper := false
		name := func(s string) string {
			if upper {
				return strings.ToUpper(s)
			}
			return s
		}
		value := []string{"at-once", "", "before-start"}[r.IntN(3)]
		const off = "by-hand"
		// arrange is how the file is written with a value, the same each time for the same order.
		order := r.Uint64()
		arrange := func(quay string) string {
			return f.text(rand.New(rand.NewPCG(order, 1)), name, quay, "never")
		}
		put := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o644)) }
		get := func() string {
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			return string(b)
		}
		put(arrange(value))
		w.write("a.txt", "1")
		w.ok("add", "quay", w.live)
		w.ok("block", "add", string(format)+"-setting", "file="+file, "key="+f.key, "value="+off)
		w.ok("snapshot", "1")
		w.ok("pin", "1", "--no-block")
		story := fmt.Sprintf("order %d, %s, %q:", seed, format, value)
		blocked, exact := false, true
		for range 3 + r.IntN(5) {
			switch r.IntN(5) {
			case 0:
				story += " block"
				w.ok("block")
				blocked = true
			case 1: // the launcher reads its file, and writes it in its own way
				story += " rewrite"
				order, upper = r.Uint64(), r.IntN(2) == 0
				now := value
				if blocked {
					now = off
				}
				put(arrange(now))
				exact = value != "" || !blocked
			case 2:
				story += " switch"
				w.ok("status")
				w.ok("pin", "1", "--no-block", "--yes")
				w.ok("unblock")
				blocked = false
			case 3:
				story += " kill"
				cmd := w.command([]string{"block", "unblock"}[r.IntN(2)])
				require.NoError(t, cmd.Start())
				time.Sleep(time.Duration(r.IntN(30)) * time.Millisecond)
				_ = cmd.Process.Kill()
				_ = cmd.Wait()
				w.ok("block")
				blocked = true
			case 4:
				story += " unblock"
				w.ok("unblock")
				blocked = false
			}
		}
		w.ok("unblock")
		if exact {
			require.Equal(t, arrange(value), get(), story)
			continue
		}
		// What the block had added stands where the launcher has put it since: it goes with its line.
		at := block.Site{Dir: w.dir}
		h, err := block.Prepare(block.Rule{Kind: block.Setting, File: file, Format: string(format), Key: f.key, Set: off}, at)
		require.NoError(t, err, story)
		require.Equal(t, value == "", h.Missing, "%s: %s", story, get())
	}
}
