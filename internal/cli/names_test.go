package cli_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestListsGiveNamesToBuilds: by date, digest and components; what is not here is told with its note; a
// double match is said and never guessed.
func TestListsGiveNamesToBuilds(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	w.ok("import", w.source("one", older("base")), "may", "--date", "2021-05-20")
	w.ok("import", w.source("two", older("base", "voices")), "august", "--date", "2021-08-05T09:00:00Z")
	w.ok("import", w.source("three", older("voices")), "august-2", "--date", "2021-08-05T11:00:00Z")
	j := w.json(0, "builds", "--find", "august")
	digest := j["builds"].([]any)[1].(map[string]any)["digest"].(string)
	list := filepath.Join(w.dir, "Quay builds.toml")
	require.NoError(t, os.WriteFile(list, []byte(`format = "morvant-names/1"
[[build]]
label = "2.0.14.1"
date = 2021-05-20
[[build]]
label = "2.0.15"
digest = "`+digest[:12]+`"
[[build]]
label = "2.0.1x"
date = 2021-08-05
[[build]]
label = "1.9"
date = 2020-12-01
note = "the harbour's forum has it"
[[build]]
label = "1.8"
id = "4711"
components = { base = "123456789" }
`), 0o644))
	require.Contains(t, w.ok("builds", "names", "add", list).out, "The list quay-builds has 5 builds")
	out := w.ok("builds", "names", "list").out
	require.Regexp(t, `2\.0\.14\.1 +2021-05-20 +snapshot/may`, out)
	require.Regexp(t, `2\.0\.15 +snapshot/august `, out)
	require.Contains(t, out, "fits several: snapshot/august-2, snapshot/august")
	require.Regexp(t, `1\.9 +2020-12-01 +not here`, out)
	require.Len(t, w.json(0, "builds", "names", "list")["names"], 5)

	require.Contains(t, w.ok("builds").out, "also called 2.0.14.1")
	w.ok("pin", "2.0.14.1", "--yes")
	require.Contains(t, w.ok("status").out, "held at may")
	w.ok("diff", "2.0.14.1", "2.0.15", "--all")
	w.fails(1, "1.9 is not here; the list quay-builds has it, of 2020-12-01: the harbour's forum has it", "pin", "1.9", "--yes")
	w.fails(1, "1.8 is not here", "pin", "1.8", "--yes")
	w.fails(1, "fits several builds", "pin", "2.0.1x", "--yes")
	require.Contains(t, w.ok("builds", "--on", "2020-12-24").out, "Not here: 1.9 of 2020-12-01 (list quay-builds): the harbour's forum has it")
	require.Contains(t, w.ok("builds", "--find", "forum").out, "Not here: 1.9")
	require.Len(t, w.json(0, "builds", "--find", "1.8")["not_here"], 1)
	require.Contains(t, w.ok("builds", "--find", "2.0.14").out, "may")

	// One of the player's own, and one from the web.
	w.ok("builds", "names", "set", "race", "--digest", "="+digest[:10], "--note", "the one for the race")
	w.ok("builds", "names", "set", "race", "--date", "2021-05-20")
	require.Contains(t, w.ok("diff", "race", "may").out, "are the same")
	w.fails(2, "say which build it is", "builds", "names", "set", "x")
	w.fails(2, "is no date", "builds", "names", "set", "x", "--date", "soon")
	w.fails(2, "a label has", "builds", "names", "set", "a/b", "--id", "1")
	server := httptest.NewServer(http.FileServer(http.Dir(w.dir)))
	defer server.Close()
	w.ok("builds", "names", "add", server.URL+"/Quay%20builds.toml", "--as", "forum")
	require.Contains(t, w.ok("builds", "names", "list").out, "forum")
	w.fails(1, "", "builds", "names", "add", server.URL+"/nothing.toml", "--as", "forum")
	w.fails(2, "comes over https", "builds", "names", "add", "http://harbour.example/builds.toml")

	w.ok("builds", "names", "remove", "forum", "--dry-run")
	w.ok("builds", "names", "remove", "forum")
	w.ok("builds", "names", "remove", "quay-builds")
	w.fails(1, "the nearest: own", "builds", "names", "remove", "forum")
	w.fails(1, `there is no build "2.0.15"`, "pin", "2.0.15", "--yes")
}

// TestListsThatCannotBeUsed: one clear line each, and the others go on.
func TestListsThatCannotBeUsed(t *testing.T) {
	t.Parallel()
	w := newPlayed(t)
	for text, words := range map[string]string{
		"":                              "its format is",
		`format = "morvant-names/2"`:    "newer",
		`format = "other"`:              "its format is",
		"format = 'morvant-names/1'\nx": "line",
		"format = 'morvant-names/1'\n[[build]]\nlabel = 'a'":                                   "neither id nor date",
		"format = 'morvant-names/1'\n[[build]]\nlabel = 'a/b'\nid = '1'":                       "a label has",
		"format = 'morvant-names/1'\n[[build]]\nlabel = 'a'\ndate = 'x'":                       "written like 2031-08-05",
		"format = 'morvant-names/1'\n[[build]]\nlabel = 'a'\ndigest = 'xyz'":                   "is no digest",
		"format = 'morvant-names/1'\n[[build]]\nlabel = 'a'\nid = \"x\\u001b[31m\"":            "a text must be one line",
		"format = 'morvant-names/1'\n[[build]]\nlabel = 'a'\nid = '1'\nother = 1":              "other",
		"format = 'morvant-names/1'\n[[build]]\nlabel = 'a'\ncomponents = { 'Base x' = '12' }": "Base x",
	} {
		file := filepath.Join(w.dir, "list.toml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		w.fails(1, words, "builds", "names", "add", file)
	}
	w.ok("builds", "names", "set", "spring", "--date", "2021-03-01")
	require.NoError(t, os.WriteFile(filepath.Join(w.home, "names", "quay", "bad.toml"), []byte("no list"), 0o644))
	r := w.ok("builds", "names", "list")
	require.Contains(t, r.err, "the list of names bad is left out")
	require.Contains(t, r.out, "spring")
	w.ok("builds", "names", "remove", "bad")
}
