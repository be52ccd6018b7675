package digest

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestDigestsOfOtherKinds(t *testing.T) {
	// Of "abc": FIPS 180-4 examples, RFC 1321, the BLAKE3 paper's reference code.
	for _, want := range []string{
		"sha1:a9993e364706816aba3e25717850c26c9cd0d89d",
		"sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
		"sha512:ddaf35a193617abacc417349ae20413112e6fa4e89a97ea20a9eeee64b55d39a2192992a274fc1a836ba3c23a3feebbd454d4423643ce80e2a9ac94fa54ca49f",
		"md5:900150983cd24fb0d6963f7d28e17f72",
		"blake3:6437b3ac38465133ffb63b75273a8db548c558465d79db03fd359c6cd5bd9d85",
	} {
		f, err := ParseForeign(want)
		require.NoError(t, err)
		got, err := ForeignOf(f.Alg, []byte("abc"))
		require.NoError(t, err)
		require.Equal(t, want, got.String())
		upper, err := ParseForeign(f.Alg + ":" + strings.ToUpper(f.Hex))
		require.NoError(t, err)
		require.Equal(t, f, upper)
	}
	for _, bad := range []string{"", "sha1", "sha1:", "sha1:zz", "crc:00", "sha1:a9993e", "SHA1:a9993e364706816aba3e25717850c26c9cd0d89d"} {
		_, err := ParseForeign(bad)
		require.ErrorIs(t, err, ErrForeign, bad)
	}
}

func TestWhatStandsForUnseenContentIsToldApart(t *testing.T) {
	a := Unseen("sha1:a9993e364706816aba3e25717850c26c9cd0d89d/3")
	require.True(t, a.IsUnseen())
	require.Equal(t, a, Unseen("sha1:a9993e364706816aba3e25717850c26c9cd0d89d/3"))
	require.NotEqual(t, a, Unseen("sha1:a9993e364706816aba3e25717850c26c9cd0d89d/4"))
	require.False(t, Of([]byte("abc")).IsUnseen())
	require.False(t, Digest{}.IsUnseen())
}
