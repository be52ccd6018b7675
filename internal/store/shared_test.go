package store

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/pack"
	"morvant/internal/reflink"
)

// copies lets packs copy what they would share, on disks that cannot share.
func copies(t *testing.T) {
	t.Helper()
	shareRange = func(dst *os.File, at int64, src *os.File, from, n int64) error {
		b := make([]byte, n)
		if _, err := src.ReadAt(b, from); err != nil {
			return err
		}
		_, err := dst.WriteAt(b, at)
		return err
	}
	t.Cleanup(func() { shareRange = reflink.Range })
}

// putShared puts a file in a session that shares.
func putFile(t *testing.T, s *Store, content []byte) (digest.Digest, *Session) {
	t.Helper()
	name := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(name, content, 0o644))
	f, err := os.Open(name)
	require.NoError(t, err)
	defer f.Close()
	ss := s.Begin()
	ss.Share()
	read := 0
	d, n, err := ss.Put(t.Context(), f, func(n int) { read += n })
	require.NoError(t, err)
	require.EqualValues(t, len(content), n)
	require.Equal(t, len(content), read)
	require.NoError(t, ss.Close())
	require.Equal(t, digest.Of(content), d)
	return d, ss
}

func TestContentThatIsSharedComesBack(t *testing.T) {
	copies(t)
	dir := t.TempDir()
	s := openStore(t, dir)
	content := random(1, 5<<20+123)
	d, ss := putFile(t, s, content)
	require.EqualValues(t, len(content), ss.Shared())
	require.Less(t, ss.Added(), int64(10<<10))
	require.True(t, bytes.Equal(content, get(t, s, d)))
	report, err := s.Check(t.Context(), func(int64) {})
	require.NoError(t, err)
	require.Empty(t, report.Damaged)

	// The same again, and a file that is mostly the same: nothing, and only what is new.
	_, ss = putFile(t, s, content)
	require.Zero(t, ss.Shared())
	changed := bytes.Clone(content)
	copy(changed[1<<20:], random(2, 100))
	other, ss := putFile(t, s, changed)
	require.Zero(t, ss.Shared(), "most of it is here")
	require.Less(t, ss.Added(), int64(1<<20))
	require.True(t, bytes.Equal(changed, get(t, s, other)))
	small, ss := putFile(t, s, random(3, ShareFrom-1))
	require.Zero(t, ss.Shared(), "small files are packed")
	require.Len(t, get(t, s, small), ShareFrom-1)

	// From the packs alone.
	rebuilt, err := s.Rebuild(t.Context())
	require.NoError(t, err)
	defer rebuilt.Close()
	require.True(t, bytes.Equal(content, get(t, rebuilt, d)))
	require.True(t, bytes.Equal(changed, get(t, rebuilt, other)))
}

func TestWhereNothingCanBeSharedItIsPacked(t *testing.T) {
	s := openStore(t, t.TempDir())
	defer s.Close()
	shareRange = func(*os.File, int64, *os.File, int64, int64) error { return reflink.ErrUnsupported }
	t.Cleanup(func() { shareRange = reflink.Range })
	content := random(1, 3<<20)
	d, ss := putFile(t, s, content)
	require.Zero(t, ss.Shared())
	require.True(t, bytes.Equal(content, get(t, s, d)))
	left, err := filepath.Glob(filepath.Join(s.dir, packsDir, openPrefix+"*"))
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestATrimKeepsSharedContentUntilMostOfItIsUnwanted(t *testing.T) {
	copies(t)
	s := openStore(t, t.TempDir())
	defer s.Close()
	content := random(1, 8<<20)
	d, _ := putFile(t, s, content)
	pieces, err := s.Layout(t.Context(), d)
	require.NoError(t, err)
	trim := func(live ...digest.Digest) *TrimPlan {
		m, err := s.NewMark(t.Context())
		require.NoError(t, err)
		defer m.Close()
		require.NoError(t, m.Records(t.Context(), live, 0))
		plan, err := s.PlanTrim(t.Context(), m, time.Time{})
		require.NoError(t, err)
		require.NoError(t, s.Trim(t.Context(), m, plan, func(int64) {}))
		return plan
	}
	var all []digest.Digest
	for _, p := range pieces {
		all = append(all, p.Digest)
	}
	require.Zero(t, trim(all[:len(all)*3/4]...).Rewrite, "it may take no space, and packed it would")
	few := all[:len(all)/4]
	require.Equal(t, 1, trim(few...).Rewrite)
	at := 0
	for i, p := range pieces[:len(few)] {
		got, err := s.Chunk(t.Context(), few[i], nil)
		require.NoError(t, err)
		require.True(t, bytes.Equal(content[at:at+p.Size], got))
		at += p.Size
	}
	require.Equal(t, 1, trim().Drop)
}

func TestSharedContentThatIsDamagedIsFound(t *testing.T) {
	copies(t)
	s := openStore(t, t.TempDir())
	defer s.Close()
	d, _ := putFile(t, s, random(1, 2<<20))
	packs, err := s.packs(t.Context())
	require.NoError(t, err)
	harmed := 0
	for _, p := range packs {
		shared, err := s.holdsShared(t.Context(), p.id)
		require.NoError(t, err)
		if !shared {
			continue
		}
		f, err := os.OpenFile(s.packPath(p.name), os.O_RDWR, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte("other"), 1<<20)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		harmed++
	}
	require.Equal(t, 1, harmed)
	report, err := s.Check(t.Context(), func(int64) {})
	require.NoError(t, err)
	require.Len(t, report.Damaged, 1)
	require.ErrorIs(t, s.WriteTo(t.Context(), &bytes.Buffer{}, d), pack.ErrChecksum)
}
