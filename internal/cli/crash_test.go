package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/adrg/xdg"
	"github.com/stretchr/testify/require"
)

func TestAMistakeOfTheProgramIsOneSentence(t *testing.T) {
	dir := t.TempDir()
	was := xdg.DataHome
	xdg.DataHome = dir
	defer func() { xdg.DataHome = was }()
	said := crashed([]string{"morvant", "status"}, "index out of range\nof a list", []byte("goroutine 1 [running]"), time.Date(2031, 8, 5, 9, 0, 0, 0, time.UTC))
	require.NotContains(t, said, "goroutine")
	require.NotContains(t, said, "\n")
	file := filepath.Join(dir, "morvant-crash-2031-08-05-090000.txt")
	require.Contains(t, said, file)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.True(t, strings.HasSuffix(string(b), "goroutine 1 [running]"))
}
