package catalogue

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"aead.dev/minisign"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/pack"
	"morvant/internal/problem"
)

func sampleFeed() *Feed {
	return &Feed{
		Format: FeedFormat, Name: "quay-archive", Game: "cinder-quay", Key: "RW", Serial: 3,
		Made: time.Unix(1_943_000_000, 0).UTC(), Expires: time.Unix(1_953_000_000, 0).UTC(),
		Channels:   []Line{{Name: "public"}, {Name: "preview", Locked: true}},
		Components: []Component{{Name: "base", Required: true}, {Name: "voices-en", Title: "English voices"}},
		SignIn:     &SignIn{Token: "https://feeds.example/token"},
	}
}

func sampleChannel() *Channel {
	return &Channel{
		Format: ChannelFormat, Feed: "quay-archive", Channel: "public", Serial: 3, Builds: []Build{{
			Label: "1.1.1", Date: time.Unix(1_943_000_000, 0).UTC(), Note: "hotfix",
			Components: []Part{{Name: "base", Manifest: digest.Of([]byte("m")), Layout: digest.Of([]byte("l")), Files: 2, Bytes: 100, Download: 60}},
		}},
	}
}

func TestSignedFilesAreReadBack(t *testing.T) {
	b, err := sampleFeed().Encode()
	require.NoError(t, err)
	f, err := DecodeFeed(b)
	require.NoError(t, err)
	require.Equal(t, sampleFeed(), f)
	b, err = sampleChannel().Encode()
	require.NoError(t, err)
	c, err := DecodeChannel(b)
	require.NoError(t, err)
	require.Equal(t, sampleChannel(), c)
}

// change decodes JSON, changes it and encodes it again.
func change(t *testing.T, v interface{ Encode() ([]byte, error) }, f func(m map[string]any)) []byte {
	t.Helper()
	b, err := v.Encode()
	require.NoError(t, err)
	var m map[string]any
	require.NoError(t, json.Unmarshal(b, &m))
	f(m)
	b, err = json.Marshal(m)
	require.NoError(t, err)
	return b
}

func TestHostileCataloguesAreRefused(t *testing.T) {
	build := func(m map[string]any) map[string]any { return m["builds"].([]any)[0].(map[string]any) }
	part := func(m map[string]any) map[string]any { return build(m)["components"].([]any)[0].(map[string]any) }
	for name, f := range map[string]func(m map[string]any){
		"unknown key":           func(m map[string]any) { m["surprise"] = 1 },
		"no serial number":      func(m map[string]any) { m["serial"] = 0 },
		"a path for a channel":  func(m map[string]any) { m["channel"] = "../../etc" },
		"a path for a label":    func(m map[string]any) { build(m)["label"] = "../x" },
		"escapes in a note":     func(m map[string]any) { build(m)["note"] = "\x1b[2J" },
		"turned text in a note": func(m map[string]any) { build(m)["note"] = "abc\u202edef" },
		"a long note":           func(m map[string]any) { build(m)["note"] = strings.Repeat("x", 1001) },
		"negative size":         func(m map[string]any) { part(m)["bytes"] = -1 },
		"size beyond 64 bits":   func(m map[string]any) { part(m)["bytes"] = json.Number("99999999999999999999") },
		"too many files":        func(m map[string]any) { part(m)["files"] = manifest.MaxEntries + 1 },
		"no components":         func(m map[string]any) { build(m)["components"] = []any{} },
		"a component twice":     func(m map[string]any) { build(m)["components"] = []any{part(m), part(m)} },
		"a build twice":         func(m map[string]any) { m["builds"] = []any{build(m), build(m)} },
		"no digest":             func(m map[string]any) { part(m)["manifest"] = "../../x" },
		"a number for a text":   func(m map[string]any) { m["feed"] = 7 },
	} {
		t.Run(name, func(t *testing.T) {
			_, err := DecodeChannel(change(t, sampleChannel(), f))
			require.True(t, isRefusal(err), "%v", err)
		})
	}
	for name, f := range map[string]func(m map[string]any){
		"a channel twice": func(m map[string]any) {
			m["channels"] = []any{map[string]any{"name": "a"}, map[string]any{"name": "a"}}
		},
		"a path for a channel": func(m map[string]any) { m["channels"] = []any{map[string]any{"name": "a/b"}} },
		"a name with escapes":  func(m map[string]any) { m["name"] = "a\x07" },
	} {
		t.Run(name, func(t *testing.T) {
			_, err := DecodeFeed(change(t, sampleFeed(), f))
			require.True(t, isRefusal(err), "%v", err)
		})
	}
}

