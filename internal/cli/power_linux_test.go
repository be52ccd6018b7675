//go:build long

package cli_test

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// images is how many moments of a power cut are tried for each file system; by hand:
// MORVANT_IMAGES=100 go test -tags long -run PowerIsLost ./internal/cli
func images() int {
	if n, err := strconv.Atoi(os.Getenv("MORVANT_IMAGES")); err == nil {
		return n
	}
	return 12
}

// seedOf returns the seed of a run, printed so that it can be run again.
func seedOf(t *testing.T) uint64 {
	n, err := strconv.ParseUint(os.Getenv("MORVANT_SEED"), 10, 64)
	if err != nil {
		n = uint64(time.Now().UnixNano())
	}
	t.Logf("seed: MORVANT_SEED=%d", n)
	return n
}

// power is a world on a disk of its own, of which copies are taken as a power cut would
// leave it: what the disk has got by then, and nothing of what the system still holds in
// memory. The disk is a file on a file system that shares blocks, so that a copy of it is
// made at one instant.
type power struct {
	*launched
	images string // where the disk's file and its copies are
	saves  string
}

func sh(t *testing.T, format string, args ...any) {
	t.Helper()
	out, err := exec.Command("sh", "-c", fmt.Sprintf(format, args...)).CombinedOutput()
	require.NoError(t, err, "%s: %s", fmt.Sprintf(format, args...), out)
}

