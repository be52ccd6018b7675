package block

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhichUpdateWaits(t *testing.T) {
	dir := t.TempDir()
	at := Site{Dir: dir, Home: dir}
	w := Waiting{File: "~/state.cfg", Find: `^pending =[ \t]*(\S*)`}
	require.NoError(t, w.Check())
	update := func(text string) string {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "state.cfg"), []byte(text), 0o644))
		label, err := w.Update(at)
		require.NoError(t, err)
		return label
	}
	label, err := w.Update(at)
	require.NoError(t, err)
	require.Empty(t, label, "a launcher that was never started has no state")
	require.Equal(t, "1.3.0", update("# state\r\npending = 1.3.0\r\n"))
	require.Empty(t, update("pending =\n"))
	require.Empty(t, update("nothing of the kind\n"))
	require.Equal(t, "2", update("\xff\xfep\x00e\x00n\x00d\x00i\x00n\x00g\x00 \x00=\x00 \x002\x00\n\x00"), "also in UTF-16")
	require.NoError(t, os.Remove(filepath.Join(dir, "state.cfg")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "state.cfg"), 0o755))
	_, err = w.Update(at)
	require.Error(t, err)
	for _, bad := range []Waiting{{}, {File: "a"}, {File: "a", Find: "("}, {File: "a", Find: "none"}, {File: "a", Find: "(a)(b)"}} {
		require.Error(t, bad.Check(), "%+v", bad)
	}
}
