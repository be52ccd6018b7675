package fetch

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"aead.dev/minisign"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/feed"
	"morvant/internal/manifest"
	"morvant/internal/pack"
	"morvant/internal/progress"
	"morvant/internal/store"
)

func options() feed.Options { return feed.Options{Meter: progress.None{}, Now: time.Now} }

// forged is a feed of one build with one file, made by hand so that every part of
// it can be wrong; all of it is signed as it should be.
type forged struct {
	manifest []byte
	layout   []byte
	pack     []byte
	name     digest.Digest // of the pack
	files    int
	bytes    int64
}

var content = []byte(strings.Repeat("cranes, tides, cargo. ", 4000))

// newForged returns a feed with nothing wrong.
func newForged(t *testing.T) *forged {
	t.Helper()
	d := digest.Of(content)
	m := &manifest.Manifest{Files: []manifest.File{{Path: "data/a.txt", Size: int64(len(content)), Digest: d}}}
	f := &forged{manifest: m.Encode(), files: 1, bytes: m.Bytes()}
	file, err := os.Create(filepath.Join(t.TempDir(), "pack"))
	require.NoError(t, err)
	defer file.Close()
	coder, err := pack.NewCoder(pack.Fast)
	require.NoError(t, err)
	defer coder.Close()
	w := pack.NewWriter(file)
	coding, stored := coder.Encode(content, nil)
	e, err := w.Append(d, pack.Chunk, coding, len(content), stored)
	require.NoError(t, err)
	f.name, err = w.Finish()
	require.NoError(t, err)
	f.pack, err = os.ReadFile(file.Name())
	require.NoError(t, err)
	f.setLayout(t, func(*catalogue.Layout) {}, e)
	return f
}

func (f *forged) setLayout(t *testing.T, change func(*catalogue.Layout), e pack.Entry) {
	t.Helper()
	l := &catalogue.Layout{Packs: []digest.Digest{f.name}, Chunks: []catalogue.Chunk{{
		Digest: e.Digest, Size: int(e.Plain), Offset: e.Offset, Stored: int(e.Stored), Coding: e.Coding, Base: catalogue.NoBase,
	}}}
	change(l)
	var err error
	f.layout, err = l.Encode(nil)
	require.NoError(t, err)
}

// write writes the feed into a folder.
func (f *forged) write(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	put := func(path string, b []byte) {
		name := filepath.Join(dir, filepath.FromSlash(path))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, b, 0o644))
	}
	packed := func(b []byte) []byte {
		out, err := catalogue.Pack(b)
		require.NoError(t, err)
		return out
	}
	public, secret, err := minisign.GenerateKey(nil)
	require.NoError(t, err)
	m, l := digest.Of(f.manifest), digest.Of(f.layout)
	put(catalogue.ManifestFile(m), packed(f.manifest))
	put(catalogue.LayoutFile(l), packed(f.layout))
	put(catalogue.PackFile(f.name), f.pack)
	now := time.Now().UTC()
	described := catalogue.Feed{
		Format: catalogue.FeedFormat, Name: "forged", Game: "cinder-quay", Key: catalogue.KeyText(public), Serial: 1, Made: now, Expires: now.Add(time.Hour),
		Channels: []catalogue.Line{{Name: "public"}}, Components: []catalogue.Component{{Name: "base", Required: true}},
	}
	channel := catalogue.Channel{
		Format: catalogue.ChannelFormat, Feed: "forged", Channel: "public", Serial: 1, Made: now, Expires: now.Add(time.Hour),
		Builds: []catalogue.Build{{Label: "1", Date: now, Components: []catalogue.Part{{Name: "base", Manifest: m, Layout: l, Files: f.files, Bytes: f.bytes}}}},
	}
	for path, v := range map[string]interface{ Encode() ([]byte, error) }{catalogue.FeedFile: &described, catalogue.ChannelFile("public"): &channel} {
		b, err := v.Encode()
		require.NoError(t, err)
		put(path, b)
		put(catalogue.SignatureOf(path), catalogue.Sign(secret, b, "forged"))
	}
	return dir
}

