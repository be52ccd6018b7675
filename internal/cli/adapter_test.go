package cli_test

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"morvant/internal/adapter"
	"morvant/internal/adapter/speak"
	"morvant/internal/digest"
	"morvant/internal/volume"
)

// shelf is a distributor of the tests' own: one build for each state of a folder, files in pieces, told by an
// adapter that is the test's own program.
type shelf struct {
	t      *testing.T
	piece  int    // bytes of a piece; 0: files are one piece
	coding string // of pieces
	alg    string // of digests; empty: none
	whole  bool   // digests of files, not of pieces
	server *httptest.Server
	mu     sync.Mutex
	bodies map[string][]byte // by path of the address
	asked  map[string]int
	cut    int // how many answers are cut in the middle
	stop   int // bytes after which an answer waits for ever; 0: none does
	bytes  int64
	told   told
	spoilt bool // the first byte of every answer is wrong
}

func newShelf(t *testing.T) *shelf {
	s := &shelf{t: t, alg: "sha256", bodies: make(map[string][]byte), asked: make(map[string]int), told: told{Manifests: make(map[string]*adapter.Manifest), Places: make(map[string][]adapter.Place)}}
	s.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		body := s.bodies[r.URL.Path]
		s.asked[r.URL.Path]++
		cut := s.cut > 0
		if cut {
			s.cut--
		}
		if s.spoilt {
			body = append([]byte{body[0] ^ 1}, body[1:]...)
		}
		s.mu.Unlock()
		if body == nil {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		if cut {
			w = &cutter{ResponseWriter: w, left: len(body) / 2}
		}
		w = &gate{ResponseWriter: w, shelf: s, gone: r.Context().Done()}
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(body))
	}))
	t.Cleanup(s.server.Close)
	return s
}

// cutter ends an answer in the middle.
type cutter struct {
	http.ResponseWriter
	left int
}

func (c *cutter) Write(b []byte) (int, error) {
	if len(b) > c.left {
		_, _ = c.ResponseWriter.Write(b[:c.left])
		http.NewResponseController(c.ResponseWriter).Flush()
		panic(http.ErrAbortHandler)
	}
	c.left -= len(b)
	return c.ResponseWriter.Write(b)
}

// gate counts what is sent, and stops where the shelf says.
type gate struct {
	http.ResponseWriter
	shelf *shelf
	gone  <-chan struct{}
	n     int
}

func (g *gate) Write(b []byte) (int, error) {
	g.shelf.mu.Lock()
	stop := g.shelf.stop
	g.shelf.mu.Unlock()
	if stop > 0 && g.n+len(b) > stop {
		_, _ = g.ResponseWriter.Write(b[:max(0, stop-g.n)])
		_ = http.NewResponseController(g.ResponseWriter).Flush()
		<-g.gone
		panic(http.ErrAbortHandler)
	}
	g.n += len(b)
	n, err := g.ResponseWriter.Write(b)
	g.shelf.mu.Lock()
	g.shelf.bytes += int64(n)
	g.shelf.mu.Unlock()
	return n, err
}

// stopAt has every answer wait for ever after so many bytes, and counts anew.
func (s *shelf) stopAt(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stop, s.bytes = n, 0
}

func (s *shelf) sent() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.bytes
}

func (s *shelf) digestOf(b []byte) string {
	if s.alg == "" {
		return ""
	}
	f, err := digest.ForeignOf(s.alg, b)
	require.NoError(s.t, err)
	return f.String()
}

// coded stores bytes as the shelf does.
func (s *shelf) coded(b []byte) []byte {
	var out bytes.Buffer
	var w interface {
		Write([]byte) (int, error)
		Close() error
	}
	var err error
	switch s.coding {
	case "zstd":
		w, err = zstd.NewWriter(&out)
	case "gzip":
		w = gzip.NewWriter(&out)
	case "deflate":
		w = zlib.NewWriter(&out)
	case "brotli":
		w = brotli.NewWriter(&out)
	case "xz":
		w, err = xz.NewWriter(&out)
	default:
		return b
	}
	require.NoError(s.t, err)
	_, err = w.Write(b)
	require.NoError(s.t, err)
	require.NoError(s.t, w.Close())
	return out.Bytes()
}

