package memo

import (
	"errors"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
)

func TestTheLastAreKeptByKind(t *testing.T) {
	var m Memo
	of := func(n int) digest.Digest { return digest.Of([]byte(strconv.Itoa(n))) }
	made := 0
	get := func(n int) int {
		is, err := Of(&m, of(n), func() (int, error) { made++; return n, nil })
		require.NoError(t, err)
		require.Equal(t, n, is)
		return made
	}
	require.Equal(t, 1, get(1))
	require.Equal(t, 1, get(1))
	text, err := Of(&m, of(1), func() (string, error) { return "of another kind", nil })
	require.NoError(t, err)
	require.Equal(t, "of another kind", text)
	broken := errors.New("broken")
	_, err = Of(&m, of(2), func() (int, error) { return 0, broken })
	require.ErrorIs(t, err, broken)
	require.Equal(t, 2, get(2), "an error is not kept")
	for n := range kept {
		get(10 + n)
	}
	was := made
	require.Equal(t, was+1, get(1), "it made room")
}
