package pack

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
)

// noise is what no compression helps with.
func noise(n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{1}).Read(b)
	return b
}

func TestWhatIsWorthCompressing(t *testing.T) {
	c, err := NewCoder(Fast)
	require.NoError(t, err)
	defer c.Close()
	coding := func(plain []byte) Coding {
		is, stored := c.Encode(plain, nil)
		if is == Plain {
			require.Equal(t, plain, stored)
		} else {
			require.LessOrEqual(t, len(stored), len(plain)-len(plain)/32)
		}
		e := Entry{Digest: digest.Of(plain), Kind: Chunk, Coding: is, Plain: uint32(len(plain)), Stored: uint32(len(stored)), Offset: headerSize}
		back, err := c.Decode(e, stored, nil)
		require.NoError(t, err)
		require.Equal(t, plain, back)
		return is
	}
	require.Equal(t, Plain, coding(bytes.Repeat([]byte("a"), 31)))
	require.Equal(t, Zstd, coding(bytes.Repeat([]byte("a"), 32)))
	require.Equal(t, Plain, coding(noise(1000)))
	// A thirty-second part that is all the same, and a little more of it.
	mixed := func(same int) []byte { return append(noise(32<<10-same), make([]byte, same)...) }
	require.Equal(t, Plain, coding(mixed(900)))
	require.Equal(t, Zstd, coding(mixed(2<<10)))
	// It is guessed from the beginning, the middle and the end: text anywhere of these is seen.
	text := []byte(strings.Repeat("tides and cargo ", sampleSize/16))
	for _, at := range []int{0, 32<<10 - sampleSize/2, 64<<10 - sampleSize} {
		b := noise(64 << 10)
		copy(b[at:], text)
		require.False(t, looksPacked(b), "text at %d", at)
	}
	b := noise(64 << 10)
	copy(b[10<<10:], text)
	require.True(t, looksPacked(b), "nobody looks there")
	require.True(t, looksPacked(noise(smallestToGuess)))
	require.False(t, looksPacked(noise(smallestToGuess-1)), "too small to guess")
}

// TestATrailerThatCannotBeIsRefused: more entries than there is room for, or fewer bytes than a
// pack has at least.
func TestATrailerThatCannotBeIsRefused(t *testing.T) {
	_, entries, b := build(t)
	size := int64(len(b))
	_, got, err := ReadIndex(bytes.NewReader(b), size)
	require.NoError(t, err)
	require.Equal(t, entries, got)
	for n := int64(headerSize); n < headerSize+footerSize; n++ {
		_, _, err := ReadIndex(bytes.NewReader(b[:n]), n)
		require.ErrorIs(t, err, ErrFormat, "%d bytes", n)
	}
	most := (size - headerSize - footerSize) / entrySize
	for _, count := range []int64{most + 1, maxEntries, maxEntries + 1, 1<<32 - 1} {
		bad := bytes.Clone(b)
		foot := bad[size-footerSize:]
		foot[0], foot[1], foot[2], foot[3] = byte(count), byte(count>>8), byte(count>>16), byte(count>>24)
		_, _, err := ReadIndex(bytes.NewReader(bad), size)
		require.ErrorIs(t, err, ErrFormat, "%d entries", count)
	}
	// As many as there is room for are read, and then do not have the name.
	bad := bytes.Clone(b)
	bad[size-footerSize] = byte(most)
	_, _, err = ReadIndex(bytes.NewReader(bad), size)
	require.ErrorIs(t, err, ErrChecksum)
}

// TestRecordsAreFoundUpToTheEnd: also the last one, and whatever lies before one.
func TestRecordsAreFoundUpToTheEnd(t *testing.T) {
	_, entries, b := build(t)
	last := entries[len(entries)-1]
	end := last.Offset + last.Size()
	found, err := Recover(bytes.NewReader(b), end)
	require.NoError(t, err)
	require.Equal(t, entries, found, "the trailer is cut off")
	found, err = Recover(bytes.NewReader(b[:end-1]), end-1)
	require.NoError(t, err)
	require.Equal(t, entries[:len(entries)-1], found, "the last record is not whole")
	for _, gap := range []int{1, 7, 1<<16 - 3, 1 << 16, 1<<16 + 1, 200_000} {
		moved := append(append(bytes.Clone(b[:headerSize]), make([]byte, gap)...), b[headerSize:end]...)
		found, err := Recover(bytes.NewReader(moved), int64(len(moved)))
		require.NoError(t, err)
		require.Len(t, found, len(entries), "%d bytes of nothing", gap)
		require.Equal(t, int64(headerSize+gap), found[0].Offset)
	}
	found, err = Recover(bytes.NewReader(b[:headerSize]), headerSize)
	require.NoError(t, err)
	require.Empty(t, found)
}

