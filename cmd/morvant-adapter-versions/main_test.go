package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"morvant/internal/adapter"
	"morvant/internal/digest"
)

// asAdapter makes the test's own program the adapter.
const asAdapter = "LC_MORVANT_TEST_VERSIONS"

func TestMain(m *testing.M) {
	if os.Getenv(asAdapter) != "" {
		main()
		return
	}
	os.Exit(m.Run())
}

// begin starts the adapter for an address, with a folder of its own.
func begin(t *testing.T, address, folder string) (*adapter.Client, *adapter.Initialized) {
	t.Helper()
	t.Setenv(asAdapter, "1")
	self, err := os.Executable()
	require.NoError(t, err)
	c, err := adapter.Start(t.Context(), self, folder, adapter.Options{Silence: time.Minute})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, c.Close()) })
	said, err := c.Initialize(t.Context(), adapter.InitializeParams{Game: "quay", Address: address, Folder: folder})
	require.NoError(t, err, c.Log())
	return c, said
}

var old = time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC)

// versionFiles are the files of a version.
func versionFiles(name string) map[string]string {
	return map[string]string{"bin/quay.exe": "program " + name, "data/tides.txt": "tides of " + name, "readme.txt": "the same in all"}
}

func writeFiles(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for p, text := range files {
		full := filepath.Join(dir, filepath.FromSlash(p))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
		require.NoError(t, os.Chtimes(full, old, old))
	}
}

func zipOf(t *testing.T, top string, files map[string]string) []byte {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for p, text := range files {
		w, err := z.CreateHeader(&zip.FileHeader{Name: top + p, Method: zip.Deflate, Modified: old})
		require.NoError(t, err)
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}

func tarOf(t *testing.T, files map[string]string) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for p, text := range files {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: "./" + p, Size: int64(len(text)), Mode: 0o644, ModTime: old}))
		_, err := w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func gz(t *testing.T, b []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := w.Write(b)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func zst(t *testing.T, b []byte) []byte {
	var out bytes.Buffer
	w, err := zstd.NewWriter(&out)
	require.NoError(t, err)
	_, err = w.Write(b)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestAFolderOfFoldersAndArchives(t *testing.T) {
	dir, own := t.TempDir(), t.TempDir()
	writeFiles(t, filepath.Join(dir, "1.0"), versionFiles("1.0"))
	for name, b := range map[string][]byte{
		"quay 2031-08-05.zip": zipOf(t, "Cinder Quay/", versionFiles("zip")), "1.2.tar": tarOf(t, versionFiles("tar")),
		"1.3.tar.gz": gz(t, tarOf(t, versionFiles("gz"))), "1.4.tar.zst": zst(t, tarOf(t, versionFiles("zst"))), "notes.txt": []byte("no version"),
	} {
		full := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(full, b, 0o644))
		require.NoError(t, os.Chtimes(full, old, old))
	}
	c, said := begin(t, dir, own)
	require.Equal(t, "versions", said.Name)
	builds, err := c.Builds(t.Context(), channel)
	require.NoError(t, err)
	require.Len(t, builds, 5)
	dates := make(map[string]string)
	for _, b := range builds {
		dates[b.ID] = b.Date
		m, err := c.Manifest(t.Context(), b.ID, component, b.Components[0].Manifest)
		require.NoError(t, err)
		require.Len(t, m.Files, 3, b.ID)
		which := map[string]string{"1.0": "1.0", "quay 2031-08-05": "zip", "1.2": "tar", "1.3": "gz", "1.4": "zst"}[b.ID]
		var want []adapter.Want
		for _, f := range m.Files {
			text := versionFiles(which)[f.Path]
			sum := sha256.Sum256([]byte(text))
			require.Equal(t, "sha256:"+hex.EncodeToString(sum[:]), f.Digest, "%s of %s", f.Path, b.ID)
			require.Equal(t, int64(len(text)), f.Size)
			want = append(want, adapter.Want{Path: f.Path})
		}
		places, _, err := c.Content(t.Context(), adapter.ContentParams{Component: component, Manifest: b.Components[0].Manifest, Want: want}, func(string) bool { return true })
		require.NoError(t, err)
		require.Len(t, places, 3)
		for _, p := range places {
			got, err := os.ReadFile(filepath.Join(own, filepath.FromSlash(p.File)))
			require.NoError(t, err)
			require.Equal(t, versionFiles(which)[p.Path], string(got))
		}
	}
	require.Equal(t, "2031-08-05T00:00:00Z", dates["quay 2031-08-05"], "a date in the name counts")
	require.Equal(t, "2031-05-20T09:00:00Z", dates["1.0"])

	// What was handed over is cleared away, and digests are computed once.
	before := builds[0].Components[0].Manifest
	require.FileExists(t, filepath.Join(own, "known", before+".json"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "1.0", "readme.txt"), []byte("changed"), 0o644))
	_, err = c.Manifest(t.Context(), "", component, "0123")
	require.True(t, adapter.Is(err, adapter.CodeNoBuild))
	again, err := c.Builds(t.Context(), channel)
	require.NoError(t, err)
	marks := make(map[string]string)
	for _, b := range builds {
		marks[b.ID] = b.Components[0].Manifest
	}
	for _, b := range again {
		require.Equal(t, b.ID != "1.0", marks[b.ID] == b.Components[0].Manifest, "what has changed is another manifest: %s", b.ID)
	}
}