func isRefusal(err error) bool {
	for _, known := range []error{ErrFormat, ErrName, problem.ErrNewer} {
		if err != nil && strings.Contains(err.Error(), known.Error()) {
			return true
		}
	}
	return false
}

func TestHostileJSONIsRefused(t *testing.T) {
	good, err := sampleFeed().Encode()
	require.NoError(t, err)
	nested := `{"format":"` + FeedFormat + `","channels":` + strings.Repeat("[", 100_000)
	for name, b := range map[string][]byte{
		"a key twice":    bytes.Replace(good, []byte(`"serial":3`), []byte(`"serial":3,"serial":4`), 1),
		"nested deep":    []byte(nested),
		"rubbish behind": append(bytes.Clone(good), []byte("{}")...),
		"nothing":        {},
		"too long":       append(bytes.Clone(good), bytes.Repeat([]byte(" "), MaxSigned)...),
		"not UTF-8":      bytes.Replace(good, []byte("quay-archive"), []byte("quay\xff"), 1),
	} {
		_, err := DecodeFeed(b)
		require.ErrorIs(t, err, ErrFormat, name)
	}
	_, err = DecodeFeed(bytes.Replace(good, []byte("morvant-feed/1"), []byte("morvant-feed/2"), 1))
	require.ErrorIs(t, err, problem.ErrNewer)
	_, err = DecodeFeed(bytes.Replace(good, []byte("morvant-feed/1"), []byte("something-else"), 1))
	require.ErrorIs(t, err, ErrFormat)
}

func TestSignatures(t *testing.T) {
	public, secret, err := minisign.GenerateKey(nil)
	require.NoError(t, err)
	other, _, err := minisign.GenerateKey(nil)
	require.NoError(t, err)
	body := []byte("a catalogue")
	signature := Sign(secret, body, "quay serial 1")
	require.NoError(t, Verify(public, body, signature))
	require.ErrorIs(t, Verify(other, body, signature), ErrSignature)
	require.ErrorIs(t, Verify(public, []byte("a catalogua"), signature), ErrSignature)
	require.ErrorIs(t, Verify(public, body, []byte("nonsense")), ErrSignature)
	again, err := ParseKey(" " + KeyText(public) + "\n")
	require.NoError(t, err)
	require.Equal(t, public, again)
	_, err = ParseKey("RWnonsense")
	require.ErrorIs(t, err, ErrFormat)
}

// sampleLayout is a manifest of three files, one cut into two chunks, and its layout.
func sampleLayout() (*manifest.Manifest, *Layout) {
	a, b, c := digest.Of([]byte("a")), digest.Of([]byte("b")), digest.Of([]byte("c"))
	file := digest.Of([]byte("file of a and b"))
	m := &manifest.Manifest{Files: []manifest.File{
		{Path: "big.pak", Size: 9000, Digest: file}, {Path: "bin/quay.exe", Size: 50, Digest: c}, {Path: "copy.pak", Size: 9000, Digest: file},
	}}
	return m, &Layout{
		Packs: []digest.Digest{digest.Of([]byte("pack"))},
		Chunks: []Chunk{
			{Digest: a, Size: 5000, Offset: 16, Stored: 5000, Base: NoBase},
			{Digest: b, Size: 4000, Offset: 6000, Stored: 900, Coding: pack.Zstd, Base: NoBase},
			{Digest: c, Size: 50, Offset: 8000, Stored: 50, Base: NoBase},
		},
		Files:    map[digest.Digest][]int{file: {0, 1}},
		Programs: []string{"bin/quay.exe"},
	}
}

func encoded(t testing.TB, l *Layout) []byte {
	t.Helper()
	m, _ := sampleLayout()
	b, err := l.Encode([]digest.Digest{m.Files[0].Digest, m.Files[1].Digest})
	require.NoError(t, err)
	return b
}

