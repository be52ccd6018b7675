package version_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/standin"
	"morvant/internal/version"
)

// program is the made-up game's program, with a version resource.
func program(t testing.TB) []byte {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, standin.Quay{Bytes: 1 << 20}.Write(dir, "1.1.1"))
	b, err := os.ReadFile(filepath.Join(dir, "bin", "quay.exe"))
	require.NoError(t, err)
	return b
}

func TestTheVersionResourceOfAProgramIsRead(t *testing.T) {
	info, err := version.OfProgram(bytes.NewReader(program(t)))
	require.NoError(t, err)
	require.True(t, version.Means(info.File, "1.1.1"), info.File)
	require.True(t, version.Means(info.Product, "1.1.1"), info.Product)
	_, err = version.OfProgram(strings.NewReader("no program at all"))
	require.ErrorIs(t, err, version.ErrNone)
}

func TestVersionsInTextFiles(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	rule := version.Rule{File: "log.txt", Find: `^Cinder Quay (\S+) started`}
	require.NoError(t, rule.Check())
	_, err = version.OfText(root, rule)
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "log.txt"), []byte("Cinder Quay 1.0 started\r\nx\nCinder Quay 1.1.1\x1b[2J started\n"), 0o644))
	v, err := version.OfText(root, rule)
	require.NoError(t, err)
	require.Equal(t, "1.1.1[2J", v, "the last one, fit to be shown")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "log.txt"), []byte("nothing\n"), 0o644))
	_, err = version.OfText(root, rule)
	require.ErrorIs(t, err, version.ErrNone)
	for _, bad := range []version.Rule{{}, {File: "a", Find: "("}, {File: "a", Find: "b"}} {
		require.Error(t, bad.Check())
	}
}

func TestWhatAVersionMeans(t *testing.T) {
	require.True(t, version.Means("1.1.1.0", "1.1.1"))
	require.True(t, version.Means("1.0.0.0", "1.0.0"))
	require.True(t, version.Means("2.0", "2"))
	require.False(t, version.Means("1.1.1.1", "1.1.1"))
	require.False(t, version.Means("1.10", "1.1"))
}

func FuzzOfProgram(f *testing.F) {
	f.Add(program(f))
	f.Fuzz(func(t *testing.T, b []byte) {
		info, err := version.OfProgram(bytes.NewReader(b))
		if err == nil && len(info.File)+len(info.Product) > 200 {
			t.Fatal("a version longer than it may be")
		}
	})
}
