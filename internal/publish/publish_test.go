package publish

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"aead.dev/minisign"
	"github.com/stretchr/testify/require"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/pack"
	"morvant/internal/progress"
	"morvant/internal/store"
)

// shop is a store and a feed that is published from it.
type shop struct {
	t       *testing.T
	store   *store.Store
	dest    string
	key     minisign.PrivateKey
	days    int
	check   bool
	serials map[string]int64
}

func newShop(t *testing.T) *shop {
	t.Helper()
	s, err := store.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	_, key, err := minisign.GenerateKey(nil)
	require.NoError(t, err)
	return &shop{t: t, store: s, dest: t.TempDir(), key: key}
}

// build stores content as the files of a build; each is a day younger than the last.
func (s *shop) build(label string, files map[string][]byte) Build {
	s.t.Helper()
	session := s.store.Begin()
	m := &manifest.Manifest{}
	for p, b := range files {
		d, size, err := session.Put(s.t.Context(), bytes.NewReader(b), nil)
		require.NoError(s.t, err)
		m.Files = append(m.Files, manifest.File{Path: p, Size: size, Digest: d})
	}
	require.NoError(s.t, session.Close())
	m.Sort()
	s.days++
	date := time.Date(2031, 8, s.days, 9, 0, 0, 0, time.UTC)
	return Build{Label: label, Channel: "public", Date: date, Parts: map[string]*Part{"base": {Manifest: m}}}
}

func (s *shop) publish(ctx context.Context, builds ...Build) (*Result, error) {
	return Do(ctx, Request{
		Dest: s.dest, Store: s.store, Key: s.key, Name: "mine", Game: "quay", Components: []catalogue.Component{{Name: "base", Required: true}},
		Valid: time.Hour, Check: s.check, Serials: s.serials, Builds: builds, Meter: progress.None{}, Now: time.Now,
	})
}

// history yields the content of a file over several builds, a little of it changed
// in every chunk from one to the next.
func history(n int) [][]byte {
	rng := rand.New(rand.NewPCG(1, 2))
	content := make([]byte, 1<<20)
	digest.Expand("history", content)
	var list [][]byte
	for range n {
		list = append(list, bytes.Clone(content))
		for at := rng.IntN(9000); at < len(content); at += 9000 {
			content[at]++
		}
	}
	return list
}

// layouts reads the layouts of the published builds, by label.
func (s *shop) layouts() map[string]*catalogue.Layout {
	s.t.Helper()
	b, err := os.ReadFile(filepath.Join(s.dest, catalogue.ChannelFile("public")))
	require.NoError(s.t, err)
	c, err := catalogue.DecodeChannel(b)
	require.NoError(s.t, err)
	found := make(map[string]*catalogue.Layout)
	for _, build := range c.Builds {
		p := build.Components[0]
		packed, err := os.ReadFile(filepath.Join(s.dest, catalogue.ManifestFile(p.Manifest)))
		require.NoError(s.t, err)
		raw, err := catalogue.Unpack(packed, p.Manifest)
		require.NoError(s.t, err)
		m, err := manifest.Decode(raw)
		require.NoError(s.t, err)
		packed, err = os.ReadFile(filepath.Join(s.dest, catalogue.LayoutFile(p.Layout)))
		require.NoError(s.t, err)
		raw, err = catalogue.Unpack(packed, p.Layout)
		require.NoError(s.t, err)
		found[build.Label], err = catalogue.DecodeLayout(raw, m)
		require.NoError(s.t, err)
	}
	return found
}

// read returns the bytes of a chunk of a layout, straight from the packs.
func (s *shop) read(l *catalogue.Layout, c catalogue.Chunk, kind pack.Kind) []byte {
	s.t.Helper()
	f, err := os.Open(filepath.Join(s.dest, catalogue.PackFile(l.Packs[c.Pack])))
	require.NoError(s.t, err)
	defer f.Close()
	stored, err := pack.ReadStored(f, c.Entry(kind), nil)
	require.NoError(s.t, err)
	if c.Base != catalogue.NoBase {
		plain, err := pack.DecodeAgainst(c.Entry(kind), stored, s.read(l, l.Chunks[c.Base], pack.Chunk))
		require.NoError(s.t, err)
		return plain
	}
	coder, err := pack.NewCoder(pack.Fast)
	require.NoError(s.t, err)
	defer coder.Close()
	plain, err := coder.Decode(c.Entry(kind), stored, nil)
	require.NoError(s.t, err)
	return plain
}

