package feed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/catalogue"
	"morvant/internal/progress"
)

// mirrored is a feed with several addresses: what the wire makes of them.
type mirrored struct {
	wire *Wire
	list []Source
}

func (m *mirrored) String() string { return "several" }

func (m *mirrored) get(ctx context.Context, path string, limit int64, known validators) (b []byte, is validators, err error) {
	err = m.wire.Attempt(ctx, m.list, noProgress, func(s Source) error {
		b, is, err = s.get(ctx, path, limit, known)
		return err
	})
	return b, is, err
}

func (m *mirrored) ranges(ctx context.Context, path string) (bool, error) {
	return !OnlyWhole(ctx, m.list, path), nil
}

func (m *mirrored) Open(ctx context.Context, path string, from, to int64) (body io.ReadCloser, at int64, err error) {
	err = m.wire.Attempt(ctx, m.list, noProgress, func(s Source) error {
		body, at, err = s.Open(ctx, path, from, to)
		return err
	})
	return body, at, err
}

// sourceKinds make a source of each kind out of a folder.
var sourceKinds = map[string]func(t *testing.T, dir string, w *Wire) Source{
	"folder":       func(t *testing.T, dir string, w *Wire) Source { return at(t, dir, w) },
	"file address": func(t *testing.T, dir string, w *Wire) Source { return at(t, "file://"+filepath.ToSlash(dir), w) },
	"web server":   func(t *testing.T, dir string, w *Wire) Source { return at(t, serve(t, fromFolder(t, dir)), w) },
	"web server without ranges": func(t *testing.T, dir string, w *Wire) Source {
		inner := fromFolder(t, dir)
		return at(t, serve(t, http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
			r.Header.Del("Range")
			inner.ServeHTTP(rw, r)
		})), w)
	},
	"mirror of one that fails": func(t *testing.T, dir string, w *Wire) Source {
		broken := serve(t, http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) { rw.WriteHeader(http.StatusBadGateway) }))
		return &mirrored{w, []Source{at(t, broken, w), at(t, dir, w)}}
	},
	"mirror of one that lacks it": func(t *testing.T, dir string, w *Wire) Source {
		return &mirrored{w, []Source{at(t, t.TempDir(), w), at(t, serve(t, fromFolder(t, dir)), w)}}
	},
}

func at(t *testing.T, address string, w *Wire) Source {
	t.Helper()
	s, err := newSource(address, w)
	require.NoError(t, err)
	return s
}

func serve(t *testing.T, h http.Handler) string {
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	return server.URL + "/feed/"
}

// fromFolder serves a folder as any web server would, what lies in it alone.
func fromFolder(t *testing.T, dir string) http.Handler {
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return http.StripPrefix("/feed/", http.FileServerFS(root.FS()))
}