// publish makes a build of files.
func (s *shelf) publish(id string, date time.Time, files map[string][]byte) {
	var m adapter.Manifest
	var places []adapter.Place
	at := "/" + id + ".bundle"
	for _, path := range slices.Sorted(maps.Keys(files)) {
		b := files[path]
		f := adapter.File{Path: path, Size: int64(len(b))}
		if s.whole || s.piece == 0 {
			f.Digest = s.digestOf(b)
		}
		pieces := [][]byte{b}
		if s.piece > 0 {
			pieces = nil
			for len(b) > 0 {
				n := min(s.piece, len(b))
				pieces, b = append(pieces, b[:n]), b[n:]
			}
		}
		for i, piece := range pieces {
			stored := s.coded(piece)
			offset := len(s.bodies[at])
			s.bodies[at] = append(s.bodies[at], stored...)
			if s.piece > 0 {
				p := adapter.Piece{Size: int64(len(piece)), Stored: int64(len(stored))}
				if !s.whole {
					p.Digest = s.digestOf(piece)
				}
				f.Pieces = append(f.Pieces, p)
			}
			places = append(places, adapter.Place{
				Path: path, Piece: i, URL: s.server.URL + at + "?secret", Headers: map[string]string{"X-Secret": "hush"}, Offset: int64(offset), Length: int64(len(stored)), Coding: s.coding,
			})
		}
		m.Files = append(m.Files, f)
	}
	s.told.Builds = append([]adapter.Build{{ID: id, Date: date.UTC().Format(time.RFC3339), Components: []adapter.Component{{Name: "game", Manifest: "m-" + id, Required: true}}}}, s.told.Builds...)
	s.told.Manifests["m-"+id], s.told.Places["m-"+id] = &m, places
}

// told is what the adapter of a shelf tells, as its address holds it.
type told struct {
	Builds    []adapter.Build
	Manifests map[string]*adapter.Manifest
	Places    map[string][]adapter.Place
	Link      string // what a link in the adapter's folder leads to
	Expired   int    // how many answers with places are worth nothing any more
	Log       string // where each request is noted; empty: nowhere
	Dear      bool
	AtOnce    int
	Later     map[string]bool // manifests that are to be asked for later
	Scratch   bool            // content comes in files of the adapter's folder,
	Texts     map[string]string
}

