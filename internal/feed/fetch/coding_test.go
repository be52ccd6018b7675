package fetch

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"morvant/internal/adapter"
	"morvant/internal/pack"
)

// TestAHeaderThatAsksForTooMuchIsRefusedBeforeAnythingIsAllocated: a hundred bytes of xz that ask for a dictionary of
// 4 GiB.
func TestAHeaderThatAsksForTooMuchIsRefusedBeforeAnythingIsAllocated(t *testing.T) {
	var out bytes.Buffer
	w, err := xz.NewWriter(&out)
	require.NoError(t, err)
	_, err = w.Write([]byte("tides"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	for _, size := range []byte{0, 40} { // 4 KiB, 4 GiB - 1
		b := bytes.Clone(out.Bytes())
		head := b[12 : 12+4*(int(b[12])+1)]
		head[bytes.Index(head, []byte{0x21, 0x01})+2] = size
		binary.LittleEndian.PutUint32(head[len(head)-4:], crc32.ChecksumIEEE(head[:len(head)-4]))
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		r, done, err := decoded("xz", bytes.NewReader(b), 5)
		if err == nil {
			_, err = io.ReadAll(r)
		}
		done()
		runtime.ReadMemStats(&after)
		require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(80<<20))
		if size == 0 {
			require.NoError(t, err)
		} else {
			require.ErrorIs(t, err, pack.ErrChecksum)
		}
	}
}

// FuzzDecoded: whatever stands at a place, no more bytes come out of it than were told, and it ends.
func FuzzDecoded(f *testing.F) {
	var packed bytes.Buffer
	w, err := xz.NewWriter(&packed)
	require.NoError(f, err)
	_, err = w.Write(bytes.Repeat([]byte("tides "), 100))
	require.NoError(f, err)
	require.NoError(f, w.Close())
	f.Add(packed.Bytes(), uint8(5))
	for i := range adapter.Codings {
		f.Add([]byte("\x28\xb5\x2f\xfd\x04\x00\x19\x00\x00abc\x1f\x8b\x78\x9c"), uint8(i))
	}
	f.Fuzz(func(t *testing.T, b []byte, coding uint8) {
		const size = 600
		r, done, err := decoded(adapter.Codings[int(coding)%len(adapter.Codings)], bytes.NewReader(b), size)
		defer done()
		if err != nil {
			require.ErrorIs(t, err, pack.ErrChecksum)
			return
		}
		out, err := io.ReadAll(r)
		require.LessOrEqual(t, len(out), size)
		if err == nil {
			require.Len(t, out, size)
		}
	})
}