func TestALayoutIsReadBack(t *testing.T) {
	m, l := sampleLayout()
	got, err := DecodeLayout(encoded(t, l), m)
	require.NoError(t, err)
	require.Equal(t, l.Chunks, got.Chunks)
	require.Equal(t, []int{0, 1}, got.Pieces(m.Files[0].Digest))
	require.Equal(t, []int{2}, got.Pieces(m.Files[1].Digest))
	require.Nil(t, got.Pieces(digest.Of([]byte("other"))))
	require.Equal(t, l.Programs, got.Programs)
	require.Nil(t, got.Times)
	require.Contains(t, string(encoded(t, l)), `"morvant-layout/1"`, "without times it is as the first version wrote it")

	l.Times = []time.Time{time.Unix(1943000000, 5), {}, time.Unix(-3, 0)}
	body := encoded(t, l)
	got, err = DecodeLayout(body, m)
	require.NoError(t, err)
	require.Equal(t, l.Times, got.Times)
	_, err = DecodeLayout(bytes.Replace(body, []byte("layout/2"), []byte("layout/3"), 1), m)
	require.ErrorIs(t, err, problem.ErrNewer)
	_, err = DecodeLayout(bytes.Replace(body, []byte("layout/2"), []byte("layout/1"), 1), m)
	require.Error(t, err, "the first version knew no times")
	_, err = DecodeLayout(bytes.Replace(body, []byte("1943000000.000000005"), []byte("1943000000.5"), 1), m)
	require.Error(t, err)
}

func TestHostileLayoutsAreRefused(t *testing.T) {
	m, _ := sampleLayout()
	file := m.Files[0].Digest
	for name, f := range map[string]func(l *Layout){
		"sizes that do not add up": func(l *Layout) { l.Chunks[0].Size, l.Chunks[0].Stored = 4999, 4999 },
		"sizes that overflow":      func(l *Layout) { l.Chunks[0].Size = 1 << 62 },
		"negative size":            func(l *Layout) { l.Chunks[1].Size = -4000 },
		"negative offset":          func(l *Layout) { l.Chunks[1].Offset = -1 },
		"a pack that is not there": func(l *Layout) { l.Chunks[1].Pack = 1 },
		"plain but shorter":        func(l *Layout) { l.Chunks[0].Stored = 10 },
		"unknown coding":           func(l *Layout) { l.Chunks[1].Coding = 99 },
		"a base without need":      func(l *Layout) { l.Chunks[1].Base = 0 },
		"a base out of range":      func(l *Layout) { l.Chunks[1].Base = 77 },
		"a chunk twice":            func(l *Layout) { l.Chunks[2].Digest = l.Chunks[1].Digest },
		"bases in a circle": func(l *Layout) {
			l.Chunks[1].Coding, l.Chunks[1].Base = pack.Based, 2
			l.Chunks[2].Coding, l.Chunks[2].Base = pack.Based, 1
		},
		"its own base": func(l *Layout) { l.Chunks[1].Coding, l.Chunks[1].Base = pack.Based, 1 },
		"again without a base": func(l *Layout) {
			l.Again = []Chunk{{Digest: digest.Of([]byte("old")), Size: 9, Stored: 9, Base: NoBase}}
		},
		"again against a base beyond": func(l *Layout) {
			l.Again = []Chunk{{Digest: digest.Of([]byte("old")), Size: 9, Stored: 40, Coding: pack.Based, Base: 3}}
		},
		"a file left out":      func(l *Layout) { delete(l.Files, file) },
		"a chunk index beyond": func(l *Layout) { l.Files[file] = []int{0, 9} },
		"a million chunks for a small file": func(l *Layout) {
			list := make([]int, 1_000_000)
			l.Files[file] = list
		},
		"fewer times than files":      func(l *Layout) { l.Times = make([]time.Time, 2) },
		"more times than files":       func(l *Layout) { l.Times = make([]time.Time, 4) },
		"a program that is no file":   func(l *Layout) { l.Programs = []string{"../../bin/sh"} },
		"programs out of order":       func(l *Layout) { l.Programs = []string{"bin/quay.exe", "big.pak"} },
		"a small file of another one": func(l *Layout) { l.Chunks[2].Size, l.Chunks[2].Stored = 51, 51 },
	} {
		t.Run(name, func(t *testing.T) {
			_, l := sampleLayout()
			f(l)
			_, err := DecodeLayout(encoded(t, l), m)
			require.Error(t, err)
		})
	}
	_, l := sampleLayout()
	b := encoded(t, l)
	_, err := DecodeLayout(bytes.Replace(b, []byte(`"sizes":[5000,`), []byte(`"sizes":[5000,1,`), 1), m)
	require.ErrorIs(t, err, ErrFormat, "columns of different length")
	_, err = DecodeLayout(bytes.Replace(b, []byte(`"runs":[0,2]`), []byte(`"runs":[0,2,0]`), 1), m)
	require.ErrorIs(t, err, ErrFormat)
	_, err = DecodeLayout(bytes.Replace(b, []byte(`"runs":[0,2]`), []byte(`"runs":[0,9223372036854775807]`), 1), m)
	require.ErrorIs(t, err, ErrFormat)
	other := &manifest.Manifest{Files: append(m.Files[:len(m.Files):len(m.Files)], manifest.File{Path: "other", Size: 1, Digest: file})}
	_, err = DecodeLayout(b, other)
	require.ErrorIs(t, err, ErrFormat, "one content of two sizes")
}

