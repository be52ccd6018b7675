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