func TestAnArchiveThatLeadsElsewhereIsRefused(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "1.0.zip"), zipOf(t, "../", map[string]string{"x": "y"}), 0o644))
	c, _ := begin(t, dir, t.TempDir())
	builds, err := c.Builds(t.Context(), channel)
	require.NoError(t, err)
	_, err = c.Manifest(t.Context(), "1.0", component, builds[0].Components[0].Manifest)
	require.ErrorContains(t, err, "leads elsewhere")
}

func TestAWebIndex(t *testing.T) {
	dir, own := t.TempDir(), t.TempDir()
	writeFiles(t, filepath.Join(dir, "1.0"), versionFiles("1.0"))
	var sums bytes.Buffer
	for p, text := range versionFiles("1.0") {
		fmt.Fprintf(&sums, "%x  ./%s\n", sha256.Sum256([]byte(text)), p)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "1.0", sumsFile), sums.Bytes(), 0o644))
	large := versionFiles("zip")
	noise := make([]byte, 6<<20) // what is not wanted is not read
	digest.Expand("noise", noise)
	large["data/large.pak"] = string(noise)
	packed := zipOf(t, "", large)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "1.1.zip"), packed, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "1.2.tar.gz"), gz(t, tarOf(t, versionFiles("gz"))), 0o644))
	var sent atomic.Int64
	files := http.FileServer(http.Dir(dir))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		files.ServeHTTP(&counted{w, &sent}, r)
	}))
	defer server.Close()

	c, _ := begin(t, server.URL, own)
	builds, err := c.Builds(t.Context(), channel)
	require.NoError(t, err)
	require.Len(t, builds, 3)
	for _, b := range builds {
		mark := b.Components[0].Manifest
		m, err := c.Manifest(t.Context(), b.ID, component, mark)
		require.NoError(t, err)
		sent.Store(0)
		places, _, err := c.Content(t.Context(), adapter.ContentParams{Component: component, Manifest: mark, Want: []adapter.Want{{Path: "readme.txt"}}}, func(string) bool { return false })
		require.NoError(t, err)
		require.Len(t, places, 1)
		switch b.ID {
		case "1.0":
			require.Equal(t, server.URL+"/1.0/readme.txt", places[0].URL)
			require.Len(t, m.Files, 3, "the list of digests is no file of the version")
			for _, f := range m.Files {
				require.NotEmpty(t, f.Digest)
			}
		case "1.1":
			require.Len(t, m.Files, 4)
			require.Less(t, sent.Load(), int64(len(packed)), "a zip is read by ranges")
			require.Empty(t, m.Files[0].Digest)
			fallthrough
		default:
			got, err := os.ReadFile(filepath.Join(own, filepath.FromSlash(places[0].File)))
			require.NoError(t, err)
			require.Equal(t, "the same in all", string(got))
		}
	}
}

// counted counts what is sent.
type counted struct {
	http.ResponseWriter
	n *atomic.Int64
}

func (c *counted) Write(b []byte) (int, error) {
	c.n.Add(int64(len(b)))
	return c.ResponseWriter.Write(b)
}

func TestASevenZipArchive(t *testing.T) {
	dir, own := t.TempDir(), t.TempDir()
	b, err := os.ReadFile(filepath.FromSlash("../../internal/exchange/testdata/quay.7z"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "1.5.7z"), b, 0o644))
	c, _ := begin(t, dir, own)
	builds, err := c.Builds(t.Context(), channel)
	require.NoError(t, err)
	require.Len(t, builds, 1)
	require.Equal(t, "1.5", builds[0].Label)
	mark := builds[0].Components[0].Manifest
	m, err := c.Manifest(t.Context(), "1.5", component, mark)
	require.NoError(t, err)
	require.NotEmpty(t, m.Files)
	places, _, err := c.Content(t.Context(), adapter.ContentParams{Component: component, Manifest: mark, Want: []adapter.Want{{Path: m.Files[0].Path}}}, func(string) bool { return true })
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(own, filepath.FromSlash(places[0].File)))
	require.NoError(t, err)
	require.Equal(t, m.Files[0].Digest, fmt.Sprintf("sha256:%x", sha256.Sum256(got)))
}