func TestSmallChangesAreCodedAgainstTheBuildBefore(t *testing.T) {
	for _, atOnce := range []bool{true, false} {
		t.Run(fmt.Sprintf("at once %v", atOnce), func(t *testing.T) {
			s := newShop(t)
			contents := history(catalogue.MaxChain + 4)
			var builds []Build
			for i, b := range contents {
				builds = append(builds, s.build(fmt.Sprint(i), map[string][]byte{"data.pak": b}))
			}
			var written int64
			if atOnce {
				r, err := s.publish(t.Context(), builds...)
				require.NoError(t, err)
				written = r.Written
			} else {
				for _, b := range builds {
					r, err := s.publish(t.Context(), b)
					require.NoError(t, err)
					written += r.Written
				}
			}
			require.Less(t, written, int64(4<<20), "of %d MiB", len(contents))
			layouts := s.layouts()
			deepest := 0
			for i, want := range contents {
				l := layouts[fmt.Sprint(i)]
				var got []byte
				for _, at := range l.Pieces(digest.Of(want)) {
					got = append(got, s.read(l, l.Chunks[at], pack.Chunk)...)
					depth := 0
					for b := l.Chunks[at].Base; b != catalogue.NoBase; b = l.Chunks[b].Base {
						depth++
					}
					deepest = max(deepest, depth)
				}
				require.True(t, bytes.Equal(want, got), "build %d", i)
				for _, c := range l.Again {
					require.True(t, bytes.Contains(contents[i-1], s.read(l, c, pack.Again)), "the way back from build %d", i)
				}
				if i > 0 && l.Chunks[l.Pieces(digest.Of(want))[0]].Base != catalogue.NoBase {
					require.NotEmpty(t, l.Again)
				}
			}
			require.Equal(t, catalogue.MaxChain, deepest, "chains are used, and bounded")
		})
	}
}

func TestAnInterruptedPublisherKeepsWhatItHadPacked(t *testing.T) {
	s := newShop(t)
	content := make([]byte, 8<<20)
	digest.Expand("large", content)
	b := s.build("1", map[string][]byte{"large.pak": content})
	ctx, cancel := context.WithCancelCause(t.Context())
	stop := &stopping{after: 4 << 20, cancel: func() { cancel(errors.New("stop")) }}
	r := Request{Dest: s.dest, Store: s.store, Key: s.key, Name: "mine", Game: "quay", Valid: time.Hour, Builds: []Build{b}, Meter: stop, Now: time.Now}
	_, err := Do(ctx, r)
	require.Error(t, err)
	require.NoFileExists(t, filepath.Join(s.dest, catalogue.FeedFile))
	result, err := s.publish(t.Context(), b)
	require.NoError(t, err)
	require.Less(t, result.Written, int64(6<<20), "what was packed is used")
}

// stopping is a meter that stops the work half-way.
type stopping struct {
	progress.None
	done, after int64
	cancel      func()
}

func (s *stopping) Advance(n int64, _ string) {
	if s.done += n; s.done >= s.after {
		s.cancel()
	}
}

// TestADamagedFeedIsPackedAnew: a pack that is cut, gone or changed inside, a layout that says
// something else.
func TestADamagedFeedIsPackedAnew(t *testing.T) {
	for name, harm := range map[string]func(t *testing.T, s *shop, l *catalogue.Layout, file string){
		"cut": func(t *testing.T, _ *shop, _ *catalogue.Layout, file string) {
			require.NoError(t, os.Truncate(file, 1000))
		},
		"gone": func(t *testing.T, _ *shop, _ *catalogue.Layout, file string) { require.NoError(t, os.Remove(file)) },
		"a byte inside": func(t *testing.T, _ *shop, l *catalogue.Layout, file string) {
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			b[l.Chunks[3].Offset+200] ^= 1
			require.NoError(t, os.WriteFile(file, b, 0o644))
		},
		"layouts": func(t *testing.T, s *shop, _ *catalogue.Layout, _ string) {
			list, err := filepath.Glob(filepath.Join(s.dest, "layouts", "*"))
			require.NoError(t, err)
			for _, file := range list {
				require.NoError(t, os.WriteFile(file, []byte("something else"), 0o644))
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := newShop(t)
			content := history(2)
			one, two := s.build("1", map[string][]byte{"a": content[0]}), s.build("2", map[string][]byte{"a": content[1]})
			_, err := s.publish(t.Context(), one, two)
			require.NoError(t, err)
			l := s.layouts()["1"]
			harm(t, s, l, filepath.Join(s.dest, catalogue.PackFile(l.Packs[0])))
			s.check = true
			r, err := s.publish(t.Context(), one)
			require.NoError(t, err)
			require.Equal(t, []string{"public/1"}, r.Mended)
			if r.Broken != nil {
				require.Equal(t, []string{"public/2"}, r.Broken)
			}
			r, err = s.publish(t.Context(), one, two)
			require.NoError(t, err)
			require.Empty(t, r.Broken)
			for label, l := range s.layouts() {
				var all []byte
				for _, i := range l.Pieces(map[string]Build{"1": one, "2": two}[label].Parts["base"].Manifest.Files[0].Digest) {
					all = append(all, s.read(l, l.Chunks[i], pack.Chunk)...)
				}
				require.Equal(t, content[map[string]int{"1": 0, "2": 1}[label]], all)
			}
			r, err = s.publish(t.Context(), one, two)
			require.NoError(t, err)
			require.Empty(t, r.Mended)
			require.Zero(t, r.Damaged)
			require.Len(t, r.Same, 2)
		})
	}
}

