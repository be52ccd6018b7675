package told

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/adapter"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
)

// of makes a manifest of files with one digest each.
func of(t *testing.T, id, scope string, distrusted bool, algs ...string) *Manifest {
	m := &adapter.Manifest{}
	for i, alg := range algs {
		f := adapter.File{Path: fmt.Sprintf("%02d", i), Size: 3}
		if alg != "" {
			d, err := digest.ForeignOf(alg, []byte("abc"))
			require.NoError(t, err)
			f.Digest = d.String()
		}
		m.Files = append(m.Files, f)
	}
	out, err := New(id, "game", m, scope, distrusted)
	require.NoError(t, err)
	return out
}

func TestWhatIsKeptComesBack(t *testing.T) {
	m := of(t, "m-1", "one", false, "sha256", "sha1", "")
	packed, err := m.Encode()
	require.NoError(t, err)
	back, err := Decode(packed, "one", false)
	require.NoError(t, err)
	require.Equal(t, m.Tree, back.Tree)
	require.Equal(t, catalogue.Established{Strong: 1, Weak: 1, Unchecked: 1}, back.Established())
	elsewhere, err := Decode(packed, "two", false)
	require.NoError(t, err)
	require.Equal(t, m.Tree.Files[0], elsewhere.Tree.Files[0], "a strong digest is the same in every subscription")
	require.NotEqual(t, m.Tree.Files[1], elsewhere.Tree.Files[1])
	require.NotEqual(t, m.Tree.Files[2], elsewhere.Tree.Files[2])
	for _, bad := range [][]byte{nil, []byte("x"), packed[:len(packed)/2]} {
		_, err := Decode(bad, "one", false)
		require.Error(t, err)
	}
}

func TestWeakDigestsOfWhoIsDistrustedAreNone(t *testing.T) {
	for distrusted, ground := range map[bool]adapter.Ground{false: adapter.Weak, true: adapter.Unchecked} {
		m := of(t, "m-1", "one", distrusted, "md5", "sha256")
		require.Equal(t, ground, m.Ground(m.File("00")))
		require.Equal(t, adapter.Strong, m.Ground(m.File("01")))
	}
}

// TestMemoryDoesNotGrow with the number of manifests that are read: only the last are kept.
func TestMemoryDoesNotGrow(t *testing.T) {
	algs := make([]string, mostKept/4)
	for i := range algs {
		algs[i] = "sha1"
	}
	var m Memory
	name := func(i int) digest.Digest { return digest.Of([]byte{byte(i)}) }
	for i := range 20 {
		m.Keep(name(i), of(t, fmt.Sprint(i), "one", false, algs...))
		require.NotNil(t, m.Get(name(i), "one"))
		require.Nil(t, m.Get(name(i), "two"), "it is another subscription's")
		require.LessOrEqual(t, len(m.of), 5)
		require.Len(t, m.lately, len(m.of))
	}
	require.Nil(t, m.Get(name(0), "one"))
	large := of(t, "large", "one", false, make([]string, mostKept+1)...)
	m.Keep(name(99), large)
	require.Equal(t, large, m.Get(name(99), "one"), "the last one is kept, however large")
}
