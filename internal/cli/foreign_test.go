package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
)

// foreign puts a change into a folder as somebody else could who knows the format: it would
// remove a file of the player's, and pin the game to what the stranger likes.
func (w *world) foreign(dir, id, name string) {
	w.t.Helper()
	change := filepath.Join(dir, ".morvant", "change")
	require.NoError(w.t, os.MkdirAll(filepath.Join(change, "old"), 0o755))
	require.NoError(w.t, os.MkdirAll(filepath.Join(change, "new"), 0o755))
	memo, err := json.Marshal(map[string]any{
		"uid": "of-a-stranger", "game": "quay", "lane": "main", "what": "pin", "build": "1", "made": "2031-08-05T09:00:00Z",
		"pin_after": map[string]any{"build": "x", "companions": []map[string]any{{"path": "bin/start.sh", "text": "evil"}}},
	})
	require.NoError(w.t, err)
	body := fmt.Sprintf(`{"format":"morvant-journal/1","id":%q,"memo":%s,"steps":[{"path":%q,"before":{"kind":"file","size":5,"digest":"%s"}}]}`, id, memo, name, digest.Of([]byte("mine\n")))
	if id == "" {
		body = fmt.Sprintf(`{"format":"morvant-journal/1","memo":%s,"steps":[{"path":%q,"before":{"kind":"file","size":5,"digest":"%s"}}]}`, memo, name, digest.Of([]byte("mine\n")))
	}
	sealed := append([]byte(digest.Of([]byte(body)).String()+"\n"), body...)
	for _, j := range []string{"journal", "journal.2"} {
		require.NoError(w.t, os.WriteFile(filepath.Join(change, j), sealed, 0o644))
	}
}

func TestAChangeThatCameWithAFolderIsNotCarriedOut(t *testing.T) {
	t.Parallel()
	for _, id := range []string{"", "of-a-stranger"} {
		w := newWorld(t)
		w.write("a.txt", "mine\n")
		// In a folder that is about to be registered.
		w.foreign(w.live, id, "a.txt")
		r := w.ok("add", "quay", w.live)
		require.Contains(t, r.err, "a change that did not begin on this computer; Morvant ignored it")
		require.Equal(t, "mine\n", w.read("a.txt"))
		require.NotEqual(t, true, w.json(0, "status")["held"])
		require.Empty(t, w.json(0, "history")["changes"])
		// In one that is registered, by a mod that is unpacked there.
		w.ok("snapshot", "1")
		w.foreign(w.live, id, "a.txt")
		require.Contains(t, w.ok("status").err, "Morvant ignored it")
		require.Equal(t, "mine\n", w.read("a.txt"))
		require.NotContains(t, w.ok("status").err, "Morvant ignored it", "once is enough")
		require.Empty(t, w.json(0, "history")["changes"])
		// In one that becomes a lane.
		copied := filepath.Join(w.dir, "copy")
		require.NoError(t, os.CopyFS(copied, os.DirFS(w.live)))
		require.NoError(t, os.RemoveAll(filepath.Join(copied, ".morvant")))
		w.foreign(copied, id, "a.txt")
		w.ok("lane", "new", "second", "--adopt", copied)
		b, err := os.ReadFile(filepath.Join(copied, "a.txt"))
		require.NoError(t, err)
		require.Equal(t, "mine\n", string(b))
		w.ok("-l", "second", "status")
		// And in a folder of saves.
		saves := filepath.Join(w.dir, "Saves")
		require.NoError(t, os.Mkdir(saves, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(saves, "a.txt"), []byte("mine\n"), 0o644))
		w.ok("game", "set", "--saves", saves)
		w.ok("saves", "backup")
		w.foreign(saves, id, "a.txt")
		w.ok("saves", "list")
		b, err = os.ReadFile(filepath.Join(saves, "a.txt"))
		require.NoError(t, err)
		require.Equal(t, "mine\n", string(b))
		require.NoError(t, os.WriteFile(filepath.Join(saves, "a.txt"), []byte("played on\n"), 0o644))
		w.ok("saves", "restore", "1", "--yes")
		b, err = os.ReadFile(filepath.Join(saves, "a.txt"))
		require.NoError(t, err)
		require.Equal(t, "mine\n", string(b))
	}
}
