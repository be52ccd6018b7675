package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
)

// inFlight is the most that can be on its way, and so lost, when a fetch is cut
// off: a request's buffers for each connection.
const inFlight = 6 * (256<<10 + 256<<10)

// TestACutOffFetchGoesOnWhereItStopped stops fetches half-way and counts what the
// service sends in all.
func TestACutOffFetchGoesOnWhereItStopped(t *testing.T) {
	t.Parallel()
	onlyLong(t) // with less, nobody sees that nothing arrives twice
	dir, q := t.TempDir(), standin.Quay{Bytes: 32 << 20}
	require.NoError(t, publishFeed(dir, standin.Feed{Quay: q, Upto: "1.2.0"}))
	for name, stop := range map[string]os.Signal{"killed": os.Kill, "interrupted": os.Interrupt} {
		t.Run(name, func(t *testing.T) {
			m := newMarketOf(t, "0.9.0", &standin.Service{Dir: dir}, q)
			m.ok("feed", "add", m.address)
			args := []string{"fetch", "1.2.0", "--component", "base", "--component", "voices-en", "--component", "voices-fr"}
			plan := m.json(0, append(args, "--dry-run")...)
			total := int64(plan["fetch_bytes"].(float64))
			require.Greater(t, total, int64(2*inFlight))
			m.service.Misbehave(standin.Faults{Slow: 2 << 20})
			for stops := 1; stops <= 2; stops++ {
				cmd := m.command(args...)
				var out bytes.Buffer
				cmd.Stdout, cmd.Stderr = &out, &out
				require.NoError(t, cmd.Start())
				goal := total * int64(stops) / 3
				require.Eventually(t, func() bool { return m.service.Stats().Bytes > goal }, 30*time.Second, 10*time.Millisecond, "%s", &out)
				require.NoError(t, cmd.Process.Signal(stop))
				err := cmd.Wait()
				require.Error(t, err)
				if stop == os.Interrupt {
					require.Contains(t, out.String(), "the next run goes on from here")
				}
			}
			m.service.Misbehave(standin.Faults{})
			rest := int64(m.json(0, append(args, "--dry-run")...)["fetch_bytes"].(float64))
			m.ok(args...)
			require.Less(t, m.service.Stats().Bytes, total+total/20+2*inFlight)
			if stop == os.Interrupt {
				require.Less(t, rest, total*2/3, "what has arrived is counted as here")
			}
			m.ok("store", "check")
			left, err := filepath.Glob(filepath.Join(m.home, "store", "packs", "open-*"))
			require.NoError(t, err)
			require.Empty(t, left)
			require.NoError(t, m.service.Close())
			m.ok("pin", "1.2.0", "--component", "base", "--component", "voices-en", "--component", "voices-fr", "--yes")
			m.isBuild("1.2.0", "base", "voices-en", "voices-fr")
		})
	}
}

// TestSigningInAtATerminal types into a real terminal and looks for echoes.
func TestSigningInAtATerminal(t *testing.T) {
	t.Parallel()
	m := signingMarket(t)
	account := standin.HarbourAccount()
	cmd := m.command("feed", "sign-in")
	terminal, err := pty.Start(cmd)
	require.NoError(t, err)
	defer terminal.Close()
	seen := &screen{}
	go seen.watch(terminal)
	answer := func(prompt, text string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(seen.text(), prompt) }, 20*time.Second, 10*time.Millisecond, "%s", seen.text())
		seen.clear()
		_, err := io.WriteString(terminal, text+"\n")
		require.NoError(t, err)
	}
	code := func(at time.Time) string {
		c, err := account.Code(at)
		require.NoError(t, err)
		return c
	}
	answer("Name at 127.0.0.1", standin.Harbour)
	answer("Password for ada", account.Password)
	answer("One-time code", code(time.Now().Add(-2*time.Minute)))
	answer("has expired; enter the next one", code(time.Now()))
	if err := cmd.Wait(); err != nil {
		// The code changed just then; the question is asked again, and the
		// terminal goes with the program.
		require.Contains(t, seen.all(), "expired")
	} else {
		require.Contains(t, m.ok("feed", "list").out, "as ada")
	}
	for _, secret := range []string{account.Password, code(time.Now())} {
		require.NotContains(t, seen.all(), secret, "secrets are not shown")
	}
}

// screen is what a terminal has shown.
type screen struct {
	mu        sync.Mutex
	now, past strings.Builder
}

func (s *screen) watch(r io.Reader) {
	buf := make([]byte, 4096)
	for {
		n, err := r.Read(buf)
		s.mu.Lock()
		s.now.Write(buf[:n])
		s.past.Write(buf[:n])
		s.mu.Unlock()
		if err != nil {
			return
		}
	}
}

func (s *screen) text() string { s.mu.Lock(); defer s.mu.Unlock(); return s.now.String() }
func (s *screen) all() string  { s.mu.Lock(); defer s.mu.Unlock(); return s.past.String() }
func (s *screen) clear()       { s.mu.Lock(); defer s.mu.Unlock(); s.now.Reset() }

