package pack

import (
	"bytes"
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/problem"
)

func contents() map[Kind][][]byte {
	packed := make([]byte, 100_000)
	digest.Expand("incompressible", packed)
	return map[Kind][][]byte{
		Chunk:  {[]byte("short"), {}, bytes.Repeat([]byte("cranes and tides "), 9000), packed},
		Layout: {bytes.Repeat([]byte{7}, 500)},
		Note:   {[]byte(`{"format":"x"}`)},
	}
}

// build writes a pack of the sample contents and returns its bytes.
func build(t testing.TB) (digest.Digest, []Entry, []byte) {
	t.Helper()
	c, err := NewCoder(Fast)
	require.NoError(t, err)
	defer c.Close()
	f, err := os.Create(filepath.Join(t.TempDir(), "pack"))
	require.NoError(t, err)
	defer f.Close()
	w := NewWriter(f)
	for _, kind := range []Kind{Chunk, Layout, Note} {
		for _, plain := range contents()[kind] {
			coding, stored := c.Encode(plain, nil)
			_, err := w.Append(digest.Of(plain), kind, coding, len(plain), stored)
			require.NoError(t, err)
		}
	}
	name, err := w.Finish()
	require.NoError(t, err)
	b, err := os.ReadFile(f.Name())
	require.NoError(t, err)
	return name, w.Entries(), b
}

