package cli_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
)

// mounted mounts a file system for the test, or skips it with the reason.
func mounted(t *testing.T, dir string, args ...string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir, 0o755))
	if out, err := exec.Command("mount", append(args, dir)...).CombinedOutput(); err != nil {
		t.Skipf("mounting is not possible here: %s", strings.TrimSpace(string(out)))
	}
	t.Cleanup(func() {
		out, err := exec.Command("umount", dir).CombinedOutput()
		require.NoError(t, err, string(out))
	})
}

func TestAFullDiskUnderTheStoreLosesNothing(t *testing.T) {
	w := newWorld(t)
	mounted(t, w.home, "-t", "tmpfs", "-o", "size=3m", "tmpfs")
	require.NoError(t, standin.Quay{Bytes: 8 << 20}.Write(w.live, "1.0.0"))
	w.ok("add", "quay", w.live)
	before := w.picture()
	w.fails(1, "not enough free space", "snapshot", "1.0.0")
	w.fails(1, "Free some space", "snapshot", "1.0.0")
	require.Equal(t, before, w.picture())
	require.Empty(t, w.json(0, "builds")["builds"])

	require.NoError(t, exec.Command("mount", "-o", "remount,size=64m", w.home).Run())
	w.ok("snapshot", "1.0.0")
	w.ok("store", "check")
	w.ok("verify", "1.0.0")
}

func TestAFullDiskUnderTheLaneChangesNothing(t *testing.T) {
	w := newWorld(t)
	mounted(t, w.live, "-t", "tmpfs", "-o", "size=10m", "tmpfs")
	require.NoError(t, standin.Quay{Bytes: 4 << 20}.Write(w.live, "1.0.0"))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0.0")
	require.NoError(t, standin.Quay{Bytes: 4 << 20}.Write(w.live, "1.3.0"))
	filler := w.path("filler.bin")
	require.NoError(t, os.WriteFile(filler, make([]byte, 5<<20), 0o644))
	before := w.picture()
	w.fails(1, "not enough free space", "pin", "1.0.0", "--yes")
	require.Equal(t, before, w.picture())
	require.NoError(t, os.Remove(filler))
	w.ok("pin", "1.0.0", "--yes")
	w.ok("verify")
}

func TestADiskThatFillsUpWhileWritingIsTakenBack(t *testing.T) {
	canTrace(t)
	w := newCrashWorld(t)
	for n := 1; n < 12; n += 2 {
		w.restore()
		r := w.traced([]string{"pin", "1", "--clean", "--yes"}, "-P", w.path(".morvant/change/new"), "-P", w.path(".morvant/change"),
			"-e", "trace=openat,renameat,mkdirat,write,pwrite64", "-e", "inject=openat,renameat,mkdirat,write:error=ENOSPC:when="+strconv.Itoa(n))
		if r.code == 0 {
			require.Equal(t, w.after, w.picture())
			continue
		}
		require.Equal(t, 1, r.code)
		w.settled("no space at "+strconv.Itoa(n), w.before, w.after, []string{"pin", "1", "--clean", "--yes"})
	}
}

func TestAnErrorInTheMiddleIsTakenBack(t *testing.T) {
	canTrace(t)
	w := newCrashWorld(t)
	failed := 0
	for _, calls := range []string{"renameat", "unlinkat", "utimensat", "symlinkat", "syncfs", "fsync"} {
		for n := 1; n < 16; n += 2 * min(stride(1), 4) {
			w.restore()
			r := w.traced([]string{"pin", "1", "--clean", "--yes"}, "-e", "trace="+calls, "-e", "inject="+calls+":error=EIO:when="+strconv.Itoa(n))
			if r.code == 0 {
				continue
			}
			failed++
			if strings.Contains(r.err, "could not be set") {
				// Each thread counts on its own: it failed again on the way back, and that is said.
				require.Contains(t, []int{0, 3}, w.run("status").code)
				require.NoDirExists(t, w.path(".morvant/change"))
				require.Equal(t, timeless(w.before), timeless(w.picture()), "EIO from %s %d", calls, n)
				continue
			}
			w.settled("EIO from "+calls+" "+strconv.Itoa(n), w.before, w.after, []string{"pin", "1", "--clean", "--yes"})
		}
	}
	require.Greater(t, failed, 3) // how often a call is made differs from run to run
}

