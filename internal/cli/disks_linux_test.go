package cli_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/volume"
)

// exfat mounts a fresh exFAT file system at dir, or skips the test.
func exfat(t *testing.T, dir string) {
	t.Helper()
	image := filepath.Join(t.TempDir(), "exfat.img")
	require.NoError(t, os.WriteFile(image, nil, 0o644))
	require.NoError(t, os.Truncate(image, 64<<20))
	if out, err := exec.Command("mkfs.exfat", image).CombinedOutput(); err != nil {
		t.Skipf("no exFAT can be made here: %v %s", err, out)
	}
	out, err := exec.Command("losetup", "-f", "--show", image).CombinedOutput()
	if err != nil {
		t.Skipf("no loop device here: %s", out)
	}
	device := strings.TrimSpace(string(out))
	t.Cleanup(func() { _ = exec.Command("losetup", "-d", device).Run() })
	require.NoError(t, os.MkdirAll(dir, 0o755))
	if out, err := exec.Command("mount.exfat-fuse", device, dir).CombinedOutput(); err != nil {
		t.Skipf("exFAT cannot be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", dir).Run() })
}

func TestWhatADiskCannotHoldIsSaidBeforeThePlan(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("bin/quay", "a program")
	require.NoError(t, os.Chmod(w.path("bin/quay"), 0o755))
	w.write("readme.txt", "one")
	odd := time.Date(2031, 8, 5, 9, 0, 1, 123_456_789, time.UTC)
	require.NoError(t, os.Chtimes(w.path("readme.txt"), odd, odd))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "plain")
	require.NoError(t, os.Symlink("readme.txt", w.path("link")))
	w.ok("snapshot", "links")
	require.NoError(t, os.Remove(w.path("link")))
	w.write("README.TXT", "two")
	w.ok("snapshot", "case")
	disk := filepath.Join(w.dir, "disk")
	exfat(t, disk)
	there := filepath.Join(disk, "Quay")
	require.NoError(t, os.Mkdir(there, 0o755))
	ext4 := w.live
	w.ok("game", "set", "--live", there)
	w.live = there
	w.fails(1, "it cannot hold links, and link is one", "pin", "links", "--yes")
	w.fails(1, "whose names differ only by case", "pin", "case", "--yes")
	require.Empty(t, w.picture())
	w.ok("pin", "plain", "--yes")
	w.ok("status")
	w.ok("verify")

	// What is recorded from there is the build's, and not the disk's.
	w.ok("snapshot", "from-exfat")
	w.ok("game", "set", "--live", ext4)
	w.live = ext4
	w.ok("pin", "from-exfat", "--clean", "--yes")
	info, err := os.Stat(w.path("readme.txt"))
	require.NoError(t, err)
	require.True(t, info.ModTime().Equal(odd), "%s", info.ModTime())
	require.Equal(t, os.FileMode(0o644), info.Mode().Perm())
	info, err = os.Stat(w.path("bin/quay"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o755), info.Mode().Perm())

	other := filepath.Join(disk, "other")
	require.NoError(t, os.Mkdir(other, 0o755))
	require.Contains(t, w.ok("add", "other", other).err, "it cannot hold links")
	require.Contains(t, w.ok("lane", "new", "far", "--from", "plain", "--to", filepath.Join(disk, "far"), "--linked", "--yes").err, "it cannot hold links")
	// And where the live folder is, no link can be made.
	require.NoError(t, os.WriteFile(filepath.Join(other, "a.txt"), []byte("a"), 0o644))
	w.ok("-g", "other", "snapshot", "1")
	w.fails(1, "this disk cannot hold a link to a folder", "-g", "other", "lane", "new", "linked", "--from", "1", "--to", filepath.Join(w.dir, "linked"), "--linked", "--yes")
	require.NoError(t, os.Mkdir(filepath.Join(other, "Mods"), 0o755))
	w.fails(1, "this disk cannot hold a link to a folder", "-g", "other", "lane", "share", "Mods", "--to", filepath.Join(w.dir, "mods"))
	require.DirExists(t, filepath.Join(other, "Mods"))
	w.ok("-g", "other", "status")
}

func TestAFolderIsSharedFromAnotherDisk(t *testing.T) {
	t.Parallel()
	w := newLanes(t)
	far := otherDisk(t, w.dir)
	w.write("Mods/Scenery/a.txt", "hills")
	to := filepath.Join(far, "scenery")
	colon := w.path("Mods/Scenery/12:30.txt")
	require.NoError(t, os.WriteFile(colon, []byte("a name that no manifest holds"), 0o644))
	w.fails(1, "this folder cannot be shared", "lane", "share", "Mods/Scenery", "--to", to)
	require.FileExists(t, colon)
	require.FileExists(t, w.path("Mods/Scenery/a.txt"))
	require.NoError(t, os.Remove(colon))
	w.ok("lane", "share", "Mods/Scenery", "--to", to)
	require.Equal(t, "hills", w.read("Mods/Scenery/a.txt"))
	require.FileExists(t, filepath.Join(to, "a.txt"))
	w.ok("lane", "unshare", "Mods/Scenery")
	require.Equal(t, "hills", w.read("Mods/Scenery/a.txt"))
}