// TestALayoutCannotAskForMoreThanItsSizeAllows: some hundred KB would have been unrolled to
// 64 GB of chunk numbers.
func TestALayoutCannotAskForMoreThanItsSizeAllows(t *testing.T) {
	m := &manifest.Manifest{}
	l := &Layout{Packs: []digest.Digest{digest.Of([]byte("p"))}, Files: make(map[digest.Digest][]int)}
	for i := range 2000 {
		l.Chunks = append(l.Chunks, Chunk{Digest: digest.Of(fmt.Append(nil, "chunk", i)), Size: 1 << 20, Stored: 1 << 20, Base: NoBase})
	}
	j := layoutJSON{Format: LayoutFormat, Packs: l.Packs, Chunks: toColumns(l.Chunks)}
	for i := range 2000 {
		d := digest.Of(fmt.Append(nil, "file", i))
		m.Files = append(m.Files, manifest.File{Path: fmt.Sprintf("f%04d", i), Size: 1000 * 2000 << 20, Digest: d})
		j.Files = append(j.Files, filePieces{d, slices.Repeat([]int{0, 2000}, 1000)})
	}
	b, err := json.Marshal(j)
	require.NoError(t, err)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err = DecodeLayout(b, m)
	runtime.ReadMemStats(&after)
	require.ErrorIs(t, err, ErrFormat)
	require.ErrorContains(t, err, "chunks")
	require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(400<<20))
}

// TestFramesThatUnpackToMuchWaitForEachOther: what counts is what all of them may come to.
func TestFramesThatUnpackToMuchWaitForEachOther(t *testing.T) {
	packed, err := Pack([]byte("tides"))
	require.NoError(t, err)
	synctest.Test(t, func(t *testing.T) {
		require.NoError(t, unpacking.Acquire(t.Context(), maxLayout)) // others, at work
		done := false
		go func() {
			_, err := Unpack(packed, digest.Of([]byte("tides")))
			require.NoError(t, err)
			done = true
		}()
		synctest.Wait()
		require.False(t, done)
		unpacking.Release(maxLayout)
		synctest.Wait()
		require.True(t, done)
	})
}

func TestAFrameThatInflatesWithoutEndIsCutOff(t *testing.T) {
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	bomb := enc.EncodeAll(make([]byte, 256<<20), nil)
	_, err = Unpack(bomb, digest.Digest{})
	require.ErrorContains(t, err, "inflate to more than")
	good, err := Pack([]byte("content"))
	require.NoError(t, err)
	b, err := Unpack(good, digest.Of([]byte("content")))
	require.NoError(t, err)
	require.Equal(t, "content", string(b))
	_, err = Unpack(good, digest.Of([]byte("other")))
	require.ErrorIs(t, err, pack.ErrChecksum)
	_, err = Unpack([]byte("no frame"), digest.Digest{})
	require.ErrorIs(t, err, ErrFormat)
}

func TestNames(t *testing.T) {
	for _, bad := range []string{"", "A", "a b", "../x", "a/b", "-a", strings.Repeat("a", 65), "a\n"} {
		require.ErrorIs(t, CheckName(bad), ErrName, "%q", bad)
	}
	require.NoError(t, CheckName("night-shift-2"))
	require.Equal(t, "packs/"+strings.Repeat("0", 64)+".pack", PackFile(digest.Digest{}))
}

