package index_test

import (
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"morvant/internal/digest"
	"morvant/internal/index"
	"morvant/internal/manifest"
	"morvant/internal/testdir"
)

func TestMain(m *testing.M) { testdir.Main(m) }

// history is what was released over time, in lines, and how often each was read.
type history struct {
	r       *rand.Rand
	lines   map[string]*manifest.Manifest
	all     map[digest.Digest]*manifest.Manifest
	sources []index.Source
	read    int
}

func newHistory(seed uint64) *history {
	return &history{r: rand.New(rand.NewPCG(seed, 1)), lines: make(map[string]*manifest.Manifest), all: make(map[digest.Digest]*manifest.Manifest)}
}

// release changes a few things of the last manifest of a line.
func (h *history) release() {
	line := fmt.Sprint("line ", h.r.IntN(3))
	was := h.lines[line]
	if was == nil {
		was = &manifest.Manifest{}
	}
	gone := fmt.Sprint(h.r.IntN(8))
	m := was.Without(func(p string) bool { return p[len(p)-1:] == gone })
	for range 1 + h.r.IntN(5) {
		p := fmt.Sprintf("Data/f%d", h.r.IntN(30))
		if _, there := m.File(p); !there {
			text := []byte(fmt.Sprint(h.r.IntN(6)))
			m.Files = append(m.Files, manifest.File{Path: p, Size: int64(len(text)), Digest: digest.Of(text)})
			m.Sort()
		}
	}
	if h.r.IntN(3) == 0 {
		m.Links = []manifest.Link{{Path: fmt.Sprint("link", h.r.IntN(2)), Target: fmt.Sprint("Data/f", h.r.IntN(3))}}
		m.EmptyDirs = []string{fmt.Sprint("empty", h.r.IntN(2))}
	}
	h.lines[line] = m
	name := digest.Of([]byte(fmt.Sprint(len(h.sources))))
	h.all[name] = m
	h.sources = append(h.sources, index.Source{Name: name, Line: line, Read: func() (*index.Listed, error) {
		h.read++
		return &index.Listed{Manifest: m}, nil
	}})
}

// TestTheIndexTellsWhatTheManifestsHold on random histories, of which some is asked for at a time, out of order.
func TestTheIndexTellsWhatTheManifestsHold(t *testing.T) {
	for seed := range uint64(20) {
		h := newHistory(seed)
		x := index.At(filepath.Join(t.TempDir(), "known.db"))
		for range 6 {
			for range 5 {
				h.release()
			}
			some := make([]index.Source, 0, len(h.sources))
			for _, i := range h.r.Perm(len(h.sources))[:1+h.r.IntN(len(h.sources))] {
				some = append(some, h.sources[i])
			}
			v, err := x.Of(t.Context(), some)
			require.NoError(t, err)
			require.Empty(t, v.Errs)
			all, err := v.All(t.Context())
			require.NoError(t, err)
			on, err := v.On(t.Context(), []string{"data/F3", "Data/f4"})
			require.NoError(t, err)
			require.Len(t, all, len(some))
			for _, s := range some {
				require.Equal(t, h.all[s.Name].Encode(), all[s.Name].Encode(), "seed %d", seed)
				want := h.all[s.Name].Without(func(p string) bool { return p != "Data/f3" && p != "Data/f4" })
				require.Equal(t, want.Encode(), on[s.Name].Encode(), "seed %d", seed)
			}
		}
		require.LessOrEqual(t, h.read, len(h.sources), "each is read once")
		require.NoError(t, x.Close())
	}
}

