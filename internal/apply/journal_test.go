package apply

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
)

func TestAJournalOfVersionOneIsReadAndWrittenTheSame(t *testing.T) {
	old, err := os.ReadFile(filepath.Join("..", "..", "testdata", "v1", "parts", "journal"))
	require.NoError(t, err)
	j, err := decodeJournal(old)
	require.NoError(t, err)
	require.NotEmpty(t, j.ID)
	require.NotEmpty(t, j.Steps)
	body, err := json.Marshal(j)
	require.NoError(t, err)
	require.Equal(t, string(old), digest.Of(body).String()+"\n"+string(body))
}