// startNginx serves a folder with a plain web server, and returns its address.
func startNginx(t *testing.T, dir string) string {
	t.Helper()
	nginx, err := exec.LookPath("nginx")
	if err != nil {
		if _, err := os.Stat("/usr/sbin/nginx"); err != nil {
			t.Skip("nginx is not installed")
		}
		nginx = "/usr/sbin/nginx"
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close())
	work := t.TempDir()
	config := filepath.Join(work, "nginx.conf")
	user := ""
	if os.Getuid() == 0 {
		user = "user root;"
	}
	require.NoError(t, os.WriteFile(config, []byte(fmt.Sprintf(`%s
daemon off; worker_processes 1; pid %[2]s/pid; error_log %[2]s/error.log;
events { worker_connections 64; }
http {
	access_log %[2]s/access.log;
	client_body_temp_path %[2]s/a; proxy_temp_path %[2]s/b; fastcgi_temp_path %[2]s/c; uwsgi_temp_path %[2]s/d; scgi_temp_path %[2]s/e;
	server { listen %[3]s; root %[4]s; }
}
`, user, work, address, dir)), 0o644))
	cmd := exec.Command(nginx, "-c", config, "-p", work, "-e", filepath.Join(work, "error.log"))
	var out bytes.Buffer
	cmd.Stderr = &out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
	})
	require.Eventually(t, func() bool {
		resp, err := http.Get("http://" + address + "/feed.json")
		if err != nil {
			return false
		}
		resp.Body.Close()
		return resp.StatusCode == http.StatusOK
	}, 20*time.Second, 20*time.Millisecond, "%s", &out)
	return "http://" + address
}

func TestAnyWebServerCanServeAFeed(t *testing.T) {
	t.Parallel()
	dir, err := publishedFeed()
	require.NoError(t, err)
	m := newMarket(t, "1.3.0")
	address := startNginx(t, dir)
	m.ok("feed", "add", address)
	require.Contains(t, m.ok("feed", "refresh").out, "Nothing new", "and asks only what has changed")
	m.ok("pin", "1.1.1", "--yes")
	m.isBuild("1.1.1", "base", "voices-en")
}

// TestAKilledPublisherLeavesAFeedThatHolds kills a publisher at every call that
// changes the folder, and expects that a reader finds everything that is named.
func TestAKilledPublisherLeavesAFeedThatHolds(t *testing.T) {
	t.Parallel()
	onlyLong(t)
	canTrace(t)
	w := newWorld(t)
	q := standin.Quay{Bytes: 1 << 20}
	require.NoError(t, q.Write(w.live, "1.1.0"))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.1.0")
	feed, kept := filepath.Join(w.dir, "feed"), filepath.Join(w.dir, "kept")
	parts := []string{"--component", "voices=voices/**", "--component", "base"}
	w.ok(append([]string{"publish", feed, "1.1.0", "--feed", "mine"}, parts...)...)
	require.NoError(t, q.Write(w.live, "1.2.0"))
	w.ok("snapshot", "1.2.0")
	require.NoError(t, os.CopyFS(kept, os.DirFS(feed)))
	c := &crashWorld{world: w}
	publish := append([]string{"publish", feed, "1.2.0"}, parts...)
	for _, calls := range []string{"renameat,renameat2,rename", "fsync,fdatasync", "pwrite64", "openat"} {
		kills := 0
		for n := 1; ; n += stride(n) {
			require.NoError(t, os.RemoveAll(feed))
			require.NoError(t, os.CopyFS(feed, os.DirFS(kept)))
			if !c.killed(calls, n, publish...) {
				break
			}
			kills++
			where := fmt.Sprintf("killed at %s %d", calls, n)
			reader := filepath.Join(w.dir, "reader")
			require.NoError(t, os.RemoveAll(reader))
			r := w.finish(readerOf(w, reader, "--yes", "add", "quay", w.live))
			require.Equal(t, 0, r.code, r.err)
			r = w.finish(readerOf(w, reader, "feed", "add", feed))
			if r.code != 0 {
				// Between the exchange of a file and that of its signature: the
				// next publisher ends it.
				require.Contains(t, r.err, "the signature does not fit", where)
			} else {
				for _, label := range labelsOf(t, w, reader) {
					r = w.finish(readerOf(w, reader, "fetch", label))
					require.Equal(t, 0, r.code, "%s: %s", where, r.err)
				}
			}
			w.ok(publish...)
			r = w.finish(readerOf(w, reader, "feed", "remove", "mine", "--yes"))
			r = w.finish(readerOf(w, reader, "feed", "add", feed))
			require.Equal(t, 0, r.code, "%s: %s", where, r.err)
			r = w.finish(readerOf(w, reader, "fetch", "1.2.0"))
			require.Equal(t, 0, r.code, "%s: %s", where, r.err)
		}
		require.Positive(t, kills, calls)
		t.Logf("publish: %d kills at %s", kills, calls)
	}
}

// readerOf prepares a run of somebody who reads the feed.
func readerOf(w *world, home string, args ...string) *exec.Cmd {
	cmd := w.command(args...)
	cmd.Env = append(cmd.Env, "MORVANT_HOME="+home)
	return cmd
}

func labelsOf(t *testing.T, w *world, home string) []string {
	t.Helper()
	r := w.finish(readerOf(w, home, "--json", "builds"))
	require.Equal(t, 0, r.code, r.err)
	var list struct {
		Builds []struct{ Label string }
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &list))
	var labels []string
	for _, b := range list.Builds {
		labels = append(labels, b.Label)
	}
	require.NotEmpty(t, labels)
	return labels
}