func TestWhatIsAppendedIsReadBack(t *testing.T) {
	name, entries, b := build(t)
	c, err := NewCoder(Fast)
	require.NoError(t, err)
	defer c.Close()
	got, index, err := ReadIndex(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	require.Equal(t, name, got)
	require.Equal(t, entries, index)
	i := 0
	for _, kind := range []Kind{Chunk, Layout, Note} {
		for _, plain := range contents()[kind] {
			stored, err := ReadStored(bytes.NewReader(b), index[i], nil)
			require.NoError(t, err)
			back, err := c.Decode(index[i], stored, nil)
			require.NoError(t, err)
			require.True(t, bytes.Equal(plain, back))
			require.Equal(t, kind, index[i].Kind)
			i++
		}
	}
	require.Equal(t, Zstd, index[2].Coding)
	require.Equal(t, Plain, index[3].Coding, "what does not compress is stored as it is")
}

func TestALostTrailerIsFoundAgainRecordByRecord(t *testing.T) {
	_, entries, b := build(t)
	cut := b[:len(b)-footerSize-10]
	_, _, err := ReadIndex(bytes.NewReader(cut), int64(len(cut)))
	require.ErrorIs(t, err, ErrFormat)
	found, err := Recover(bytes.NewReader(cut), int64(len(cut)))
	require.NoError(t, err)
	require.Equal(t, entries, found)

	broken := bytes.Clone(b)
	broken[0] ^= 1                    // the header
	broken[entries[2].Offset+20] ^= 1 // the head of one record
	found, err = Recover(bytes.NewReader(broken), int64(len(broken)))
	require.NoError(t, err)
	require.Equal(t, append(append([]Entry{}, entries[:2]...), entries[3:]...), found)
}

func TestEveryFlippedBitIsNoticed(t *testing.T) {
	_, entries, b := build(t)
	c, err := NewCoder(Fast)
	require.NoError(t, err)
	defer c.Close()
	e := entries[0]
	for at := e.Offset; at < e.Offset+e.Size(); at++ {
		for bit := range 8 {
			broken := bytes.Clone(b)
			broken[at] ^= 1 << bit
			stored, err := ReadStored(bytes.NewReader(broken), e, nil)
			if err == nil {
				_, err = c.Decode(e, stored, nil)
			}
			require.Error(t, err, "byte %d bit %d", at-e.Offset, bit)
		}
	}
}

func TestAFrameThatInflatesWithoutEndIsStopped(t *testing.T) {
	c, err := NewCoder(Fast)
	require.NoError(t, err)
	defer c.Close()
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	bomb := enc.EncodeAll(make([]byte, 512<<20), nil)
	require.Less(t, len(bomb), 1<<20)
	_, err = c.Decode(Entry{Kind: Chunk, Coding: Zstd, Plain: 1000, Stored: uint32(len(bomb))}, bomb, nil)
	require.ErrorIs(t, err, ErrChecksum)
}

func TestNewerAndForeignFilesAreToldApart(t *testing.T) {
	_, _, b := build(t)
	newer := bytes.Clone(b)
	binary.LittleEndian.PutUint32(newer[8:], 3)
	_, _, err := ReadIndex(bytes.NewReader(newer), int64(len(newer)))
	require.ErrorIs(t, err, problem.ErrNewer)
	_, _, err = ReadIndex(bytes.NewReader([]byte("something else entirely, long enough to be read")), 47)
	require.ErrorIs(t, err, ErrFormat)
	_, _, err = ReadIndex(bytes.NewReader(b[:20]), 20)
	require.ErrorIs(t, err, ErrFormat)
}

func TestAChunkIsCodedAgainstOneThatIsMuchLikeIt(t *testing.T) {
	base := make([]byte, 200_000)
	digest.Expand("base", base)
	plain := bytes.Clone(base)
	copy(plain[70_000:], "something else")
	plain = append([]byte("moved by a little "), plain...)
	stored, err := EncodeAgainst(plain, digest.Of(base), base)
	require.NoError(t, err)
	require.Less(t, len(stored), 1000)
	e := Entry{Digest: digest.Of(plain), Kind: Chunk, Coding: Based, Plain: uint32(len(plain)), Stored: uint32(len(stored))}
	named, err := BaseOf(stored)
	require.NoError(t, err)
	require.Equal(t, digest.Of(base), named)
	back, err := DecodeAgainst(e, stored, base)
	require.NoError(t, err)
	require.True(t, bytes.Equal(plain, back))

	c, err := NewCoder(Fast)
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Decode(e, stored, nil)
	require.ErrorIs(t, err, ErrFormat, "not without its base")
	_, err = DecodeAgainst(e, stored, make([]byte, len(base)))
	require.ErrorIs(t, err, ErrChecksum, "nor with another")
	for at := range stored {
		broken := bytes.Clone(stored)
		broken[at] ^= 1
		got, err := DecodeAgainst(e, broken, base)
		require.True(t, err != nil || bytes.Equal(got, plain), "byte %d", at) // the named base is the caller's to compare
	}
	_, err = BaseOf(stored[:10])
	require.ErrorIs(t, err, ErrFormat)
	e.Stored = 10
	require.ErrorIs(t, e.Check(), ErrFormat)
}

func FuzzBased(f *testing.F) {
	base := bytes.Repeat([]byte("cranes and tides "), 500)
	plain := append([]byte("new "), base...)
	stored, err := EncodeAgainst(plain, digest.Of(base), base)
	require.NoError(f, err)
	f.Add(stored)
	f.Fuzz(func(t *testing.T, b []byte) {
		e := Entry{Digest: digest.Of(plain), Kind: Chunk, Coding: Based, Plain: uint32(len(plain)), Stored: uint32(len(b))}
		if got, err := DecodeAgainst(e, b, base); err == nil && !bytes.Equal(got, plain) {
			t.Fatal("handed out content that is not what its digest says")
		}
	})
}

func FuzzPack(f *testing.F) {
	_, _, b := build(f)
	f.Add(b)
	f.Add(b[:len(b)-100])
	f.Add(b[:headerSize+recordSize+3])
	c, err := NewCoder(Fast)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, b []byte) {
		r := bytes.NewReader(b)
		_, index, _ := ReadIndex(r, int64(len(b)))
		found, _ := Recover(r, int64(len(b)))
		for _, e := range append(index, found...) {
			stored, err := ReadStored(r, e, nil)
			if err != nil {
				continue
			}
			plain, err := c.Decode(e, stored, nil)
			if err == nil && digest.Of(plain) != e.Digest {
				t.Fatal("handed out content that is not what its digest says")
			}
		}
	})
}