// timeless is a picture without the times of folders.
func timeless(picture map[string]string) map[string]string {
	out := make(map[string]string)
	for p, is := range picture {
		if is[0] == 'd' {
			is, _, _ = strings.Cut(is, " ")
		}
		out[p] = is
	}
	return out
}

func TestAFileThatCannotBeReadIsNamedAndNothingIsRecorded(t *testing.T) {
	canTrace(t)
	w := newWorld(t)
	w.write("good.txt", "good")
	w.write("bad.bin", strings.Repeat("x", 5000))
	w.ok("add", "quay", w.live)
	r := w.traced([]string{"snapshot", "1"}, "-P", w.path("bad.bin"), "-e", "trace=read", "-e", "inject=read:error=EIO")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "read bad.bin: input/output error")
	require.Empty(t, w.json(0, "builds")["builds"])
}

func TestReflinksShareWhatStays(t *testing.T) {
	w := newWorld(t)
	image := filepath.Join(w.dir, "xfs.img")
	require.NoError(t, os.WriteFile(image, nil, 0o644))
	require.NoError(t, os.Truncate(image, 400<<20))
	if out, err := exec.Command("mkfs.xfs", "-q", "-m", "reflink=1", image).CombinedOutput(); err != nil {
		t.Skipf("no XFS with reflinks can be made here: %v %s", err, out)
	}
	mounted(t, w.live, "-o", "loop", image)
	content := make([]byte, 64<<20)
	state := uint64(1)
	for i := range content {
		state = state*6364136223846793005 + 1442695040888963407
		content[i] = byte(state >> 56)
	}
	require.NoError(t, os.WriteFile(w.path("big.pak"), content, 0o644))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	recorded := w.picture()
	copy(content[20<<20:], "edited in the middle")
	content = append(content, "appended"...)
	require.NoError(t, os.WriteFile(w.path("big.pak"), content, 0o644))
	w.ok("snapshot", "2")
	cmd := w.command("pin", "1", "--yes")
	trace := filepath.Join(w.dir, "trace")
	cmd.Args = append([]string{"strace", "-f", "-qq", "-o", trace, "-e", "trace=ioctl", program}, cmd.Args[1:]...)
	cmd.Path, _ = exec.LookPath("strace")
	if cmd.Path == "" {
		t.Skip("strace is not installed")
	}
	// What was shared is seen by the call: once the old file is gone, nothing
	// tells the new one's blocks apart.
	require.Equal(t, 0, w.finish(cmd).code)
	calls, err := os.ReadFile(trace)
	require.NoError(t, err)
	require.Contains(t, string(calls), "FICLONERANGE")
	require.NotContains(t, string(calls), "EOPNOTSUPP")
	require.Equal(t, recorded["big.pak"], w.picture()["big.pak"])
	w.ok("verify")

	w.ok("undo", "--yes")
	require.Equal(t, content, []byte(w.read("big.pak")))
}

