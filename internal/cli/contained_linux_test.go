package cli_test

import (
	"archive/tar"
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
)

// lingering writes an adapter that starts programs of several kinds, and waits for ever.
func lingering(t *testing.T, dir string) (program, pids string) {
	program, pids = filepath.Join(dir, "lingering"), filepath.Join(dir, "pids")
	require.NoError(t, os.WriteFile(program, []byte(fmt.Sprintf(`#!/bin/sh
env > %[1]q.env
sleep 1000 & echo $! >> %[1]q
setsid sleep 1001 & echo $! >> %[1]q
(setsid sh -c 'sleep 1002 & echo $! >> %[1]s; exit' </dev/null >/dev/null 2>&1 &)
echo $$ >> %[1]q
touch %[1]q.ready
exec sleep 1003
`, pids)), 0o755))
	return program, pids
}

// alive lists the processes of a file that still run.
func alive(t *testing.T, pids string) (list []string) {
	b, err := os.ReadFile(pids)
	require.NoError(t, err)
	for _, pid := range strings.Fields(string(b)) {
		stat, err := os.ReadFile("/proc/" + pid + "/stat")
		if err == nil && !bytes.Contains(stat, []byte(") Z ")) {
			list = append(list, pid)
		}
	}
	return list
}

func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	require.Eventually(t, is, 20*time.Second, 20*time.Millisecond, what)
}

// TestWhatAnAdapterStartsEndsWithIt: also what has left its group, and also where Morvant is killed.
func TestWhatAnAdapterStartsEndsWithIt(t *testing.T) {
	t.Parallel()
	for _, how := range []string{"killed", "interrupted", "silent"} {
		w := newWorld(t)
		w.ok("add", "quay", w.live)
		program, pids := lingering(t, w.dir)
		cmd := w.command("feed", "add", "--adapter", program, "x", "--timeout", map[bool]string{true: "1s", false: "60s"}[how == "silent"])
		cmd.Env = append(cmd.Env, "MORVANT_PASSWORD=hush", "HTTPS_PROXY=http://proxy.example", "SECRET_CODE=hush")
		var said bytes.Buffer
		cmd.Stderr = &said
		require.NoError(t, cmd.Start())
		eventually(t, how, func() bool { _, err := os.Stat(pids + ".ready"); return err == nil })
		eventually(t, how, func() bool { b, _ := os.ReadFile(pids); return len(strings.Fields(string(b))) == 4 })
		if how != "silent" {
			require.Len(t, alive(t, pids), 4, how)
		}
		switch how {
		case "killed":
			require.NoError(t, cmd.Process.Kill())
		case "interrupted":
			require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
		}
		require.Error(t, cmd.Wait(), how)
		eventually(t, how, func() bool { return len(alive(t, pids)) == 0 })
		env, err := os.ReadFile(pids + ".env")
		require.NoError(t, err)
		require.NotContains(t, string(env), "hush", how)
		require.NotContains(t, string(env), "MORVANT_", how)
		require.Contains(t, string(env), "HTTPS_PROXY=http://proxy.example", how)
		require.Contains(t, string(env), "PATH=", how)
	}
}

// TestAPlaceOfUnknownLengthTakesNoMemory: a coded answer without a length is as long as it is.
func TestAPlaceOfUnknownLengthTakesNoMemory(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("/usr/bin/time"); err != nil {
		t.Skip("/usr/bin/time is not there")
	}
	s := newShelf(t)
	s.coding = "gzip"
	content := bytes.Repeat(noise("large", 16<<10), 200<<20/(16<<10))
	s.publish("1", shelfDay, map[string][]byte{"a.pak": content})
	s.told.Places["m-1"][0].Length = 0
	s.told.Manifests["m-1"].Files[0].Pieces = nil
	w := ofShelf(t, s, nil)
	cmd := w.command("fetch", "id:1")
	cmd.Args = append([]string{"time", "-f", "peak %M", program}, cmd.Args[1:]...)
	cmd.Path = "/usr/bin/time"
	r := w.finish(cmd)
	require.Equal(t, 0, r.code, r.err)
	var peak int
	_, err := fmt.Sscanf(r.err[strings.LastIndex(r.err, "peak "):], "peak %d", &peak)
	require.NoError(t, err)
	require.Less(t, peak, 160<<10, "KiB")
	w.ok("pin", "id:1", "--yes")
	require.True(t, w.read("a.pak") == string(content))
	left, err := filepath.Glob(filepath.Join(w.home, "store", ".*"))
	require.NoError(t, err)
	for _, f := range left {
		require.NotContains(t, f, "spool")
	}
}

// TestAPlaceNearerThanTheDistributorIsRefused.
func TestAPlaceNearerThanTheDistributorIsRefused(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.publish("1", shelfDay, map[string][]byte{"a": []byte("a file")})
	s.told.Places["m-1"][0].URL = "https://169.254.169.254/latest"
	w := ofShelf(t, s, nil)
	w.fails(1, "a place on this computer or its own network, where the distributor is not", "pin", "id:1", "--yes")
}

// TestAHostileArchiveIsOneSentence of the built program: it takes no more memory than it may, whatever the archive says.
func TestAHostileArchiveIsOneSentence(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("add", "quay", w.live)
	file := filepath.Join(w.dir, "bomb.7z")
	require.NoError(t, os.WriteFile(file, append([]byte("7z\xbc\xaf\x27\x1c\x00\x04"), noise("header", 4000)...), 0o644))
	r := w.run("import", file, "bomb")
	require.Equal(t, 1, r.code)
	require.Equal(t, 1, strings.Count(r.err, "\n"), r.err)
	require.NotContains(t, r.err, "goroutine")
}

// TestAnImportThatIsInterruptedSaysSo, though Ctrl-C reaches the process that unpacks as well.
func TestAnImportThatIsInterruptedSaysSo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("add", "quay", w.live)
	var b bytes.Buffer
	z := tar.NewWriter(&b)
	for i := range 20 {
		require.NoError(t, z.WriteHeader(&tar.Header{Name: fmt.Sprintf("a%d.pak", i), Typeflag: tar.TypeReg, Mode: 0o644, Size: 8 << 20}))
		_, err := z.Write(noise(fmt.Sprint(i), 8<<20))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	file := filepath.Join(w.dir, "large.tar.zst")
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, enc.EncodeAll(b.Bytes(), nil), 0o644))
	cmd := w.command("import", file, "large", "--yes")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var said bytes.Buffer
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	packs := filepath.Join(w.home, "store", "packs")
	eventually(t, "it has begun", func() bool { list, _ := os.ReadDir(packs); return len(list) > 0 })
	require.NoError(t, syscall.Kill(-cmd.Process.Pid, syscall.SIGINT)) // as a terminal does
	_ = cmd.Wait()
	require.Equal(t, 130, cmd.ProcessState.ExitCode(), said.String())
	require.NotContains(t, said.String(), "cannot be read")
	require.Empty(t, w.json(0, "builds")["builds"])
}