// TestOldSignedFilesPutBackDoNotBringOldNumbersBack: readers would refuse them.
func TestOldSignedFilesPutBackDoNotBringOldNumbersBack(t *testing.T) {
	s := newShop(t)
	content := history(2)
	r, err := s.publish(t.Context(), s.build("1", map[string][]byte{"a": content[0]}))
	require.NoError(t, err)
	require.EqualValues(t, 1, r.Feed.Serial)
	old := t.TempDir()
	require.NoError(t, os.CopyFS(old, os.DirFS(s.dest)))
	s.serials = r.Serials
	two := s.build("2", map[string][]byte{"a": content[1]})
	r, err = s.publish(t.Context(), two)
	require.NoError(t, err)
	require.Empty(t, r.Older)
	s.serials = r.Serials
	s.dest = old // as it was
	r, err = s.publish(t.Context(), two)
	require.NoError(t, err)
	require.ElementsMatch(t, []string{"feed.json", "channels/public.json"}, r.Older)
	require.EqualValues(t, 3, r.Feed.Serial)
	require.Contains(t, s.layouts(), "2")
}

func TestABuildIsDividedByItsRules(t *testing.T) {
	m := &manifest.Manifest{
		Files: []manifest.File{{Path: "bin/a"}, {Path: "data/b"}, {Path: "voices/en/c"}, {Path: "voices/fr/d"}},
		Links: []manifest.Link{{Path: "voices/en/l", Target: "c"}},
	}
	named := func(name string, files ...string) Rule {
		return Rule{Component: catalogue.Component{Name: name}, Files: files}
	}
	a := manifest.NewAttributes()
	a.Files["bin/a"] = manifest.Attribute{Mode: 0o755}
	a.Files["data/b"] = manifest.Attribute{Mode: 0o644, MTime: time.Unix(1943000000, 0)}
	parts, err := divide(m, a, []Rule{named("en", "voices/en"), named("voices", "voices/**"), named("base"), named("none", "nothing/**")})
	require.NoError(t, err)
	require.Len(t, parts, 3, "components without files are left out")
	require.Equal(t, []manifest.File{{Path: "voices/en/c"}}, parts["en"].Manifest.Files)
	require.Len(t, parts["en"].Manifest.Links, 1)
	require.Equal(t, []manifest.File{{Path: "voices/fr/d"}}, parts["voices"].Manifest.Files, "the first rule that fits decides")
	require.Equal(t, []string{"bin/a"}, parts["base"].Programs)
	require.Equal(t, []time.Time{{}, time.Unix(1943000000, 0)}, parts["base"].Times)
	require.Nil(t, parts["en"].Times, "nothing is known of those")
	_, err = divide(m, a, []Rule{named("en", "voices/en")})
	require.ErrorIs(t, err, ErrLeftOver)
	require.ErrorContains(t, err, "bin/a, data/b, voices/fr/d")
	require.Error(t, CheckRules([]Rule{named("a"), named("b")}), "two cannot take the rest")
	require.Error(t, CheckRules([]Rule{named("../a")}))
	require.Error(t, CheckRules([]Rule{named("a", "/etc/**")}))
}

func TestKeysAreForTheirOwnerOnly(t *testing.T) {
	file := filepath.Join(t.TempDir(), "keys", "publish.key")
	require.True(t, Missing(file))
	key, err := NewKey(file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	if os.PathSeparator == '/' {
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	}
	again, err := LoadKey(file, func() (string, error) { return "", errors.New("no password is needed") })
	require.NoError(t, err)
	require.True(t, key.Equal(again))
	_, err = NewKey(file)
	require.ErrorIs(t, err, os.ErrExist, "a key is never replaced")
	require.NoError(t, os.WriteFile(file, []byte("rubbish"), 0o600))
	_, err = LoadKey(file, nil)
	require.ErrorIs(t, err, ErrKeyFile)
}