// fetch adds the feed at an address, plans and fetches its build into a new store.
func fetch(t *testing.T, addresses ...string) (*store.Store, *Fetched, error) {
	t.Helper()
	ctx := t.Context()
	f, err := feed.Add(ctx, feed.Adding{Base: t.TempDir(), Addresses: addresses}, options())
	if err != nil {
		return nil, nil, err
	}
	s, err := store.Open(ctx, t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	channels, err := f.Channels()
	require.NoError(t, err)
	part := Part{Part: channels[0].Builds[0].Components[0]}
	if part.Manifest, err = f.Manifest(part.Part.Manifest); err != nil {
		return s, nil, err
	}
	p, err := Make(ctx, f, Request{Store: s, Parts: []Part{part}, Owner: "test"}, options())
	if err != nil {
		return s, nil, err
	}
	result, err := p.Run(ctx, options())
	return s, result, err
}

func TestAForgedFeedWithNothingWrongIsFetched(t *testing.T) {
	s, result, err := fetch(t, newForged(t).write(t))
	require.NoError(t, err)
	require.Equal(t, 1, result.Files)
	b, err := s.Bytes(t.Context(), digest.Of(content), 1<<20)
	require.NoError(t, err)
	require.Equal(t, content, b)
}

func TestPathsThatLeaveTheFolderAreRefused(t *testing.T) {
	for _, p := range []string{
		"../a.txt", "a/../../b", "/etc/passwd", `a\\b`, "C:/a", "c:a", "a//b", "a/./b", "", "CON", "aux.txt", "a.", "a ", ".morvant/lane.toml", "a\\u0000b", "a\\u001bb",
	} {
		f := newForged(t)
		f.manifest = []byte(strings.Replace(string(f.manifest), "data/a.txt", p, 1))
		_, _, err := fetch(t, f.write(t))
		require.Error(t, err, "%q", p)
	}
	f := newForged(t)
	f.manifest = []byte(strings.Replace(string(f.manifest), `"links":[]`, `"links":[{"path":"l","target":"../../x"}]`, 1))
	_, _, err := fetch(t, f.write(t))
	require.ErrorIs(t, err, manifest.ErrPath)
	f.manifest = []byte(strings.Replace(string(f.manifest), `"size":88000`, `"size":99999999999999999999`, 1))
	_, _, err = fetch(t, f.write(t))
	require.Error(t, err)
}

func TestHostileContentIsRefused(t *testing.T) {
	d := digest.Of(content)
	size := len(content)
	t.Run("a frame that inflates without end", func(t *testing.T) {
		f := newForged(t)
		enc, err := zstd.NewWriter(nil)
		require.NoError(t, err)
		f.replacePack(t, d, pack.Zstd, size, enc.EncodeAll(make([]byte, 256<<20), nil))
		_, _, err = fetch(t, f.write(t))
		var wrong *ContentError
		require.ErrorAs(t, err, &wrong)
		require.Equal(t, []string{"data/a.txt"}, wrong.Files)
	})
	t.Run("other content", func(t *testing.T) {
		f := newForged(t)
		f.replacePack(t, d, pack.Plain, size, make([]byte, size))
		s, _, err := fetch(t, f.write(t))
		var wrong *ContentError
		require.ErrorAs(t, err, &wrong)
		ok, err := s.Has(t.Context(), d)
		require.NoError(t, err)
		require.False(t, ok)
	})
	t.Run("chunks that are right and make another file", func(t *testing.T) {
		// Two chunks in the wrong order: each is what its digest says.
		f := newForged(t)
		a, b := content[:40_000], content[40_001:]
		b = append(append([]byte{}, b...), 'x')
		file, err := os.Create(filepath.Join(t.TempDir(), "pack"))
		require.NoError(t, err)
		defer file.Close()
		w := pack.NewWriter(file)
		l := &catalogue.Layout{Files: map[digest.Digest][]int{d: {0, 1}}}
		for _, c := range [][]byte{a, b} {
			e, err := w.Append(digest.Of(c), pack.Chunk, pack.Plain, len(c), c)
			require.NoError(t, err)
			l.Chunks = append(l.Chunks, catalogue.Chunk{Digest: e.Digest, Size: len(c), Offset: e.Offset, Stored: len(c), Base: catalogue.NoBase})
		}
		f.name, err = w.Finish()
		require.NoError(t, err)
		f.pack, err = os.ReadFile(file.Name())
		require.NoError(t, err)
		l.Packs = []digest.Digest{f.name}
		f.layout, err = l.Encode([]digest.Digest{d})
		require.NoError(t, err)
		s, _, err := fetch(t, f.write(t))
		var wrong *ContentError
		require.ErrorAs(t, err, &wrong)
		ok, err := s.Has(t.Context(), d)
		require.NoError(t, err)
		require.False(t, ok, "no layout is kept that does not give the file")
	})
	t.Run("a layout that names a place beyond the pack", func(t *testing.T) {
		f := newForged(t)
		f.pack = f.pack[:100]
		_, _, err := fetch(t, f.write(t))
		require.ErrorIs(t, err, feed.ErrShort)
	})
	t.Run("a manifest that is not what its name says", func(t *testing.T) {
		f := newForged(t)
		dir := f.write(t)
		other, err := catalogue.Pack([]byte("something else"))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, catalogue.ManifestFile(digest.Of(f.manifest))), other, 0o644))
		_, _, err = fetch(t, dir)
		require.ErrorIs(t, err, pack.ErrChecksum)
	})
	t.Run("a link out of the feed's folder", func(t *testing.T) {
		f := newForged(t)
		dir := f.write(t)
		name := filepath.Join(dir, catalogue.PackFile(f.name))
		outside := filepath.Join(t.TempDir(), "outside")
		require.NoError(t, os.Rename(name, outside))
		if os.Symlink(outside, name) != nil {
			t.Skip("no symbolic links here")
		}
		_, _, err := fetch(t, dir)
		require.Error(t, err)
	})
}

