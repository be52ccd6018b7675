package cli_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// soon runs the program and fails the test if it waits.
func (w *world) soon(args ...string) result {
	w.t.Helper()
	cmd := w.command(args...)
	timer := time.AfterFunc(30*time.Second, func() { cmd.Process.Kill() })
	defer timer.Stop()
	r := w.finish(cmd)
	require.NotEqual(w.t, -1, r.code, "%v waits", args)
	return r
}

// TestNothingThatIsNoFileIsWaitedFor: what a player names, and what somebody else may have put there.
func TestNothingThatIsNoFileIsWaitedFor(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0")
	w.ok("pin", "1.0")
	fifo, socket := filepath.Join(w.dir, "fifo"), filepath.Join(w.dir, "s")
	require.NoError(t, syscall.Mkfifo(fifo, 0o600))
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer listener.Close()
	for _, odd := range []string{fifo, socket, "/dev/zero", w.dir} {
		for _, args := range [][]string{{"pinfile", "show", odd}, {"pinfile", "apply", odd, "--yes"}, {"builds", "names", "add", odd}, {"compare-with", odd}, {"mods", "take", odd, w.dir}, {"import", odd, "x"}, {"pinfile", "write", odd, "--force"}} {
			if odd == w.dir && (args[0] == "import" || args[0] == "compare-with") {
				continue // a folder can be imported
			}
			r := w.soon(args...)
			require.NotZero(t, r.code, args)
			require.Equal(t, 1, strings.Count(strings.TrimSpace(r.err), "\n")+1, "%v: %s", args, r.err)
		}
	}
	// What a shell puts in the place of a file is read.
	w.ok("pinfile", "write", filepath.Join(w.dir, "quay.pin.toml"))
	cmd := exec.Command("bash", "-c", program+" pinfile show <(cat "+filepath.Join(w.dir, "quay.pin.toml")+") && cat "+filepath.Join(w.dir, "quay.pin.toml")+" | "+program+" pinfile show /dev/stdin")
	cmd.Env, cmd.Dir = w.command().Env, w.live
	r := w.finish(cmd)
	require.Equal(t, 0, r.code, r.err)
	require.GreaterOrEqual(t, strings.Count(r.out, "1.0"), 2, r.out)
}

// TestALockThatIsALinkOrAPipeIsRefused: nothing is made elsewhere, and nobody waits.
func TestALockThatIsALinkOrAPipeIsRefused(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0")
	feed := filepath.Join(w.dir, "feed")
	w.ok("publish", feed, "1.0", "--feed", "mine")
	lock, elsewhere := filepath.Join(feed, ".publish.lock"), filepath.Join(w.dir, "elsewhere")
	require.NoError(t, os.Remove(lock))
	require.NoError(t, os.Symlink(elsewhere, lock))
	r := w.soon("publish", feed, "1.0")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "not a regular file")
	require.NoFileExists(t, elsewhere)
	require.NoError(t, os.Remove(lock))
	require.NoError(t, syscall.Mkfifo(lock, 0o600))
	r = w.soon("publish", feed, "1.0")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "not a regular file")
}

// TestSavesBehindALinkAreAskedAbout: when the place is set, and before it is emptied.
func TestSavesBehindALinkAreAskedAbout(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "one")
	profile := filepath.Join(w.dir, "profiles", "ada")
	require.NoError(t, os.MkdirAll(filepath.Join(profile, "Saves"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(profile, "Saves", "1.sav"), []byte("a save"), 0o644))
	link := filepath.Join(w.dir, "current")
	require.NoError(t, os.Symlink(profile, link))
	place := filepath.Join(link, "Saves")
	w.fails(4, place+" leads to "+filepath.Join(profile, "Saves")+" by a link", "add", "quay", w.live, "--saves", place)
	w.ok("add", "quay", w.live)
	w.fails(4, "by a link", "game", "set", "--saves", place)
	w.ok("game", "set", "--saves", place, "--yes")
	r := w.run("saves", "stash")
	require.Equal(t, 4, r.code)
	require.Contains(t, r.err, place+" leads to "+filepath.Join(profile, "Saves")+" by a link: that folder is emptied")
	require.FileExists(t, filepath.Join(profile, "Saves", "1.sav"))
	w.ok("saves", "stash", "--yes")
	require.NoFileExists(t, filepath.Join(profile, "Saves", "1.sav"))
	w.ok("saves", "restore", "--yes")
	require.FileExists(t, filepath.Join(profile, "Saves", "1.sav"))
}

