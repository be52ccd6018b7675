package store

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/gofrs/flock"
	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
)

func random(seed byte, n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{seed}).Read(b)
	return b
}

func openStore(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(t.Context(), dir)
	require.NoError(t, err)
	return s
}

func putAll(t *testing.T, s *Store, contents ...[]byte) []digest.Digest {
	t.Helper()
	ss := s.Begin()
	var list []digest.Digest
	for _, c := range contents {
		d, n, err := ss.Put(t.Context(), bytes.NewReader(c), nil)
		require.NoError(t, err)
		require.Equal(t, int64(len(c)), n)
		list = append(list, d)
	}
	require.NoError(t, ss.Close())
	return list
}

func get(t *testing.T, s *Store, d digest.Digest) []byte {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, s.WriteTo(t.Context(), &out, d))
	return out.Bytes()
}

func TestContentOfAnySizeComesBack(t *testing.T) {
	s := openStore(t, t.TempDir())
	defer s.Close()
	for i, n := range []int{0, 1, 1000, 16 << 10, 16<<10 + 1, 64 << 10, 256 << 10, 256<<10 + 1, segmentSize - 1, segmentSize, segmentSize + 256<<10, segmentSize + 256<<10 + 1, 9 << 20} {
		content := random(byte(i), n)
		d := putAll(t, s, content)[0]
		require.Equal(t, digest.Of(content), d, "size %d", n)
		require.True(t, bytes.Equal(content, get(t, s, d)), "size %d", n)
		pieces, err := s.Layout(t.Context(), d)
		require.NoError(t, err)
		sum := 0
		for _, p := range pieces {
			sum += p.Size
		}
		require.Equal(t, n, sum)
		ok, err := s.Complete(t.Context(), d)
		require.NoError(t, err)
		require.True(t, ok)
	}
	ok, err := s.Has(t.Context(), digest.Of([]byte("never put")))
	require.NoError(t, err)
	require.False(t, ok)
	_, err = s.Layout(t.Context(), digest.Of([]byte("never put")))
	require.ErrorIs(t, err, ErrMissing)
	_, err = s.Bytes(t.Context(), putAll(t, s, random(1, 5000))[0], 4999)
	require.ErrorContains(t, err, "more than")
}

func TestTheSameContentIsStoredOnce(t *testing.T) {
	s := openStore(t, t.TempDir())
	defer s.Close()
	content := random(1, 4<<20)
	putAll(t, s, content)
	ss := s.Begin()
	changed := bytes.Join([][]byte{content[:1<<20], []byte("inserted"), content[1<<20:]}, nil)
	for _, c := range [][]byte{content, content, changed} {
		_, _, err := ss.Put(t.Context(), bytes.NewReader(c), nil)
		require.NoError(t, err)
	}
	require.NoError(t, ss.Close())
	require.Less(t, ss.Added(), int64(1<<20), "only the pieces around the insertion are new")
}