// TestAThousandBuildsTakeTheRoomOfTheirChanges: ten thousand versions, not a million.
func TestAThousandBuildsTakeTheRoomOfTheirChanges(t *testing.T) {
	file := filepath.Join(t.TempDir(), "known.db")
	x := index.At(file)
	m := &manifest.Manifest{}
	for i := range 1000 {
		m.Files = append(m.Files, manifest.File{Path: fmt.Sprintf("data/archive-%04d.pak", i), Size: 100, Digest: digest.Of([]byte(fmt.Sprint(i)))})
	}
	var sources []index.Source
	for n := range 200 {
		m = m.Clone()
		for i := range 10 {
			m.Files[(10*n+i)%1000].Digest = digest.Of([]byte(fmt.Sprint(n, i)))
		}
		is := m
		sources = append(sources, index.Source{Name: digest.Of([]byte(fmt.Sprint("build", n))), Line: "game", Read: func() (*index.Listed, error) { return &index.Listed{Manifest: is}, nil }})
	}
	_, err := x.Of(t.Context(), sources)
	require.NoError(t, err)
	require.NoError(t, x.Close())
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(1<<20), "3,000 versions of some 150 bytes, their paths and two indexes")
}

// TestOneThatCannotBeReadLocksOutNoOther: and it is asked for again.
func TestOneThatCannotBeReadLocksOutNoOther(t *testing.T) {
	h := newHistory(1)
	for range 5 {
		h.release()
	}
	x := index.At(filepath.Join(t.TempDir(), "known.db"))
	defer x.Close()
	lost := errors.New("it is lost")
	read := h.sources[2].Read
	h.sources[2].Read = func() (*index.Listed, error) { return nil, lost }
	v, err := x.Of(t.Context(), h.sources)
	require.NoError(t, err)
	require.Equal(t, map[digest.Digest]error{h.sources[2].Name: lost}, v.Errs)
	all, err := v.All(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 4)
	h.sources[2].Read = read
	v, err = x.Of(t.Context(), h.sources)
	require.NoError(t, err)
	require.Empty(t, v.Errs)
	require.Equal(t, 5, h.read)
}

// TestAnIndexThatIsDamagedIsMadeAgain: at the start, a row that says something else, and one that another process has begun anew.
func TestAnIndexThatIsDamagedIsMadeAgain(t *testing.T) {
	for name, damage := range map[string]func(t *testing.T, file string){
		"no database": func(t *testing.T, file string) {
			require.NoError(t, os.WriteFile(file, []byte("some text that is long enough to be looked at as a database"), 0o600))
		},
		"a row": func(t *testing.T, file string) { change(t, file, `UPDATE version SET size = size + 1`) },
		"gone":  func(t *testing.T, file string) { change(t, file, `DELETE FROM manifest; DELETE FROM version`) },
		"newer": func(t *testing.T, file string) { change(t, file, `PRAGMA user_version = 99`) },
	} {
		h := newHistory(3)
		for range 12 {
			h.release()
		}
		file := filepath.Join(t.TempDir(), "known.db")
		x := index.At(file)
		v, err := x.Of(t.Context(), h.sources)
		require.NoError(t, err)
		check := func(v *index.View) {
			all, err := v.All(t.Context())
			require.NoError(t, err, name)
			require.Len(t, all, 12, name)
			for d, m := range all {
				require.Equal(t, h.all[d].Encode(), m.Encode(), name)
			}
		}
		check(v)
		require.NoError(t, x.Close())
		damage(t, file)
		check(v) // seen before
		v, err = x.Of(t.Context(), h.sources)
		require.NoError(t, err)
		check(v)
		require.NoError(t, x.Close())
	}
}

func change(t *testing.T, file, what string) {
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	_, err = db.Exec(what)
	require.NoError(t, err)
	require.NoError(t, db.Close())
}

// TestWhereItCannotBeWrittenManifestsAreDecoded: a home that can only be looked at tells the same.
func TestWhereItCannotBeWrittenManifestsAreDecoded(t *testing.T) {
	h := newHistory(5)
	for range 4 {
		h.release()
	}
	dir := filepath.Join(t.TempDir(), "a file")
	require.NoError(t, os.WriteFile(dir, nil, 0o600))
	x := index.At(filepath.Join(dir, "known.db"))
	v, err := x.Of(t.Context(), h.sources)
	require.NoError(t, err)
	all, err := v.All(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 4)
	on, err := v.On(t.Context(), []string{"nothing"})
	require.NoError(t, err)
	require.Len(t, on, 4)
	require.NoError(t, x.Close())
}