// TestKilledAtAnyPointAFolderSharedFromAnotherDiskIsWhole kills the copying and the
// removing, and looks through the lane for every file.
func TestKilledAtAnyPointAFolderSharedFromAnotherDiskIsWhole(t *testing.T) {
	t.Parallel()
	onlyLong(t)
	canTrace(t)
	w := newLanes(t)
	far := otherDisk(t, w.dir)
	for _, name := range []string{"a", "b", "deep/c", "deep/er/d"} {
		w.write("Mods/Scenery/"+name, "the content of "+name)
	}
	want := contentOf(t, w.path("Mods/Scenery"), nil)
	to := filepath.Join(far, "scenery")
	template := filepath.Join(w.dir, "template")
	require.NoError(t, os.Mkdir(template, 0o755))
	require.NoError(t, exec.Command("cp", "-a", w.live, w.home, template).Run())
	share := []string{"lane", "share", "Mods/Scenery", "--to", to, "--with", "main"}
	c := &crashWorld{world: w.world}
	for _, calls := range []string{"renameat,renameat2,symlinkat", "unlinkat", "fsync,fdatasync,syncfs", "mkdirat"} {
		for n := 1; n < 300; n += 3 * stride(n) {
			require.NoError(t, os.RemoveAll(to))
			for _, dir := range []string{w.live, w.home} {
				require.NoError(t, os.RemoveAll(dir))
				require.NoError(t, exec.Command("cp", "-a", filepath.Join(template, filepath.Base(dir)), dir).Run())
			}
			if !c.killed(calls, n, share...) {
				break
			}
			where := calls + " " + string(rune('0'+n%10))
			w.ok("lane", "list")
			dir, err := filepath.EvalSymlinks(w.path("Mods/Scenery"))
			require.NoError(t, err, where)
			require.Equal(t, want, contentOf(t, dir, nil), "%s %d", calls, n)
			if dir != to {
				w.ok(share...)
			}
			require.Equal(t, want, contentOf(t, to, nil), "%s %d", calls, n)
		}
	}
}

func TestAHomeOnANetworkIsUsedByOneProcessAtATime(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "one")
	far := filepath.Join(w.dir, "far")
	if out, err := sshfs(t, far); err != nil {
		t.Skipf("no network file system can be mounted here: %s", out)
	}
	w.home = filepath.Join(far, "home")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	in := filepath.Join(w.home, "in-use")
	require.NoFileExists(t, in, "given back")
	require.NoError(t, os.WriteFile(in, []byte(`{"host":"the-other-pc","user":"ada","pid":7,"since":"2031-08-05T09:00:00Z","id":"x"}`), 0o644))
	w.fails(1, "this home is in use by ada on the-other-pc", "status")
	old := time.Now().Add(-2 * time.Minute)
	require.NoError(t, os.Chtimes(in, old, old))
	w.ok("status")
	require.NoFileExists(t, in)
	w.ok("store", "check")
	// What reads and writes at the same time does so here too.
	w.write("a.txt", "two, which nobody needs")
	w.ok("snapshot", "2")
	w.ok("pin", "1", "--yes")
	w.ok("builds", "forget", "2", "--yes")
	w.ok("history", "forget", "2999-01-01", "--yes")
	w.ok("store", "trim", "--yes")
	w.ok("snapshot", "3")
	w.ok("store", "check")
}

// otherDisk makes a folder on another file system than that of dir.
func otherDisk(t *testing.T, dir string) string {
	t.Helper()
	for _, place := range []string{"/dev/shm", "/tmp", "/var/tmp"} {
		same, err := volume.SameDisk(dir, place)
		if err != nil || same {
			continue
		}
		if far, err := os.MkdirTemp(place, "morvant-test-"); err == nil {
			t.Cleanup(func() { os.RemoveAll(far) })
			return far
		}
	}
	t.Skip("there is no other disk here")
	return ""
}

// sshfs mounts a folder of this computer over sshfs, with the server started by hand.
func sshfs(t *testing.T, dir string) ([]byte, error) {
	t.Helper()
	for _, name := range []string{"sshfs", "socat"} {
		if _, err := exec.LookPath(name); err != nil {
			return []byte(name + " is not installed"), err
		}
	}
	server := "/usr/lib/openssh/sftp-server"
	if _, err := os.Stat(server); err != nil {
		return []byte("there is no sftp-server"), err
	}
	remote := t.TempDir()
	require.NoError(t, os.MkdirAll(dir, 0o755))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	require.NoError(t, l.Close())
	serve := exec.Command("socat", "TCP-LISTEN:"+port+",bind=127.0.0.1,fork,reuseaddr", "EXEC:"+server)
	require.NoError(t, serve.Start())
	t.Cleanup(func() { _ = serve.Process.Kill(); _ = serve.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+port)
		return err == nil && c.Close() == nil
	}, 10*time.Second, 20*time.Millisecond)
	out, err := exec.Command("sshfs", "-o", "directport="+port, "127.0.0.1:"+remote, dir).CombinedOutput()
	if err == nil {
		t.Cleanup(func() { _ = exec.Command("umount", dir).Run() })
	}
	return out, err
}

// TestAnotherDiskInsideTheGamesFolderIsNamed: in one sentence, before anything is changed.
func TestAnotherDiskInsideTheGamesFolderIsNamed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.becomes("1.0")
	require.NoError(t, os.Mkdir(w.path("inner"), 0o755))
	if err := syscall.Mount("none", w.path("inner"), "tmpfs", 0, ""); err != nil {
		t.Skip("nothing can be mounted here: ", err)
	}
	t.Cleanup(func() { require.NoError(t, syscall.Unmount(w.path("inner"), 0)) })
	w.write("inner/in.txt", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	w.write("inner/in.txt", "two")
	w.becomes("1.1")
	w.ok("snapshot", "2")
	before := w.picture()
	w.fails(1, "another disk, mounted inside the game's folder", "pin", "1", "--yes")
	require.Equal(t, before, w.picture())
	w.ok("game", "set", "--keep", "inner/**")
	w.ok("pin", "1", "--yes")
	w.is("1.0")
	require.Equal(t, "two", w.read("inner/in.txt"))
}
