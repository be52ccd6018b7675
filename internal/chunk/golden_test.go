package chunk

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
)

// TestAFixedTextIsCutAtFixedPlaces: stores and feeds share chunks only as long as all cut
// alike. These places may never change.
func TestAFixedTextIsCutAtFixedPlaces(t *testing.T) {
	text := make([]byte, 1<<20)
	digest.Expand("a text that is cut", text)
	c := New()
	var places []string
	at := 0
	for at < len(text) {
		at += c.Next(text[at:])
		places = append(places, fmt.Sprint(at))
	}
	require.Equal(t, "120923 204434 282687 364990 437851 529159 612276 700383 770114 840935 885548 958341 1029549 1048576", strings.Join(places, " "))
}