// note notes a request.
func (t *told) note(what string) error {
	if t.Log == "" {
		return nil
	}
	f, err := os.OpenFile(t.Log, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(what + "\n")
	return errors.Join(err, f.Close())
}

// shelfProgram is what the adapter of shelves is called.
const shelfProgram = "morvant-adapter-shelf"

// runShelf is that adapter.
func runShelf() {
	var t told
	var folder string
	err := speak.Serve(os.Stdin, os.Stdout, speak.Methods{
		Initialize: func(_ context.Context, p adapter.InitializeParams) (*adapter.Initialized, error) {
			folder = p.Folder
			if p.Limit > 0 {
				defer func() { _ = t.note(fmt.Sprint("limit:", p.Limit)) }()
			}
			b, err := os.ReadFile(p.Address)
			if err == nil {
				err = json.Unmarshal(b, &t)
			}
			if link := filepath.Join(p.Folder, "link"); t.Link != "" && volume.Absent(lstat(link)) {
				err = errors.Join(err, os.Symlink(t.Link, link))
			}
			r := &adapter.Initialized{Protocol: 1, Name: "shelf", SignIn: "none", Channels: []adapter.Channel{{Name: "public"}}}
			if t.Dear || t.AtOnce > 0 {
				r.Protocol, r.Dear, r.AtOnce = p.Newest, t.Dear, t.AtOnce
			}
			return r, err
		},
		Builds: func(context.Context, adapter.BuildsParams) (*adapter.Builds, error) {
			return &adapter.Builds{Builds: t.Builds}, t.note("builds")
		},
		Manifest: func(_ context.Context, p adapter.ManifestParams) (*adapter.Manifest, error) {
			if err := t.note(p.Manifest); err != nil {
				return nil, err
			}
			if t.Later[p.Manifest] {
				return nil, speak.Later("the distributor is at lunch", time.Hour)
			}
			return t.Manifests[p.Manifest], nil
		},
		Done: func(d adapter.Done) {
			for _, file := range d.Files {
				_ = errors.Join(t.note("done:"+file), os.Remove(filepath.Join(folder, file)))
			}
		},
		Content: func(_ context.Context, p adapter.ContentParams) (*adapter.Content, error) {
			r := &adapter.Content{}
			if t.Scratch {
				for _, w := range p.Want {
					file := strings.ReplaceAll(w.Path, "/", "-")
					if err := os.WriteFile(filepath.Join(folder, file), []byte(t.Texts[w.Path]), 0o600); err != nil {
						return nil, err
					}
					r.Places = append(r.Places, adapter.Place{Path: w.Path, File: file})
				}
				return r, nil
			}
			if t.Expired > 0 {
				t.Expired--
				r.Expires = time.Now().Add(-time.Minute).UTC().Format(time.RFC3339)
			}
			for _, at := range t.Places[p.Manifest] {
				for _, w := range p.Want {
					if w.Path == at.Path && (w.Pieces == nil || slices.Contains(w.Pieces, at.Piece)) {
						r.Places = append(r.Places, at)
					}
				}
			}
			return r, nil
		},
	})
	if err != nil {
		os.Exit(1)
	}
	os.Exit(0)
}

// address writes what the adapter tells into a file, and returns the program and it.
func (s *shelf) address(dir string) (program, address string) {
	b, err := json.Marshal(s.told)
	require.NoError(s.t, err)
	address = filepath.Join(dir, "shelf.json")
	require.NoError(s.t, os.WriteFile(address, b, 0o600))
	self, err := os.Executable()
	require.NoError(s.t, err)
	program = filepath.Join(dir, shelfProgram)
	if runtime.GOOS == "windows" {
		program += ".exe"
	}
	if _, err := os.Lstat(program); err == nil {
		return program, address
	}
	if runtime.GOOS == "windows" || os.Symlink(self, program) != nil {
		b, err := os.ReadFile(self)
		require.NoError(s.t, err)
		require.NoError(s.t, os.WriteFile(program, b, 0o755))
	}
	return program, address
}

// noise returns reproducible bytes.
func noise(seed string, n int) []byte {
	b := make([]byte, n)
	digest.Expand(seed, b)
	return b
}

// ofShelf registers a game and adds the shelf as its feed.
func ofShelf(t *testing.T, s *shelf, files map[string][]byte) *world {
	w := newWorld(t)
	for p, b := range files {
		w.write(p, string(b))
	}
	w.ok("add", "quay", w.live)
	program, address := s.address(w.dir)
	w.ok("feed", "add", "--adapter", program, address)
	return w
}

func TestEveryCodingAndKindOfDigest(t *testing.T) {
	t.Parallel()
	files := map[string][]byte{"data/a.pak": noise("a", 300_000), "readme.txt": []byte(strings.Repeat("tides and fog\n", 1000))}
	ways := []shelf{
		{coding: "zstd", alg: "sha256", piece: 100_000}, {coding: "gzip", alg: "sha1", piece: 64_000}, {coding: "deflate", alg: "md5"}, {coding: "brotli", alg: "sha512", piece: 100_000, whole: true},
		{coding: "xz", alg: "blake3"}, {coding: "identity", alg: "sha1", piece: 1_000}, {coding: "", alg: "sha256", piece: 7_001, whole: true},
	}
	for i := range ways {
		s := newShelf(t)
		s.coding, s.alg, s.piece, s.whole = ways[i].coding, ways[i].alg, ways[i].piece, ways[i].whole
		s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), files)
		w := ofShelf(t, s, map[string][]byte{"old.txt": []byte("old")})
		r := w.ok("pin", "id:1", "--yes")
		require.Contains(t, r.out, "held at 2031-05-20")
		if s.alg == "md5" {
			require.Contains(t, r.out, "2 files are told by md5 alone")
		}
		for p, b := range files {
			got, err := os.ReadFile(w.path(p))
			require.NoError(t, err)
			require.True(t, bytes.Equal(b, got), "%s by %s and %s", p, s.coding, s.alg)
		}
		require.Contains(t, w.ok("verify").out, "every byte of it")
		require.Contains(t, w.ok("identify").out, "is 2031-05-20")
		w.ok("store", "check")
	}
}

func TestWhatNoDigestTellsNeedsAWord(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.alg = ""
	s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), map[string][]byte{"a": []byte("a file")})
	w := ofShelf(t, s, nil)
	w.fails(1, "the distributor gives no digest of it", "pin", "id:1", "--yes")
	require.Contains(t, w.ok("pin", "id:1", "--yes", "--unchecked").out, "1 file is told by no digest at all")
	require.Equal(t, "a file", w.read("a"))
}