// TestWaysNameContentOfManifestsThatWereAskedFor.
func TestWaysNameContentOfManifestsThatWereAskedFor(t *testing.T) {
	h := newHistory(7)
	for range 6 {
		h.release()
	}
	for i := range h.sources {
		read := h.sources[i].Read
		h.sources[i].Read = func() (*index.Listed, error) {
			l, err := read()
			l.Ways = map[string]string{l.Files[0].Path: "sha256"}
			return l, err
		}
	}
	x := index.At(filepath.Join(t.TempDir(), "known.db"))
	defer x.Close()
	_, err := x.Of(t.Context(), h.sources)
	require.NoError(t, err)
	v, err := x.Of(t.Context(), h.sources[:1])
	require.NoError(t, err)
	ways, whole, err := v.Ways(t.Context())
	require.True(t, whole)
	require.NoError(t, err)
	first := h.all[h.sources[0].Name].Files[0]
	require.Equal(t, []index.Way{{Content: first.Digest, Size: first.Size, Way: "sha256", Path: first.Path, In: h.sources[0].Name}}, ways)
}

// TestFewManifestsHaveAllThatIsLookedFor: what any manifest has is in one of those that are named, on random histories.
func TestFewManifestsHaveAllThatIsLookedFor(t *testing.T) {
	for seed := range uint64(10) {
		h := newHistory(seed)
		for range 25 {
			h.release()
		}
		x := index.At(filepath.Join(t.TempDir(), "known.db"))
		v, err := x.Of(t.Context(), h.sources[:20])
		require.NoError(t, err)
		want := make(map[digest.Digest]bool)
		for n := range 4 {
			want[digest.Of([]byte(fmt.Sprint(n)))] = true
		}
		names, err := v.Having(t.Context(), want)
		require.NoError(t, err)
		require.LessOrEqual(t, len(names), len(want))
		has := func(names []digest.Digest) map[digest.Digest]bool {
			all := make(map[digest.Digest]bool)
			for _, name := range names {
				for _, f := range h.all[name].Files {
					if want[f.Digest] {
						all[f.Digest] = true
					}
				}
			}
			return all
		}
		with, err := v.With(t.Context(), want)
		require.NoError(t, err)
		for _, s := range h.sources[:20] {
			lies := ""
			for _, f := range h.all[s.Name].Files {
				if want[f.Digest] && lies == "" {
					lies = f.Path
				}
			}
			require.Equal(t, lies, with[s.Name], "seed %d", seed)
		}
		var every []digest.Digest
		for _, s := range h.sources[:20] {
			every = append(every, s.Name)
		}
		require.Equal(t, has(every), has(names), "seed %d", seed)
		require.NoError(t, x.Close())
	}
}

// TestAnotherProcessThatWritesIsNotWaitedFor: what the index lacks is decoded then.
func TestAnotherProcessThatWritesIsNotWaitedFor(t *testing.T) {
	h := newHistory(9)
	for range 6 {
		h.release()
	}
	file := filepath.Join(t.TempDir(), "known.db")
	x := index.At(file)
	defer x.Close()
	_, err := x.Of(t.Context(), h.sources[:3])
	require.NoError(t, err)
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	_, err = db.Exec("BEGIN IMMEDIATE")
	require.NoError(t, err)
	v, err := x.Of(t.Context(), h.sources)
	require.NoError(t, err)
	all, err := v.All(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 6)
	for d, m := range all {
		require.Equal(t, h.all[d].Encode(), m.Encode())
	}
	require.Equal(t, 6, h.read)
}
