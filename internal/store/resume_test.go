package store

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/pack"
)

// coded returns a chunk as a feed sends it.
func coded(t *testing.T, plain []byte) (pack.Entry, []byte) {
	t.Helper()
	c, err := pack.NewCoder(pack.Small)
	require.NoError(t, err)
	defer c.Close()
	coding, stored := c.Encode(plain, nil)
	return pack.Entry{Digest: digest.Of(plain), Kind: pack.Chunk, Coding: coding, Plain: uint32(len(plain)), Stored: uint32(len(stored))}, stored
}

func openPacks(t *testing.T, dir string) []string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(dir, packsDir, openPrefix+"*"))
	require.NoError(t, err)
	return list
}

func TestAKilledSessionIsTakenOver(t *testing.T) {
	dir := t.TempDir()
	s := openStore(t, dir)
	defer s.Close()
	ss, err := s.Resume(t.Context(), "fetch-quay")
	require.NoError(t, err)
	var chunks [][]byte
	for i := range 20 {
		chunks = append(chunks, random(byte(i), 1000+i*9000))
		e, stored := coded(t, chunks[i])
		require.NoError(t, ss.PutChunk(e, stored))
	}
	// What a kill leaves: the pack as it is on disk, never closed.
	left := openPacks(t, dir)
	require.Len(t, left, 1)
	content, err := os.ReadFile(left[0])
	require.NoError(t, err)
	require.NoError(t, ss.Close())

	other := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(other, packsDir), 0o755))
	cut := content[:len(content)-500] // the last record was under way
	require.NoError(t, os.WriteFile(filepath.Join(other, packsDir, filepath.Base(left[0])), cut, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(other, packsDir, openPrefix+"fetch-quay-empty"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(other, packsDir, openPrefix+"fetch-other-1"), content, 0o600))
	s2 := openStore(t, other)
	defer s2.Close()
	ss, err = s2.Resume(t.Context(), "fetch-quay")
	require.NoError(t, err)
	require.NoError(t, ss.Close())
	var want []digest.Digest
	for _, c := range chunks {
		want = append(want, digest.Of(c))
	}
	missing, err := s2.Missing(t.Context(), want)
	require.NoError(t, err)
	require.Equal(t, map[digest.Digest]bool{want[19]: true}, missing, "all but the one that was under way")
	require.Equal(t, chunks[7], get(t, s2, want[7]))
	require.Len(t, openPacks(t, other), 1, "what another owner has begun is left alone")
}

func TestAFileIsAssembledOnlyIfItIsWhatItsDigestSays(t *testing.T) {
	s := openStore(t, t.TempDir())
	defer s.Close()
	a, b := random(1, 40_000), random(2, 50_000)
	file := append(append([]byte{}, a...), b...)
	ss := s.Begin()
	for _, c := range [][]byte{a, b} {
		require.NoError(t, ss.PutPlain(t.Context(), digest.Of(c), c))
		require.NoError(t, ss.PutPlain(t.Context(), digest.Of(c), c), "again")
	}
	require.NoError(t, ss.Close())
	lacks, err := s.Lacks(t.Context(), []digest.Digest{digest.Of(file), digest.Of(a)})
	require.NoError(t, err)
	require.Equal(t, map[digest.Digest]bool{digest.Of(file): true}, lacks)

	ss = s.Begin()
	pieces := []Piece{{Digest: digest.Of(b), Size: len(b)}, {Digest: digest.Of(a), Size: len(a)}}
	read := 0
	err = ss.Assemble(t.Context(), digest.Of(file), pieces, func(n int) { read += n })
	require.ErrorIs(t, err, pack.ErrChecksum, "in the wrong order")
	require.Equal(t, len(file), read)
	pieces[0], pieces[1] = pieces[1], pieces[0]
	require.NoError(t, ss.Assemble(t.Context(), digest.Of(file), pieces, func(int) {}))
	err = ss.Assemble(t.Context(), digest.Of([]byte("x")), []Piece{{Digest: digest.Of([]byte("not there")), Size: 9}}, func(int) {})
	require.ErrorIs(t, err, ErrMissing)
	require.NoError(t, ss.Close())
	require.Equal(t, file, get(t, s, digest.Of(file)))
	lacks, err = s.Lacks(t.Context(), []digest.Digest{digest.Of(file)})
	require.NoError(t, err)
	require.Empty(t, lacks)
}

func TestManyRecordsAreLookedUpAtOnce(t *testing.T) {
	s := openStore(t, t.TempDir())
	defer s.Close()
	var contents [][]byte
	for i := range 3 * batch {
		contents = append(contents, []byte{byte(i), byte(i >> 8), 'x'})
	}
	there := putAll(t, s, contents...)
	var ask []digest.Digest
	for i, d := range there {
		ask = append(ask, d, digest.Of([]byte{byte(i), byte(i >> 8), 'y'}))
	}
	missing, err := s.Missing(t.Context(), ask)
	require.NoError(t, err)
	require.Len(t, missing, len(there))
	for _, d := range there {
		require.False(t, missing[d])
	}
}