// TestWhatDiffersByLetterCaseStaysTwo where the disk tells it apart.
func TestWhatDiffersByLetterCaseStaysTwo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("add", "quay", w.live)
	pack := func(name string, files map[string]string) string {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for p, text := range files {
			f, err := z.Create(p)
			require.NoError(t, err)
			_, err = f.Write([]byte(text))
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
		file := filepath.Join(w.dir, name)
		require.NoError(t, os.WriteFile(file, b.Bytes(), 0o644))
		return file
	}
	one, two := pack("one.zip", map[string]string{"README": "one", "a.txt": "a"}), pack("two.zip", map[string]string{"readme": "two"})
	w.ok("import", one, two, "both", "--yes")
	w.ok("pin", "both", "--yes")
	require.Equal(t, "one", w.read("README"))
	require.Equal(t, "two", w.read("readme"))
	// To a game for which both are one, they are one.
	w.ok("unpin", "--stay", "--yes")
	w.ok("game", "set", "--ignore-case")
	w.ok("import", one, two, "joined", "--yes")
	require.Equal(t, 2.0, w.json(0, "builds", "--find", "joined")["builds"].([]any)[0].(map[string]any)["files"])
}

// TestLinksOutOfThePartThatIsTakenAreNamed and counted.
func TestLinksOutOfThePartThatIsTakenAreNamed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("add", "quay", w.live)
	var b bytes.Buffer
	z := tar.NewWriter(&b)
	for _, name := range []string{"top/game/a.txt", "top/shared/b.txt"} {
		require.NoError(t, z.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644, Size: 1}))
		_, err := z.Write([]byte("x"))
		require.NoError(t, err)
	}
	for name, target := range map[string]string{"top/game/in": "a.txt", "top/game/out": "../shared/b.txt"} {
		require.NoError(t, z.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeSymlink, Linkname: target}))
	}
	require.NoError(t, z.Close())
	file := filepath.Join(w.dir, "top.tar")
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o644))
	r := w.ok("import", file, "part", "--inside", "top/game")
	require.Contains(t, r.err, "links to what is outside of the part that is taken are left out: 1, such as out to ../shared/b.txt")
	w.ok("pin", "part", "--yes")
	target, err := os.Readlink(w.path("in"))
	require.NoError(t, err)
	require.Equal(t, "a.txt", target)
	require.NoFileExists(t, w.path("out"))
}

// TestAWriteThroughAMemoryMapIsSeen at the next look, also while the file is still mapped.
func TestAWriteThroughAMemoryMapIsSeen(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	disk, err := os.MkdirTemp("/var/tmp", "morvant-map-") // a file system in memory tells of no such write
	if err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() { os.RemoveAll(disk) })
	w.live = filepath.Join(disk, "Quay")
	w.write("data/a.pak", strings.Repeat("content ", 4096))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.ok("pin", "1", "--yes")
	before, err := os.Stat(w.path("data/a.pak"))
	require.NoError(t, err)
	f, err := os.OpenFile(w.path("data/a.pak"), os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	m, err := unix.Mmap(int(f.Fd()), 0, 4096, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	require.NoError(t, err)
	m[100] = 'X'
	if now, err := os.Stat(w.path("data/a.pak")); err != nil || now.ModTime().Equal(before.ModTime()) {
		t.Skip("this file system does not tell of writes through a memory map")
	}
	require.Equal(t, 3, w.run("status").code)
	require.NoError(t, unix.Munmap(m))
	require.NoError(t, f.Close())
	w.ok("verify", "--repair", "--yes")
	require.Equal(t, strings.Repeat("content ", 4096), w.read("data/a.pak"))
}