// TestAServerCannotMakeAFetchReadWithoutEnd: chunks a megabyte into hundreds of packs, of a
// server that sends each from its beginning.
func TestAServerCannotMakeAFetchReadWithoutEnd(t *testing.T) {
	f := newForged(t)
	l := &catalogue.Layout{Files: map[digest.Digest][]int{}}
	const piece, count = 4 << 10, 1000
	large := make([]byte, count*piece)
	_, _ = rand.NewChaCha8([32]byte{}).Read(large)
	whole := digest.Of(large)
	m := &manifest.Manifest{Files: []manifest.File{{Path: "data/a.bin", Size: int64(len(large)), Digest: whole}}}
	f.manifest, f.bytes = m.Encode(), m.Bytes()
	for i := range count {
		c := large[i*piece : (i+1)*piece]
		l.Packs = append(l.Packs, digest.Of(fmt.Appendf(nil, "pack %d", i)))
		l.Chunks = append(l.Chunks, catalogue.Chunk{Digest: digest.Of(c), Size: len(c), Pack: i, Offset: 1 << 20, Stored: len(c), Base: catalogue.NoBase})
		l.Files[whole] = append(l.Files[whole], i)
	}
	var err error
	f.layout, err = l.Encode([]digest.Digest{whole})
	require.NoError(t, err)
	dir := f.write(t)
	var sent atomic.Int64
	files := http.FileServer(http.Dir(dir))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasSuffix(r.URL.Path, ".pack") {
			files.ServeHTTP(w, r)
			return
		}
		zeros := make([]byte, 64<<10)
		for { // without end
			n, err := w.Write(zeros)
			if sent.Add(int64(n)); err != nil {
				return
			}
		}
	}))
	t.Cleanup(server.Close)
	_, _, err = fetch(t, server.URL)
	require.ErrorIs(t, err, feed.ErrNoRanges)
	require.ErrorContains(t, err, "1052 MB would have to be read to get 4 MB")
	require.Less(t, sent.Load(), int64(100<<20))
}

// TestAServerThatSendsAByteNowAndThenIsGivenUp: it is never silent, and never done.
func TestAServerThatSendsAByteNowAndThenIsGivenUp(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		tick := time.NewTicker(10 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-r.Context().Done():
				return
			case <-tick.C:
				if _, err := w.Write([]byte(" ")); err != nil {
					return
				}
				w.(http.Flusher).Flush()
			}
		}
	}))
	t.Cleanup(server.Close)
	o := options()
	o.Silence = 200 * time.Millisecond
	_, err := feed.Add(t.Context(), feed.Adding{Base: t.TempDir(), Addresses: []string{server.URL}}, o)
	require.ErrorIs(t, err, feed.ErrSilent)
	require.ErrorContains(t, err, "bytes in")
}