func TestRoomThatIsGivenIsUsed(t *testing.T) {
	_, entries, b := build(t)
	e := entries[0]
	room := make([]byte, 0, e.Size())
	stored, err := ReadStored(bytes.NewReader(b), e, room)
	require.NoError(t, err)
	require.Equal(t, b[e.Offset:e.Offset+e.Size()], room[:e.Size()], "just enough room is enough")
	require.Len(t, stored, int(e.Stored))
	_, err = BaseOf(make([]byte, digest.Size-1))
	require.ErrorIs(t, err, ErrFormat)
	d, err := BaseOf(make([]byte, digest.Size))
	require.NoError(t, err)
	require.Zero(t, d)
	require.Error(t, Entry{Digest: e.Digest, Kind: 0, Coding: Plain, Plain: 1, Stored: 1}.Check())
	require.Error(t, Entry{Digest: e.Digest, Kind: Again + 1, Coding: Plain, Plain: 1, Stored: 1}.Check())
}

// TestEntriesOutsideThePackAreRefused: the name of a trailer only tells that it is whole.
func TestEntriesOutsideThePackAreRefused(t *testing.T) {
	_, entries, b := build(t)
	size, n := int64(len(b)), int64(len(entries))
	end := size - footerSize - n*entrySize
	forged := func(change func(e *Entry)) error {
		bad := bytes.Clone(b)
		index := bytes.Clone(b[:headerSize])
		for i, e := range entries {
			if i == 0 {
				change(&e)
			}
			index = e.appendEntry(index)
		}
		name := digest.Of(index)
		copy(bad[end:], index[headerSize:])
		copy(bad[size-footerSize+8:], name[:])
		_, _, err := ReadIndex(bytes.NewReader(bad), size)
		return err
	}
	last := end - entries[0].Size()
	for _, at := range []int64{headerSize, last} {
		require.NoError(t, forged(func(e *Entry) { e.Offset = at }), "%d", at)
	}
	for _, at := range []int64{headerSize - 1, last + 1, end, -1} {
		require.ErrorIs(t, forged(func(e *Entry) { e.Offset = at }), ErrFormat, "%d", at)
	}
	require.ErrorIs(t, forged(func(e *Entry) { e.Kind = 0 }), ErrFormat)
	require.ErrorIs(t, forged(func(e *Entry) { e.Coding = 99 }), ErrFormat)
}

// TestSmallAndLargeRecordsStandInOrder: what goes through the buffer, and what does not, and
// what an eager writer has written at each moment.
func TestSmallAndLargeRecordsStandInOrder(t *testing.T) {
	for _, eager := range []bool{false, true} {
		f, err := os.Create(filepath.Join(t.TempDir(), "pack"))
		require.NoError(t, err)
		defer f.Close()
		w := NewWriter(f)
		w.Eager = eager
		all := noise(20 * direct)
		written := func() int64 {
			info, err := f.Stat()
			require.NoError(t, err)
			return info.Size()
		}
		var parts [][]byte
		for i, n := range []int{1, direct - 1, direct, 7, direct + 1, 3, direct - 1, direct - 1, direct - 1, direct - 1, direct - 1, 5} {
			part := all[i*direct/2 : i*direct/2+n]
			parts = append(parts, part)
			_, err := w.Append(digest.Of(part), Chunk, Plain, n, part)
			require.NoError(t, err)
			switch {
			case eager || n >= direct:
				require.Equal(t, w.Size(), written(), "record %d of %d bytes is there at once", i, n)
			case i < 2:
				require.Zero(t, written(), "the first small ones wait in the buffer")
			}
		}
		if !eager {
			require.Less(t, written(), w.Size())
			require.Greater(t, written(), w.Size()-2*bufferSize, "the buffer is written when it is full")
		}
		_, err = w.Finish()
		require.NoError(t, err)
		b, err := os.ReadFile(f.Name())
		require.NoError(t, err)
		_, entries, err := ReadIndex(bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err)
		require.Len(t, entries, len(parts))
		for i, e := range entries {
			stored, err := ReadStored(bytes.NewReader(b), e, nil)
			require.NoError(t, err)
			require.Equal(t, parts[i], stored)
		}
	}
}

// TestAPackMayBeEmptyAndARecordToo: the shortest pack, and the shortest record at the end.
func TestAPackMayBeEmptyAndARecordToo(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "pack"))
	require.NoError(t, err)
	defer f.Close()
	name, err := NewWriter(f).Finish()
	require.NoError(t, err)
	got, entries, err := ReadIndex(f, headerSize+footerSize)
	require.NoError(t, err)
	require.Equal(t, name, got)
	require.Empty(t, entries)

	require.NoError(t, f.Truncate(0))
	w := NewWriter(f)
	e, err := w.Append(digest.Of(nil), Chunk, Plain, 0, nil)
	require.NoError(t, err)
	_, err = w.Finish()
	require.NoError(t, err)
	found, err := Recover(f, e.Offset+e.Size())
	require.NoError(t, err)
	require.Equal(t, []Entry{e}, found)
}

func TestARecordHasALargestSize(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "pack"))
	require.NoError(t, err)
	defer f.Close()
	w := NewWriter(f)
	most := make([]byte, maxStored+1)
	_, err = w.Append(digest.Of(nil), Chunk, Zstd, MaxPlain, most[:maxStored])
	require.NoError(t, err)
	_, err = w.Append(digest.Of(nil), Chunk, Zstd, MaxPlain+1, nil)
	require.ErrorIs(t, err, ErrFormat)
	_, err = w.Append(digest.Of(nil), Chunk, Zstd, MaxPlain, most)
	require.ErrorIs(t, err, ErrFormat)
	require.Len(t, w.Entries(), 1)
}