func newPower(t *testing.T, mkfs string) *power {
	t.Helper()
	canTrace(t)
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	p := &power{images: filepath.Join(dir, "images")}
	outer := filepath.Join(dir, "outer.img")
	sh(t, "truncate -s 6G %s", outer)
	if out, err := exec.Command("mkfs.xfs", "-q", "-m", "reflink=1", outer).CombinedOutput(); err != nil {
		t.Skipf("no XFS with reflinks can be made here: %v %s", err, out)
	}
	mounted(t, p.images, "-o", "loop", outer)
	sh(t, "truncate -s 400M %s/template", p.images)
	if out, err := exec.Command("sh", "-c", mkfs+" "+p.images+"/template").CombinedOutput(); err != nil {
		t.Skipf("%s is not possible here: %v %s", mkfs, err, out)
	}
	disk := filepath.Join(dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	published, err := smallFeed()
	require.NoError(t, err)
	w := &world{t: t, dir: disk, home: filepath.Join(disk, "home"), live: filepath.Join(disk, "Quay")}
	p.launched = &launched{world: w, feed: published, state: filepath.Join(disk, "launcher", "state.cfg")}
	p.saves = filepath.Join(disk, "Saves")
	p.mount("template")
	t.Cleanup(func() { _ = exec.Command("umount", disk).Run() })
	for _, dir := range []string{w.live, filepath.Dir(p.state), p.saves} {
		require.NoError(t, os.Mkdir(dir, 0o755))
	}
	p.launcher(0, "install", w.live, "1.1.1", "--from", p.feed)
	w.ok("add", "quay", w.live, "--scratch", "logs/**", "--keep", "Mods/**", "--saves", p.saves)
	w.write("Mods/gulls.txt", "quiet")
	w.ok("snapshot", "1.1.1")
	w.ok(p.setting()...)
	w.ok("demo", "write", w.live, "1.3.0", "--size", "2MB")
	w.ok("snapshot", "1.3.0")
	w.ok("lane", "new", "old", "--from", "1.1.1", "--yes")
	require.NoError(t, os.WriteFile(filepath.Join(p.saves, "1.sav"), []byte("first day"), 0o644))
	w.ok("saves", "backup")
	require.NoError(t, os.WriteFile(filepath.Join(p.saves, "1.sav"), []byte("second day"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(p.saves, "2.sav"), []byte("another"), 0o644))
	w.ok("snapshot", "dropped")
	w.write("of-nobody.bin", strings.Repeat("nobody needs this ", 20_000))
	w.ok("snapshot", "needless")
	require.NoError(t, os.Remove(w.path("of-nobody.bin")))
	w.ok("builds", "forget", "needless", "--yes")
	w.write("readme.txt", "the player's own edit, which no snapshot has")
	p.umount()
	return p
}

func (p *power) mount(image string) {
	p.t.Helper()
	sh(p.t, "mount -o loop %s/%s %s", p.images, image, p.dir)
}

func (p *power) umount() {
	p.t.Helper()
	require.Eventually(p.t, func() bool { return exec.Command("umount", p.dir).Run() == nil }, 20*time.Second, 50*time.Millisecond)
}

func (p *power) copied(from, to string) {
	sh(p.t, "cp --reflink=always %[1]s/%[2]s %[1]s/%[3]s", p.images, from, to)
}

// contents is what the player has on the disk: every file of every install, and the saves.
func (p *power) contents() map[string]string {
	all := make(map[string]string)
	list, err := os.ReadDir(p.dir)
	require.NoError(p.t, err)
	for _, e := range list {
		if e.Name() == "home" || e.Name() == "launcher" || e.Name() == "lost+found" || e.Name() == "user" || !e.IsDir() {
			continue
		}
		for path, is := range picture(p.t, filepath.Join(p.dir, e.Name())) {
			if !strings.HasPrefix(is, "d") && !strings.HasPrefix(path, "logs/") { // folders' times change with what is in them
				all[e.Name()+"/"+path] = is
			}
		}
	}
	return all
}

// cut runs the program until it comes to a call for the nth time, and takes a copy of the
// disk as it is then. It reports false if the program ended before.
func (p *power) cut(calls string, n int, args ...string) bool {
	p.t.Helper()
	cmd := p.command(append([]string{"-g", "quay"}, args...)...)
	cmd.Dir = p.dir
	strace, err := exec.LookPath("strace")
	require.NoError(p.t, err)
	cmd.Path = strace
	cmd.Args = append([]string{"strace", "-f", "-qq", "-o", "/dev/null", "-e", "trace=" + calls, "-e", fmt.Sprintf("inject=%s:signal=STOP:when=%d", calls, n)}, append([]string{program}, cmd.Args[1:]...)...)
	cmd.Env = append(cmd.Env, "GOMAXPROCS=1")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(p.t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	child := func() string {
		b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", cmd.Process.Pid, cmd.Process.Pid))
		return strings.TrimSpace(string(b))
	}
	for {
		select {
		case <-ended:
			return false
		case <-time.After(3 * time.Millisecond):
		}
		pid := child()
		if pid == "" || strings.Contains(pid, " ") {
			continue
		}
		status, _ := os.ReadFile("/proc/" + pid + "/status")
		if strings.Contains(string(status), "State:\tT") || strings.Contains(string(status), "State:\tt") && strings.Contains(stopped(pid), "stopped") {
			p.copied("run", "cut")
			id, err := strconv.Atoi(pid)
			require.NoError(p.t, err)
			sh(p.t, "kill -KILL %d", id)
			<-ended
			return true
		}
	}
}

// stopped tells whether every thread of a process waits.
func stopped(pid string) string {
	tasks, _ := filepath.Glob("/proc/" + pid + "/task/*/stat")
	for range 3 {
		for _, task := range tasks {
			b, err := os.ReadFile(task)
			if err != nil || !strings.Contains(string(b), ") t ") && !strings.Contains(string(b), ") T ") {
				return ""
			}
		}
		time.Sleep(5 * time.Millisecond)
	}
	return "stopped"
}

func TestPowerIsLostAtAnyMoment(t *testing.T) {
	for _, mkfs := range []string{"mkfs.ext4 -q -F", "mkfs.xfs -q"} {
		t.Run(strings.Fields(mkfs)[0], func(t *testing.T) {
			p := newPower(t, mkfs)
			r := rand.New(rand.NewPCG(seedOf(t), 1))
			operations := [][]string{
				{"pin", "1.1.1", "--yes"}, {"undo", "--yes"}, {"lane", "switch", "old"}, {"lane", "new", "third", "--from", "1.1.1", "--yes"},
				{"lane", "rename", "old", "older"}, {"snapshot", "fresh"}, {"store", "trim", "--yes"}, {"saves", "restore", "1", "--yes"},
			}
			before, after := make([]map[string]string, len(operations)), make([]map[string]string, len(operations))
			p.copied("template", "ready")
			for i, op := range operations {
				image := "ready"
				if op[0] == "undo" {
					// Something to take back.
					p.copied("template", "pinned")
					p.mount("pinned")
					require.Equal(t, 0, p.outsideRun("-g", "quay", "pin", "1.1.1", "--yes").code)
					p.umount()
					image = "pinned"
				}
				p.copied(image, "run")
				p.mount("run")
				before[i] = p.contents()
				r := p.outsideRun(append([]string{"-g", "quay"}, op...)...)
				require.Equal(t, 0, r.code, "%v: %s", op, r.err)
				after[i] = p.contents()
				p.umount()
			}
			kinds := []string{"fsync,fdatasync,syncfs", "renameat,renameat2", "pwrite64", "unlinkat", "mkdirat", "openat"}
			taken := 0
			for tries := 0; taken < images(); tries++ {
				require.Less(t, tries, 40*images(), "no moment comes")
				i := tries % len(operations)
				op, calls := operations[i], kinds[r.IntN(len(kinds))]
				most := 25
				if calls == "openat" || calls == "pwrite64" {
					most = 120
				}
				n := 1 + r.IntN(most)
				image := "ready"
				if op[0] == "undo" {
					image = "pinned"
				}
				p.copied(image, "run")
				p.mount("run")
				cut := p.cut(calls, n, op...)
				p.umount()
				if !cut {
					continue
				}
				taken++
				where := fmt.Sprintf("%v, power lost at %s %d", op, calls, n)
				p.mount("cut")
				// The next command, whatever it is, and then everything is checked.
				status := p.outsideRun("-g", "quay", "status")
				require.Contains(t, []int{0, 3}, status.code, "%s: %s", where, status.err)
				now := p.contents()
				if !maps.Equal(before[i], now) && !maps.Equal(after[i], now) {
					require.Equal(t, before[i], now, "%s: neither as before nor as after: %s", where, status.err)
				}
				check := p.outsideRun("-g", "quay", "store", "check")
				require.Equal(t, 0, check.code, "%s: %s%s", where, check.out, check.err)
				list := p.outsideRun("-g", "quay", "--json", "lane", "list")
				require.Equal(t, 0, list.code, "%s: %s", where, list.err)
				require.NotContains(t, list.out, `"error"`, where)
				for _, label := range []string{"1.1.1", "1.3.0", "dropped"} {
					out := filepath.Join(p.dir, "out-"+label+".zip")
					e := p.outsideRun("-g", "quay", "export", "snapshot/"+label, out)
					require.Equal(t, 0, e.code, "%s: %s", where, e.err)
				}
				again := p.outsideRun("-g", "quay", "lane", "switch", "main")
				require.Equal(t, 0, again.code, "%s: %s", where, again.err)
				p.umount()
			}
			t.Logf("%d images", taken)
		})
	}
}