// TestEverySourceKeepsTheSameContract: whatever a feed is read from, the answers are the same.
func TestEverySourceKeepsTheSameContract(t *testing.T) {
	for name, kind := range sourceKinds {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			around := t.TempDir()
			dir := filepath.Join(around, "feed")
			put := func(path, content string) {
				file := filepath.Join(dir, filepath.FromSlash(path))
				require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
				require.NoError(t, os.WriteFile(file, []byte(content), 0o644))
			}
			content := strings.Repeat("cargo and tides ", 1000)
			put("packs/a.pack", content)
			require.NoError(t, os.WriteFile(filepath.Join(around, "secret"), []byte("secret"), 0o600))
			w := newWire(Options{Meter: progress.None{}, Now: time.Now, Silence: 5 * time.Second})
			w.Rounds = 1 // how often it tries is another matter
			t.Cleanup(w.Close)
			s := kind(t, dir, w)
			ctx := t.Context()

			size := int64(len(content))
			b, known, err := s.get(ctx, "packs/a.pack", size, validators{})
			require.NoError(t, err, "just as large as it may be")
			require.Equal(t, content, string(b))
			_, _, err = s.get(ctx, "packs/a.pack", size-1, validators{})
			require.ErrorIs(t, err, ErrHostile)
			_, _, err = s.get(ctx, "packs/a.pack", size, known)
			require.ErrorIs(t, err, errUnchanged)
			put("packs/a.pack", content+"more")
			later := time.Now().Add(time.Hour)
			require.NoError(t, os.Chtimes(filepath.Join(dir, "packs", "a.pack"), later, later))
			b, _, err = s.get(ctx, "packs/a.pack", size+4, known)
			require.NoError(t, err, "what has changed is read, whatever was known")
			require.Equal(t, content+"more", string(b))

			for _, part := range [][2]int64{{0, 1}, {0, size}, {7, 7000}, {size - 1, size}, {size, size + 4}} {
				got := read(t, s, "packs/a.pack", part[0], part[1])
				require.Equal(t, (content + "more")[part[0]:part[1]], got, "%v", part)
			}
			for _, missing := range []string{"packs/b.pack", "nothing/at/all"} {
				_, _, err = s.get(ctx, missing, 10, validators{})
				require.ErrorIs(t, err, ErrMissing, missing)
				_, _, err = s.Open(ctx, missing, 0, 10)
				require.ErrorIs(t, err, ErrMissing, missing)
			}
			for _, out := range []string{"../secret", "packs/../../secret"} {
				b, _, err = s.get(ctx, out, 100, validators{})
				require.Error(t, err, out)
				require.NotContains(t, string(b), "secret")
			}
			over, cancel := context.WithCancel(ctx)
			cancel()
			_, _, err = s.get(over, "packs/a.pack", 1<<20, validators{})
			require.ErrorIs(t, err, context.Canceled)
			_, _, err = s.Open(over, "packs/a.pack", 0, 10)
			require.ErrorIs(t, err, context.Canceled)

			for i := range 300 {
				put(fmt.Sprintf("manifests/%d", i), fmt.Sprint("content of ", i))
			}
			for i := range 300 {
				b, _, err := s.get(ctx, fmt.Sprintf("manifests/%d", i), 100, validators{})
				require.NoError(t, err)
				require.Equal(t, fmt.Sprint("content of ", i), string(b))
			}
		})
	}
}

// TestALimitIsNoSilence: the time that a limit waits is not the server's.
func TestALimitIsNoSilence(t *testing.T) {
	dir := t.TempDir()
	content := strings.Repeat("tide", 20_000)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.pack"), []byte(content), 0o644))
	w := newWire(Options{Meter: progress.None{}, Now: time.Now, Silence: 100 * time.Millisecond, Limit: 100_000})
	t.Cleanup(w.Close)
	require.Equal(t, content, read(t, at(t, serve(t, fromFolder(t, dir)), w), "a.pack", 0, int64(len(content))))
}

func TestAServerThatSendsWholeFilesIsKnownByAByte(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{catalogue.FeedFile, "a.pack"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("a file of some bytes"), 0o644))
	}
	w := newWire(Options{Meter: progress.None{}, Now: time.Now, Silence: 5 * time.Second})
	t.Cleanup(w.Close)
	inner := fromFolder(t, dir)
	deaf := at(t, serve(t, http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		r.Header.Del("Range")
		inner.ServeHTTP(&noRanges{rw}, r)
	})), w)
	hears, folder := at(t, serve(t, inner), w), at(t, dir, w)
	require.True(t, OnlyWhole(t.Context(), []Source{deaf}, "a.pack"))
	for _, list := range [][]Source{{hears}, {folder}, {deaf, hears}} {
		require.False(t, OnlyWhole(t.Context(), list, "a.pack"))
	}
	require.False(t, OnlyWhole(t.Context(), []Source{deaf}, "no such file"), "nobody knows")
}

// noRanges takes back what a file server promises.
type noRanges struct{ http.ResponseWriter }

func (w *noRanges) WriteHeader(code int) {
	w.Header().Del("Accept-Ranges")
	w.ResponseWriter.WriteHeader(code)
}

// read reads a part of a file, as those do who know that a stream may begin earlier.
func read(t *testing.T, s Source, path string, from, to int64) string {
	t.Helper()
	body, start, err := s.Open(t.Context(), path, from, to)
	require.NoError(t, err)
	defer body.Close()
	require.LessOrEqual(t, start, from)
	_, err = io.CopyN(io.Discard, body, from-start)
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = io.CopyN(&out, body, to-from)
	if !errors.Is(err, io.EOF) {
		require.NoError(t, err)
	}
	return out.String()
}
