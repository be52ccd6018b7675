package estimate

import (
	"bytes"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/store"
)

func source(b []byte) Source {
	return Source{Size: int64(len(b)), Open: func() (io.ReaderAt, io.Closer, error) { return bytes.NewReader(b), io.NopCloser(nil), nil }}
}

func TestWhatIsThereAlreadyTakesNothing(t *testing.T) {
	s, err := store.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	known, fresh := make([]byte, 6<<20), make([]byte, 6<<20)
	rand.NewChaCha8([32]byte{1}).Read(known)
	rand.NewChaCha8([32]byte{2}).Read(fresh)
	session := s.Begin()
	_, _, err = session.Put(t.Context(), bytes.NewReader(known), nil)
	require.NoError(t, err)
	require.NoError(t, session.Close())

	grows, err := Of(t.Context(), s, []Source{source(known)})
	require.NoError(t, err)
	require.Less(t, grows, int64(400<<10), "but for what is not cut where the whole file was")
	grows, err = Of(t.Context(), s, []Source{source(fresh)})
	require.NoError(t, err)
	require.InEpsilon(t, len(fresh), grows, 0.02, "it cannot be packed smaller")
	grows, err = Of(t.Context(), s, []Source{source(known), source(fresh), source(make([]byte, 6<<20))})
	require.NoError(t, err)
	require.InDelta(t, len(fresh), grows, 2<<20, "zeros take next to nothing")
	grows, err = Of(t.Context(), s, nil)
	require.NoError(t, err)
	require.Zero(t, grows)
}