func FuzzFeed(f *testing.F) {
	b, err := sampleFeed().Encode()
	require.NoError(f, err)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		feed, err := DecodeFeed(b)
		if err != nil {
			return
		}
		for _, c := range feed.Channels {
			if strings.ContainsAny(c.Name, "/\\.\x00") {
				t.Fatalf("a channel named %q", c.Name)
			}
		}
		again, err := feed.Encode()
		require.NoError(t, err)
		_, err = DecodeFeed(again)
		require.NoError(t, err)
	})
}

func FuzzLayout(f *testing.F) {
	m, l := sampleLayout()
	f.Add(encoded(f, l))
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := DecodeLayout(b, m)
		if err != nil {
			return
		}
		for _, file := range m.Files {
			var sum int64
			for _, i := range l.Pieces(file.Digest) {
				sum += int64(l.Chunks[i].Size)
			}
			if sum != file.Size {
				t.Fatal("chunks that do not add up were let through")
			}
		}
	})
}

func FuzzUnpack(f *testing.F) {
	good, err := Pack([]byte("content"))
	require.NoError(f, err)
	f.Add(good)
	f.Fuzz(func(t *testing.T, b []byte) {
		if out, err := Unpack(b, digest.Of([]byte("content"))); err == nil && string(out) != "content" {
			t.Fatalf("%q has another digest", out)
		}
	})
}

func FuzzChannel(f *testing.F) {
	b, err := sampleChannel().Encode()
	require.NoError(f, err)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		c, err := DecodeChannel(b)
		if err != nil {
			return
		}
		require.NoError(t, CheckChannel(c.Channel))
		for _, build := range c.Builds {
			require.NoError(t, CheckLabel(build.Label))
			require.Equal(t, build.Date.UTC().Truncate(0), time.Unix(0, build.Date.UnixNano()).UTC(), "it can be remembered in nanoseconds")
		}
		again, err := c.Encode()
		require.NoError(t, err)
		back, err := DecodeChannel(again)
		require.NoError(t, err)
		require.Equal(t, c, back)
	})
}

// TestWhatVersionOneWroteIsReadAndWrittenTheSame: a key or a column in another place would
// pass every test that writes what it reads.
func TestWhatVersionOneWroteIsReadAndWrittenTheSame(t *testing.T) {
	read := func(name string) []byte {
		b, err := os.ReadFile(filepath.Join("..", "..", "testdata", "v1", "parts", name))
		require.NoError(t, err)
		return b
	}
	unpack := func(name string) []byte {
		z, err := zstd.NewReader(nil)
		require.NoError(t, err)
		defer z.Close()
		b, err := z.DecodeAll(read(name), nil)
		require.NoError(t, err)
		return b
	}
	raw := read("feed.json")
	f, err := DecodeFeed(raw)
	require.NoError(t, err)
	again, err := f.Encode()
	require.NoError(t, err)
	require.Equal(t, string(raw), string(again))
	raw = read("public.json")
	c, err := DecodeChannel(raw)
	require.NoError(t, err)
	again, err = c.Encode()
	require.NoError(t, err)
	require.Equal(t, string(raw), string(again))

	manifests := make(map[string]*manifest.Manifest)
	for _, b := range c.Builds {
		d := b.Components[0].Manifest
		raw := unpack(d.String() + ".json.zst")
		require.Equal(t, d, digest.Of(raw))
		m, err := manifest.Decode(raw)
		require.NoError(t, err)
		require.Equal(t, string(raw), string(m.Encode()))
		manifests[b.Label] = m
	}
	raw = unpack("layout.json.zst")
	require.Equal(t, c.Builds[1].Components[0].Layout, digest.Of(raw))
	m := manifests["2.0"]
	l, err := DecodeLayout(raw, m)
	require.NoError(t, err)
	var order []digest.Digest
	for _, f := range m.Files {
		order = append(order, f.Digest)
	}
	again, err = l.Encode(order)
	require.NoError(t, err)
	require.Equal(t, string(raw), string(again))
	for _, c := range l.Chunks {
		require.Equal(t, pack.Chunk, c.Entry(pack.Chunk).Kind)
	}
}

func TestALabelHasAtMost80Characters(t *testing.T) {
	require.NoError(t, CheckLabel(strings.Repeat("é", 80)))
	require.ErrorIs(t, CheckLabel(strings.Repeat("é", 81)), ErrName)
}