// TestPacksOfVersionOneAreReadAndWrittenTheSame writes the records of old packs again, byte for
// byte: fields that have changed places on both sides would not come out as they were.
func TestPacksOfVersionOneAreReadAndWrittenTheSame(t *testing.T) {
	for _, name := range []string{"store.pack", "feed.pack"} {
		old, err := os.ReadFile(filepath.Join("..", "..", "testdata", "v1", "parts", name))
		require.NoError(t, err)
		id, entries, err := ReadIndex(bytes.NewReader(old), int64(len(old)))
		require.NoError(t, err)
		require.NotEmpty(t, entries)
		file, err := os.Create(filepath.Join(t.TempDir(), "again"))
		require.NoError(t, err)
		defer file.Close()
		w := NewWriter(file)
		coder, err := NewCoder(Fast)
		require.NoError(t, err)
		defer coder.Close()
		plains := make(map[digest.Digest][]byte)
		for _, e := range slices.SortedFunc(slices.Values(entries), func(a, b Entry) int { return int(a.Offset - b.Offset) }) {
			stored, err := ReadStored(bytes.NewReader(old), e, nil)
			require.NoError(t, err)
			var plain []byte
			if e.Coding.NeedsBase() {
				base, err := BaseOf(stored)
				require.NoError(t, err)
				plain, err = DecodeAgainst(e, stored, plains[base])
				if e.Kind == Again && err != nil {
					continue
				}
				require.NoError(t, err)
			} else {
				plain, err = coder.Decode(e, stored, nil)
				require.NoError(t, err)
			}
			plains[e.Digest] = bytes.Clone(plain)
			got, err := w.Append(e.Digest, e.Kind, e.Coding, int(e.Plain), stored)
			require.NoError(t, err)
			require.Equal(t, e, got)
		}
		again, err := w.Finish()
		require.NoError(t, err)
		require.Equal(t, id, again)
		now, err := os.ReadFile(file.Name())
		require.NoError(t, err)
		require.Equal(t, old, now)
	}
}

// TestAFrameAgainstABaseIsReadByOtherPrograms, and those that earlier versions wrote, with a number, here.
func TestAFrameAgainstABaseIsReadByOtherPrograms(t *testing.T) {
	base := make([]byte, 50_000)
	digest.Expand("base", base)
	plain := append(append(bytes.Clone(base[:20_000]), []byte("a change")...), base[20_000:]...)
	stored, err := EncodeAgainst(plain, digest.Of(base), base)
	require.NoError(t, err)
	var head zstd.Header
	require.NoError(t, head.Decode(stored[digest.Size:]))
	require.Zero(t, head.DictionaryID)

	old, err := zstd.NewWriter(nil, zstd.WithEncoderDictRaw(1, base), zstd.WithEncoderCRC(false))
	require.NoError(t, err)
	numbered := old.EncodeAll(plain, bytes.Clone(stored[:digest.Size]))
	require.NoError(t, head.Decode(numbered[digest.Size:]))
	require.EqualValues(t, 1, head.DictionaryID)
	for _, s := range [][]byte{stored, numbered} {
		require.Less(t, len(s), 2000)
		e := Entry{Digest: digest.Of(plain), Plain: uint32(len(plain)), Stored: uint32(len(s)), Kind: Chunk, Coding: Based}
		back, err := DecodeAgainst(e, s, base)
		require.NoError(t, err)
		require.Equal(t, plain, back)
	}

	program, err := exec.LookPath("zstd")
	if err != nil {
		t.Skip("zstd is not there")
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "base"), base, 0o644))
	cmd := exec.Command(program, "-d", "-c", "-D", filepath.Join(dir, "base"))
	cmd.Stdin = bytes.NewReader(stored[digest.Size:])
	got, err := cmd.Output()
	require.NoError(t, err)
	require.Equal(t, plain, got)
}
