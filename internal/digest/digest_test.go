package digest

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The digests of the first bytes 0, 1, 2, ... from the BLAKE3 test vectors.
func TestOfFollowsTheTestVectors(t *testing.T) {
	input := make([]byte, 102400)
	for i := range input {
		input[i] = byte(i % 251)
	}
	for n, want := range map[int]string{
		0:      "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262",
		1:      "2d3adedff11b61f14c886e35afa036736dcd87a74d27b5c1510225d0f592e213",
		1024:   "42214739f095a406f3fc83deb889744ac00df831c10daa55189b5d121c855af7",
		102400: "bc3e3d41a1146b069abffad3c0d44860cf664390afce4d9661f7902e7943e085",
	} {
		require.Equal(t, want, Of(input[:n]).String(), n)
		h := NewHasher()
		for _, b := range [][]byte{input[:n/2], input[n/2 : n]} {
			_, err := h.Write(b)
			require.NoError(t, err)
		}
		require.Equal(t, want, h.Digest().String(), "in two writes: %d", n)
	}
}

func TestParseAcceptsOnlyWhatStringWrites(t *testing.T) {
	d := Of([]byte("cargo"))
	back, err := Parse(d.String())
	require.NoError(t, err)
	require.Equal(t, d, back)
	for _, s := range []string{"", "12", strings.ToUpper(d.String()), d.String() + "0", d.String()[1:] + "g", strings.Repeat(" ", 64)} {
		_, err := Parse(s)
		require.ErrorIs(t, err, ErrFormat, s)
	}
	var e Digest
	require.Error(t, e.UnmarshalText([]byte("x")))
	require.True(t, e.IsZero())
	_, err = FromBytes(d[:31])
	require.ErrorIs(t, err, ErrFormat)
}
