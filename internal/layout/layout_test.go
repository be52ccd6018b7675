package layout

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/pack"
)

func TestALayoutLongerThanOneRecordIsPutTogether(t *testing.T) {
	pieces := make([]Piece, PerPart+10)
	for i := range pieces {
		pieces[i] = Piece{digest.Of(fmt.Append(nil, i)), 5}
	}
	file := digest.Of([]byte("file"))
	parts := Encode(file, int64(5*len(pieces)), pieces)
	require.Len(t, parts, 2)
	var back []Piece
	for i, b := range parts {
		require.LessOrEqual(t, len(b), pack.MaxPlain)
		l, err := Decode(b)
		require.NoError(t, err)
		require.Equal(t, [2]int{i, 2}, [2]int{l.Number, l.Of})
		back = append(back, l.Pieces...)
	}
	require.Equal(t, pieces, back)
}

func FuzzDecodeLayout(f *testing.F) {
	f.Add(Encode(digest.Of(nil), 30, []Piece{{digest.Of([]byte("a")), 10}, {digest.Of([]byte("b")), 20}})[0])
	f.Add(make([]byte, head))
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := Decode(b)
		if err != nil {
			return
		}
		var sum int64
		for _, p := range l.Pieces {
			sum += int64(p.Size)
		}
		if sum > l.Size || len(l.Pieces) > PerPart {
			t.Fatalf("accepted a layout that contradicts itself: %d of %d", sum, l.Size)
		}
	})
}