// replacePack makes a pack of one record whose content may be anything.
func (f *forged) replacePack(t *testing.T, d digest.Digest, coding pack.Coding, plain int, stored []byte) {
	t.Helper()
	file, err := os.Create(filepath.Join(t.TempDir(), "pack"))
	require.NoError(t, err)
	defer file.Close()
	w := pack.NewWriter(file)
	e, err := w.Append(d, pack.Chunk, coding, plain, stored)
	require.NoError(t, err)
	f.name, err = w.Finish()
	require.NoError(t, err)
	f.pack, err = os.ReadFile(file.Name())
	require.NoError(t, err)
	f.setLayout(t, func(*catalogue.Layout) {}, e)
}

func TestAnotherServerIsNotFollowed(t *testing.T) {
	elsewhere := httptest.NewServer(http.FileServer(http.Dir(newForged(t).write(t))))
	defer elsewhere.Close()
	here := httptest.NewServer(http.RedirectHandler(elsewhere.URL+"/feed.json", http.StatusFound))
	defer here.Close()
	_, _, err := fetch(t, here.URL)
	require.ErrorContains(t, err, "another server")
	_, _, err = fetch(t, here.URL, elsewhere.URL)
	require.NoError(t, err, "a mirror that was named is asked")
}

func TestNeighboursAreAskedForTogether(t *testing.T) {
	one, other := digest.Of([]byte("1")), digest.Of([]byte("2"))
	at := func(p digest.Digest, offset int64, stored int) *need {
		return &need{way: way{pack: p, entry: pack.Entry{Offset: offset, Stored: uint32(stored)}}}
	}
	size := at(one, 0, 10_000).entry.Size()
	list := runsOf([]*need{
		at(one, 2*size, 10_000), at(one, 0, 10_000), at(one, size, 10_000), // neighbours, in any order
		at(one, 100*size, 10_000),   // far away
		at(one, 101*size+7, 10_000), // a small gap
		at(other, 0, 10_000),
	}, runSize)
	require.Len(t, list, 3)
	total := int64(0)
	for _, r := range list {
		require.NotEmpty(t, r.needs)
		total += r.to - r.from
	}
	require.Equal(t, 6*size+7, total)
	require.Len(t, runsOf([]*need{at(one, 0, 10_000), at(one, size, 10_000)}, 0), 2, "no run is larger than asked")
	whole := wholePacks([]*need{at(one, 9*size, 1), at(one, 0, 10), at(other, 5, 5)})
	require.Len(t, whole, 2)
}

func TestTheCheapestWayToAChunkIsTaken(t *testing.T) {
	d := func(name string) digest.Digest { return digest.Of([]byte(name)) }
	record := func(stored int, base string) way {
		w := way{entry: pack.Entry{Stored: uint32(stored)}}
		if base != "" {
			w.base = d(base)
		}
		return w
	}
	ws := newWays()
	ws.of[d("old")] = []way{record(9000, ""), record(100, "new")}
	ws.of[d("new")] = []way{record(120, "old")}
	ws.of[d("newest")] = []way{record(50, "new")}
	ws.size = map[digest.Digest]int{d("old"): 9500, d("new"): 9400, d("newest"): 9300}
	lacking := func(names ...string) map[digest.Digest]*need {
		m := make(map[digest.Digest]*need)
		for _, name := range names {
			m[d(name)] = &need{digest: d(name), path: name}
		}
		return m
	}
	bytes := func(list []*need) (n int, levels int) {
		for _, one := range list {
			n += int(one.entry.Stored)
			levels = max(levels, one.level)
		}
		return n, levels
	}
	all := lacking("old", "new", "newest")
	n, levels := bytes(ws.choose(map[digest.Digest]*need{d("newest"): all[d("newest")]}, all))
	require.Equal(t, 9000+120+50, n, "from nothing, the whole chain")
	require.Equal(t, 2, levels)
	some := lacking("old")
	n, levels = bytes(ws.choose(some, some))
	require.Equal(t, 100, n, "from the newer one, which is here")
	require.Equal(t, 1, levels)
	both := lacking("old", "new")
	n, _ = bytes(ws.choose(both, both))
	require.Equal(t, 9000+120, n, "never in a circle")
	require.Equal(t, map[digest.Digest]int{d("new"): 9400, d("old"): 9500}, ws.bases(map[digest.Digest]*need{d("newest"): {}}))
}