func TestWrongBytesAreNotKept(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.piece = 1000
	s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), map[string][]byte{"a.pak": noise("a", 2500), "b.pak": noise("b", 100)})
	s.spoilt = true
	w := ofShelf(t, s, map[string][]byte{"a.pak": []byte("mine")})
	w.fails(1, "the feed sends wrong content for a.pak", "pin", "id:1", "--yes")
	require.Equal(t, "mine", w.read("a.pak"))
	s.mu.Lock()
	s.spoilt = false
	s.mu.Unlock()
	w.ok("pin", "id:1", "--yes")
	require.Equal(t, string(noise("a", 2500)), w.read("a.pak"))
}

// TestALargePieceComesInPartsThatAreKept: cut lines, and a run that is killed, cost no part twice.
func TestALargePieceComesInPartsThatAreKept(t *testing.T) {
	t.Parallel()
	for _, coding := range []string{"identity", "zstd"} {
		s := newShelf(t)
		s.coding = coding
		content := noise("large", 30<<20)
		s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), map[string][]byte{"large.pak": content})
		s.cut = 3
		w := ofShelf(t, s, nil)
		r := w.ok("fetch", "id:1")
		require.Contains(t, r.out, "is here")
		w.ok("pin", "id:1", "--yes")
		sum := sha256.Sum256([]byte(w.read("large.pak")))
		want := sha256.Sum256(content)
		require.Equal(t, hex.EncodeToString(want[:]), hex.EncodeToString(sum[:]))
	}
}

// TestPiecesOfTheInstalledBuildAreNotFetched: of a file that has changed in one piece, that piece comes.
func TestPiecesOfTheInstalledBuildAreNotFetched(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.piece, s.alg = 10_000, "sha1"
	one := noise("pak", 200_000)
	two := append(append(append([]byte{}, one[:50_000]...), noise("changed", 10_000)...), one[60_000:]...)
	s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), map[string][]byte{"data.pak": one})
	s.publish("2", time.Date(2031, 8, 5, 9, 0, 0, 0, time.UTC), map[string][]byte{"data.pak": two})
	w := ofShelf(t, s, map[string][]byte{"data.pak": one})
	r := w.ok("pin", "id:2", "--yes")
	require.Contains(t, r.out, "to fetch: 10 kB from shelf, for 1 file of 200 kB; 190 kB found in files here")
	require.Equal(t, string(two), w.read("data.pak"))
	s.mu.Lock()
	defer s.mu.Unlock()
	require.Equal(t, map[string]int{"/2.bundle": 1}, s.asked)
}

// TestABuildThatCannotBeFetchedAgainIsKept: what the lane has of it goes into the store when it is held.
func TestABuildThatCannotBeFetchedAgainIsKept(t *testing.T) {
	t.Parallel()
	files := map[string][]byte{"a.pak": noise("a", 5000), "b.txt": []byte("b")}
	s := newShelf(t)
	s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), files)
	no := false
	s.told.Builds[0].Components[0].Owned = &no
	w := ofShelf(t, s, files)
	w.ok("pin", "id:1", "--yes")
	w.write("a.pak", "an update")
	require.Contains(t, w.run("status").out, "1 file differs")
	w.ok("verify", "--repair", "--yes")
	require.Equal(t, string(files["a.pak"]), w.read("a.pak"))
	require.Empty(t, s.asked)
}

// TestASecretIsNowhereToBeSeen looks through everything that a session leaves behind.
func TestASecretIsNowhereToBeSeen(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), map[string][]byte{"a": []byte("a file")})
	w := ofShelf(t, s, nil)
	r := w.ok("--verbose", "pin", "id:1", "--yes")
	require.NotContains(t, r.out+r.err, "hush")
	require.NoError(t, filepath.WalkDir(w.home, func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(p)
		require.NoError(t, err)
		require.NotContains(t, string(b), "hush", p)
		return nil
	}))
}

