package lane

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/require"
)

func TestAMarkerOfVersionOneIsReadAndWrittenTheSame(t *testing.T) {
	old, err := os.ReadFile(filepath.Join("..", "..", "testdata", "v1", "parts", "marker.toml"))
	require.NoError(t, err)
	var m Marker
	require.NoError(t, toml.Unmarshal(old, &m))
	require.Equal(t, "quay", m.Game)
	again, err := toml.Marshal(m)
	require.NoError(t, err)
	require.Equal(t, string(old), markerHead+string(again))
}