func TestManyMayPutAtOnce(t *testing.T) {
	dir := t.TempDir()
	var wg sync.WaitGroup
	contents := make([][]byte, 24)
	for i := range contents {
		contents[i] = random(byte(i%6), 300_000+i%6*100_000)
	}
	for worker := range 3 { // as three processes would
		wg.Go(func() {
			s, err := Open(context.Background(), dir)
			if err != nil {
				t.Error(err)
				return
			}
			defer s.Close()
			ss := s.Begin()
			var puts sync.WaitGroup
			for i, c := range contents {
				// A third of the contents, and all those that others put as well.
				if i%3 == worker || i < 6 {
					puts.Go(func() {
						if d, _, err := ss.Put(context.Background(), bytes.NewReader(c), nil); err != nil || d != digest.Of(c) {
							t.Error(d, err)
						}
					})
				}
			}
			puts.Wait()
			if err := ss.Close(); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	s := openStore(t, dir)
	defer s.Close()
	report, err := s.Check(t.Context(), func(int64) {})
	require.NoError(t, err)
	require.Empty(t, report.Damaged)
	for _, c := range contents {
		require.True(t, bytes.Equal(c, get(t, s, digest.Of(c))))
	}
}

func TestPuttingWaitsForASlowDiskAndGoesOn(t *testing.T) {
	s := openStore(t, t.TempDir())
	defer s.Close()
	ss := s.Begin()
	ss.packSize = 100 << 10 // so that bringing packs to disk is what takes longest
	contents := [][]byte{random(1, 12<<20), random(2, 12<<20), random(3, 300), random(4, 1<<20)}
	var wg sync.WaitGroup
	for _, c := range contents {
		wg.Go(func() {
			if _, _, err := ss.Put(context.Background(), bytes.NewReader(c), nil); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	require.NoError(t, ss.Close())
	for _, c := range contents {
		require.True(t, bytes.Equal(c, get(t, s, digest.Of(c))))
	}
}

func TestAReaderThatFailsLeavesNothingBehind(t *testing.T) {
	s := openStore(t, t.TempDir())
	defer s.Close()
	broken := errors.New("the disk is on fire")
	ss := s.Begin()
	_, _, err := ss.Put(t.Context(), io.MultiReader(bytes.NewReader(random(1, 5<<20)), &failing{broken}), nil)
	require.ErrorIs(t, err, broken)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = ss.Put(ctx, bytes.NewReader(random(2, 5<<20)), nil)
	require.ErrorIs(t, err, context.Canceled)
	require.NoError(t, ss.Close())
	ok, err := s.Has(t.Context(), digest.Of(random(2, 5<<20)))
	require.NoError(t, err)
	require.False(t, ok)
}

type failing struct{ err error }

func (f *failing) Read([]byte) (int, error) { return 0, f.err }

func TestTrimDropsWhatNobodyMarkedAndNothingElse(t *testing.T) {
	dir := t.TempDir()
	s := openStore(t, dir)
	var keep, drop []digest.Digest
	for i := range 6 {
		a, b := random(byte(2*i), 700_000), random(byte(2*i+1), 700_000)
		list := putAll(t, s, a, b)
		keep, drop = append(keep, list[0]), append(drop, list[1])
	}
	drop = append(drop, putAll(t, s, random(99, 900_000))...)
	require.NoError(t, s.Close())
	require.NoError(t, os.WriteFile(filepath.Join(dir, packsDir, openPrefix+"left-by-a-crash"), random(3, 5000), 0o644))

	s, _, err := OpenAlone(t.Context(), dir)
	require.NoError(t, err)
	_, _, err = OpenAlone(t.Context(), dir)
	require.ErrorIs(t, err, ErrBusy)
	m, err := s.NewMark(t.Context())
	require.NoError(t, err)
	for i, d := range keep {
		require.NoError(t, m.Files(t.Context(), []digest.Digest{d}, i))
	}
	plan, err := s.PlanTrim(t.Context(), m, time.Time{})
	require.NoError(t, err)
	require.Equal(t, []int{1, 6, 1}, []int{plan.Drop, plan.Rewrite, plan.Stale})
	before, err := s.Size(t.Context())
	require.NoError(t, err)
	require.NoError(t, s.Trim(t.Context(), m, plan, func(int64) {}))
	require.NoError(t, m.Close())
	after, err := s.Size(t.Context())
	require.NoError(t, err)
	require.InDelta(t, plan.Freed, before-after+5000, 20_000)
	for i, d := range keep {
		require.True(t, bytes.Equal(random(byte(2*i), 700_000), get(t, s, d)))
	}
	for _, d := range drop {
		ok, err := s.Has(t.Context(), d)
		require.NoError(t, err)
		require.False(t, ok)
	}
	require.NoError(t, s.Close())
}

// Killed between the new pack and its place in the index, a trim leaves a pack that holds
// nothing the index needs, and that the next trim writes again under the same name.
func TestATrimAfterAKilledOneDropsNothingThatIsNeeded(t *testing.T) {
	dir := t.TempDir()
	s := openStore(t, dir)
	kept, dead := random(1, 700_000), random(2, 700_000)
	keep := putAll(t, s, kept, dead)[:1]
	require.NoError(t, s.Close())
	planned := func() (*Mark, *TrimPlan) {
		var err error
		s, _, err = OpenAlone(t.Context(), dir)
		require.NoError(t, err)
		require.NoError(t, s.Adopt(t.Context()))
		m, err := s.NewMark(t.Context())
		require.NoError(t, err)
		require.NoError(t, m.Files(t.Context(), keep, 0))
		plan, err := s.PlanTrim(t.Context(), m, time.Time{})
		require.NoError(t, err)
		return m, plan
	}

	m, plan := planned()
	killed := &trimmer{store: s, mark: m, moved: func(int64) {}}
	require.Len(t, plan.rewrite, 1)
	require.NoError(t, killed.rewrite(t.Context(), plan.rewrite[0]))
	_, err := s.name(killed.out)
	require.NoError(t, err)
	require.NoError(t, m.Close())
	require.NoError(t, s.Close())

	m, plan = planned()
	require.Equal(t, []int{1, 1}, []int{plan.Drop, plan.Rewrite})
	require.NoError(t, s.Trim(t.Context(), m, plan, func(int64) {}))
	require.NoError(t, m.Close())
	require.True(t, bytes.Equal(kept, get(t, s, keep[0])))
	require.NoError(t, s.Close())
	names, err := packNames(dir)
	require.NoError(t, err)
	require.Len(t, names, 1)
}

func TestAPackThatTheIndexDoesNotKnowIsAdopted(t *testing.T) {
	dir := t.TempDir()
	s := openStore(t, dir)
	content := random(1, 3<<20)
	d := putAll(t, s, content)[0]
	_, err := s.db.Exec(`DELETE FROM record; DELETE FROM layout; DELETE FROM pack`)
	require.NoError(t, err)
	ok, err := s.Has(t.Context(), d)
	require.NoError(t, err)
	require.False(t, ok)
	require.NoError(t, s.Adopt(t.Context()))
	require.True(t, bytes.Equal(content, get(t, s, d)))
	require.NoError(t, s.Close())

	require.NoError(t, os.Remove(filepath.Join(dir, indexFile)))
	other := flock.New(filepath.Join(dir, lockFile)) // somebody else is using the store
	_, err = other.TryRLock()
	require.NoError(t, err)
	_, err = Open(t.Context(), dir)
	require.ErrorIs(t, err, ErrIndexLost)
	require.NoError(t, other.Close())
	s, err = Open(t.Context(), dir)
	require.NoError(t, err)
	require.True(t, s.Rebuilt)
	require.True(t, bytes.Equal(content, get(t, s, d)))
	require.NoError(t, s.Close())
	require.NoError(t, os.Remove(filepath.Join(dir, indexFile)))
	s, rebuilt, err := OpenAlone(t.Context(), dir)
	require.NoError(t, err)
	require.True(t, rebuilt)
	require.True(t, bytes.Equal(content, get(t, s, d)))
	require.NoError(t, s.Close())
}

func TestAnIndexThatIsHalfMadeAnewIsNoIndex(t *testing.T) {
	dir := t.TempDir()
	s := openStore(t, dir)
	var list []digest.Digest
	for i := range 4 {
		list = append(list, putAll(t, s, random(byte(i), 700_000))...)
	}
	require.NoError(t, s.Close())
	require.NoError(t, os.Remove(filepath.Join(dir, indexFile)))
	names, err := packNames(dir)
	require.NoError(t, err)
	last := filepath.Join(dir, packsDir, names[len(names)-1]+packSuffix)
	require.NoError(t, os.Rename(last, last+".away"))
	require.NoError(t, os.Mkdir(last, 0o755)) // cannot be read: it ends in the middle
	_, err = Open(t.Context(), dir)
	require.Error(t, err)
	require.NoError(t, os.Remove(last))
	require.NoError(t, os.Rename(last+".away", last))

	s, err = Open(t.Context(), dir)
	require.NoError(t, err)
	for i, d := range list {
		require.True(t, bytes.Equal(random(byte(i), 700_000), get(t, s, d)))
	}
	require.NoError(t, s.Close())
	left, err := filepath.Glob(filepath.Join(dir, indexFile+"*"))
	require.NoError(t, err)
	require.Equal(t, []string{filepath.Join(dir, indexFile)}, left)
}

func TestSharesCountWhatOnlyOneOwnerHas(t *testing.T) {
	s := openStore(t, t.TempDir())
	defer s.Close()
	list := putAll(t, s, random(1, 10_000), random(2, 20_000), random(3, 30_000), random(4, 40_000))
	m, err := s.NewMark(t.Context())
	require.NoError(t, err)
	defer m.Close()
	for _, c := range []struct{ file, owner int }{{0, 0}, {1, 0}, {1, 1}, {2, 1}, {2, Nobody}, {3, Nobody}} {
		require.NoError(t, m.Files(t.Context(), []digest.Digest{list[c.file]}, c.owner))
	}
	shares, err := m.Shares(t.Context())
	require.NoError(t, err)
	require.Equal(t, map[int]Share{0: {10_000, 10_000}, 1: {30_000, 30_000}, Nobody: {40_000, 40_000}}, shares)
}

func TestASessionThatIsNotClosedIsReported(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	session := s.Begin()
	require.ErrorContains(t, s.Close(), "while something was being put into it")
	require.NoError(t, session.Close())
	s, err = Open(t.Context(), s.Dir())
	require.NoError(t, err)
	session = s.Begin()
	require.NoError(t, session.Close())
	require.NoError(t, session.Close(), "again does nothing")
	require.NoError(t, s.Close())
}

// TestAReadThatIsCancelledEnds wherever it is: what is read ahead keeps nobody waiting.
func TestAReadThatIsCancelledEnds(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	content := random(7, 24<<20)
	session := s.Begin()
	d, _, err := session.Put(t.Context(), bytes.NewReader(content), nil)
	require.NoError(t, err)
	require.NoError(t, session.Close())
	for n := range 40 {
		ctx, cancel := context.WithCancel(t.Context())
		taken := 0
		err := s.Read(ctx, d, func([]byte) error {
			if taken++; taken > n%8 {
				cancel()
			}
			return nil
		})
		cancel()
		require.ErrorIs(t, err, context.Canceled)
	}
}