// TestAnAdapterIsNeverNamedByAnybodyElse: neither a pin file nor a feed of others has a program started.
func TestAnAdapterIsNeverNamedByAnybodyElse(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("there is no sh here")
	}
	s := newShelf(t)
	s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), map[string][]byte{"a": []byte("a file")})
	w := ofShelf(t, s, map[string][]byte{"a": []byte("a file")})
	w.ok("pin", "id:1", "--yes")
	file := filepath.Join(w.dir, "quay.pin.toml")
	w.ok("pinfile", "write", file)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NotContains(t, string(b), "morvant-adapter")
	require.NotContains(t, string(b), "adapter")
	evil := filepath.Join(w.dir, "evil.sh")
	require.NoError(t, os.WriteFile(evil, []byte("#!/bin/sh\ntouch "+filepath.Join(w.dir, "run")+"\n"), 0o755))
	for _, text := range []string{"adapter = \"" + evil + "\"\n" + string(b), strings.Replace(string(b), "[[feed]]", "[[feed]]\nadapter = \""+evil+"\"", 1)} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_ = w.run("pinfile", "apply", file, "--yes")
	}
	require.NoFileExists(t, filepath.Join(w.dir, "run"))
}

// TestAKilledFetchFetchesNoPieceTwice: what had been checked when it was killed does not come again.
func TestAKilledFetchFetchesNoPieceTwice(t *testing.T) {
	t.Parallel()
	const size, count, before = 100_000, 40, 20
	s := newShelf(t)
	files := make(map[string][]byte)
	for i := range count {
		files[fmt.Sprintf("data/%02d.pak", i)] = noise(fmt.Sprint("pak", i), size)
	}
	s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), files)
	w := ofShelf(t, s, nil)
	s.stopAt(before*size + 50_000)
	cmd := w.command("fetch", "id:1")
	require.NoError(t, cmd.Start())
	table := filepath.Join(w.home, "aliases.db")
	db, err := sql.Open("sqlite", table)
	require.NoError(t, err)
	defer db.Close()
	require.Eventually(t, func() bool {
		if _, err := os.Stat(table); err != nil {
			return false
		}
		n := 0
		err := db.QueryRow(`SELECT count(*) FROM alias`).Scan(&n) // it may not be there yet
		return err == nil && n >= before+1                        // and that the lane has been looked through
	}, time.Minute, 20*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	s.stopAt(0)
	w.ok("fetch", "id:1")
	require.Equal(t, int64((count-before)*size), s.sent())
	w.ok("store", "check")
}

// TestAPlaceIsNoWayOutOfTheAdaptersFolder: a link there to a file of the player's brings nothing of it.
func TestAPlaceIsNoWayOutOfTheAdaptersFolder(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("symbolic links take rights here that players do not have")
	}
	s := newShelf(t)
	secret := filepath.Join(t.TempDir(), "secret.txt")
	require.NoError(t, os.WriteFile(secret, []byte("the player's"), 0o600))
	s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), map[string][]byte{"a": []byte("the player's")})
	s.told.Link = secret
	s.told.Places["m-1"] = []adapter.Place{{Path: "a", File: "link"}}
	w := ofShelf(t, s, nil)
	require.NotZero(t, w.run("pin", "id:1", "--yes").code)
	require.NoFileExists(t, w.path("a"))
}

// TestPlacesAreAskedForAnew: where they have expired; by a clock that is wrong they always have, and are tried then.
func TestPlacesAreAskedForAnew(t *testing.T) {
	t.Parallel()
	for expired, said := range map[int]bool{1: false, 100: true} {
		s := newShelf(t)
		s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), map[string][]byte{"a": []byte("a file")})
		s.told.Expired = expired
		w := ofShelf(t, s, nil)
		r := w.ok("pin", "id:1", "--yes")
		require.Equal(t, said, strings.Contains(r.err, "has expired 1m"), r.err)
		require.Equal(t, said, strings.Contains(r.err, "is the clock right?"), r.err)
	}
}

// TestAPlaceOfManyPlaces: one of two is asked, and one that would take out of all proportion is refused.
func TestAPlaceOfManyPlaces(t *testing.T) {
	t.Parallel()
	s := newShelf(t)
	s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), map[string][]byte{"a": []byte("a file")})
	s.told.Places["m-1"] = append(s.told.Places["m-1"], s.told.Places["m-1"]...)
	w := ofShelf(t, s, nil)
	w.ok("pin", "id:1", "--yes")
	require.Equal(t, map[string]int{"/1.bundle": 1}, s.asked)

	s = newShelf(t)
	s.publish("1", time.Date(2031, 5, 20, 9, 0, 0, 0, time.UTC), map[string][]byte{"a": []byte("a file")})
	s.told.Places["m-1"][0].Length = 1 << 49
	w = ofShelf(t, s, nil)
	w.fails(1, "a piece of a has 6 bytes, and would take 562949953421312", "pin", "id:1", "--yes")
	require.Empty(t, s.asked)
}
