package standin

import (
	"bytes"
	"debug/pe"
	"encoding/binary"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/require"

	"morvant/internal/chunk"
	"morvant/internal/digest"
)

var small = Quay{Bytes: 4 << 20}

func digests(t *testing.T, dir string) map[string]digest.Digest {
	t.Helper()
	m := make(map[string]digest.Digest)
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(p)
		rel, _ := filepath.Rel(dir, p)
		m[filepath.ToSlash(rel)] = digest.Of(b)
		return err
	}))
	return m
}

func TestABuildIsTheSameHoweverItIsReached(t *testing.T) {
	dir := t.TempDir()
	for _, label := range []string{"1.0.0", "1.3.0", "0.9.0", "1.2.0", "1.1.1"} {
		require.NoError(t, small.Write(dir, label))
		direct := t.TempDir()
		require.NoError(t, small.Write(direct, label))
		require.Equal(t, digests(t, direct), digests(t, dir), label)
	}
	require.ErrorIs(t, small.Write(dir, "2.0.0"), ErrRelease)
	// The same everywhere and in every version of this program.
	require.Equal(t, "Cinder Quay 1.1.1\n", string(must(os.ReadFile(filepath.Join(dir, "version.txt")))))
	require.Equal(t, "39e73665a4f72ff593e6f3335a8e98d0148ca077189550940a2aea072b8a8a60", digests(t, dir)["data/cargo.pak"].String())
}

func must(b []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return b
}

func TestArchivesChangeInPlacesAsRealOnesDo(t *testing.T) {
	content := func(release int) []byte {
		var b bytes.Buffer
		require.NoError(t, newArchive(0, 16<<20, release).writeTo(&b))
		return b.Bytes()
	}
	cut := func(b []byte) map[string]bool {
		m := make(map[string]bool)
		for c := chunk.New(); len(b) > 0; {
			n := c.Next(b)
			m[string(b[:n])] = true
			b = b[n:]
		}
		return m
	}
	hotfix, before, after := cut(content(3)), cut(content(2)), cut(content(4))
	fresh := func(from, to map[string]bool) (n, total int) {
		for c := range to {
			total += len(c)
			if !from[c] {
				n += len(c)
			}
		}
		return n, total
	}
	n, total := fresh(before, hotfix)
	require.Positive(t, n)
	require.Less(t, n, total/20, "a hotfix touches little")
	n, total = fresh(hotfix, after)
	require.Greater(t, n, total/50)
	require.Less(t, n, total/2, "a content update leaves most of an archive")
}

func TestTheProgramIsOneAndTellsItsVersion(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, writeProgram(&b, "1.2.3", 10_000))
	f, err := pe.NewFile(bytes.NewReader(b.Bytes()))
	require.NoError(t, err)
	section := f.Section(".rsrc")
	require.NotNil(t, section)
	resource, err := section.Data()
	require.NoError(t, err)
	fixed := bytes.Index(resource, []byte{0xbd, 0x04, 0xef, 0xfe})
	require.Positive(t, fixed)
	require.Equal(t, []uint32{1<<16 | 2, 3 << 16}, []uint32{binary.LittleEndian.Uint32(resource[fixed+8:]), binary.LittleEndian.Uint32(resource[fixed+12:])})
	var wide []byte
	for _, u := range utf16.Encode([]rune("ProductVersion\x00")) {
		wide = binary.LittleEndian.AppendUint16(wide, u)
	}
	require.Positive(t, bytes.Index(resource, wide))
}

func TestEveryFileBelongsToAComponent(t *testing.T) {
	parts := make(map[string]int)
	for _, f := range small.files(5) {
		parts[Component(f.path)]++
	}
	require.Len(t, parts, len(Components()))
}