func TestSpecialFilesAreLeftAloneAndNamed(t *testing.T) {
	w := newWorld(t)
	w.write("a.txt", "a")
	require.NoError(t, syscall.Mkfifo(w.path("pipe"), 0o644))
	l, err := net.Listen("unix", w.path("socket"))
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, os.Symlink("loop-b", w.path("loop-a")))
	require.NoError(t, os.Symlink("loop-a", w.path("loop-b")))
	require.NoError(t, os.Symlink("/", w.path("everything")))
	if os.Getuid() == 0 {
		require.NoError(t, syscall.Mknod(w.path("null"), syscall.S_IFCHR|0o644, 1<<8|3))
	}
	w.ok("add", "quay", w.live)
	r := w.ok("snapshot", "1")
	for _, words := range []string{"pipe is a named pipe", "socket is a socket"} {
		require.Contains(t, r.err, words)
	}
	require.Contains(t, r.out, "1 link out of the folder is recorded for this computer alone")
	require.NoError(t, os.Remove(w.path("loop-a")))
	w.ok("pin", "1", "--exact", "--yes")
	target, err := os.Readlink(w.path("loop-a"))
	require.NoError(t, err)
	require.Equal(t, "loop-b", target)
	_, err = os.Lstat(w.path("pipe"))
	require.NoError(t, err)
}

func TestNamesThatCannotBeRecordedStopASnapshot(t *testing.T) {
	w := newWorld(t)
	w.write("a.txt", "a")
	w.ok("add", "quay", w.live)
	for _, name := range []string{"bad\xffname", "a:b", "back\\slash", "CON", "dot.", "tab\there"} {
		require.NoError(t, os.WriteFile(filepath.Join(w.live, name), nil, 0o644))
		w.fails(1, "some file names cannot be recorded", "snapshot")
		w.fails(1, "Rename these files", "snapshot")
		require.NoError(t, os.Remove(filepath.Join(w.live, name)))
	}
	require.NoError(t, os.Mkdir(w.path("odd"), 0o755))
	require.NoError(t, os.WriteFile(w.path("odd")+"/a:b", nil, 0o644))
	w.ok("game", "set", "--scratch", "odd/**")
	w.ok("snapshot", "1")
}

func TestLongAndNearlyEqualNamesComeBack(t *testing.T) {
	w := newWorld(t)
	long := strings.Repeat(strings.Repeat("n", 120)+"/", 5) + "file.txt"
	w.write(long, "deep")
	w.write("Readme.txt", "one")
	w.write("README.TXT", "two")
	w.write("ünï/çødé 名前.txt", "three")
	w.age()
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	recorded := w.picture()
	require.NoError(t, os.RemoveAll(w.path(strings.Repeat("n", 120))))
	require.NoError(t, os.RemoveAll(w.path("ünï")))
	require.NoError(t, os.Remove(w.path("README.TXT")))
	w.ok("pin", "1", "--yes")
	require.Equal(t, recorded, w.picture())
}

func TestAFolderThatIgnoresCaseRefusesWhatItCannotHold(t *testing.T) {
	w := newWorld(t)
	image := filepath.Join(w.dir, "fat.img")
	require.NoError(t, os.WriteFile(image, nil, 0o644))
	require.NoError(t, os.Truncate(image, 40<<20))
	if out, err := exec.Command("mkfs.vfat", image).CombinedOutput(); err != nil {
		t.Skipf("no FAT file system can be made here: %v %s", err, out)
	}
	w.write("Readme.txt", "one")
	w.write("README.TXT", "two")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	fat := filepath.Join(w.dir, "fat")
	mounted(t, fat, "-o", "loop", image)
	w.ok("game", "set", "--live", fat)
	w.live = fat
	w.fails(1, "whose names differ only by case", "pin", "1", "--yes")
}

func TestAFetchThatHasNoRoomIsRefusedBeforeItBegins(t *testing.T) {
	m := newMarket(t, "0.9.0")
	small := filepath.Join(m.dir, "small")
	mounted(t, small, "-t", "tmpfs", "-o", "size=2m", "tmpfs")
	m.home = small
	m.ok("add", "quay", m.live)
	m.ok("feed", "add", m.address)
	before := m.picture()
	for _, args := range [][]string{{"fetch", "1.2.0"}, {"pin", "1.2.0", "--yes"}} {
		r := m.run(args...)
		require.Equal(t, 1, r.code)
		require.Contains(t, r.err, "not enough free space in "+small)
		require.Zero(t, m.service.Stats().Packs)
		require.Equal(t, before, m.picture())
	}
}
