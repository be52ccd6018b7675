package cli_test

import (
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestPatternsAreTakenAsTheyWereMeant, and said where they match nothing.
func TestPatternsAreTakenAsTheyWereMeant(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("Mods/a.pak", "a mod")
	w.write("settings.ini", "mine")
	w.write("data.pak", "the game's")
	r := w.ok("add", "quay", w.live, "--keep", `Mods\`, "--keep", filepath.Join(w.live, "settings.ini"), "--keep", "Harbors/**", "--saves", filepath.Join(w.dir, "Savs"))
	require.Contains(t, r.err, `the keep rule "Harbors/**" matches nothing`)
	require.NotContains(t, r.err, "Mods")
	require.Contains(t, r.err, "nothing is at the saves place")
	require.Equal(t, []any{"Mods", "settings.ini", "Harbors/**"}, w.json(0, "game", "show")["keep"])
	w.ok("snapshot", "1.0")
	w.write("Mods/a.pak", "another")
	w.write("settings.ini", "changed")
	w.write("data.pak", "an update")
	require.Contains(t, w.ok("pin", "1.0", "--yes", "--keep", "Mops/**").err, `the keep rule "Mops/**" matches nothing`)
	require.Equal(t, "another", w.read("Mods/a.pak"))
	require.Equal(t, "changed", w.read("settings.ini"))
	require.Equal(t, "the game's", w.read("data.pak"))
	require.Contains(t, w.ok("game", "set", "--scratch", `lgs\**`).err, `the scratch rule "lgs/**" matches nothing`)
	w.ok("game", "set", "--no-scratch", `lgs\**`, "--no-keep", "Mods/")
}

// TestWhatEditorsPutBeforeATextIsRead over: UTF-8 with a byte-order mark, in settings, pin files, label lists and keys.
func TestWhatEditorsPutBeforeATextIsReadOver(t *testing.T) {
	t.Parallel()
	const mark = "\uFEFF"
	w := newWorld(t)
	w.write("a.txt", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0")
	w.ok("pin", "1.0")
	begin := func(file string) {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, append([]byte(mark), b...), 0o644))
	}
	settings := filepath.Join(w.home, "games", "quay.toml")
	begin(settings)
	w.ok("status")
	w.ok("game", "set", "--title", "The Quay", "--version-rule", "a.txt=(\\w+)")
	require.Contains(t, w.ok("status").out, "The Quay")
	b, err := os.ReadFile(settings)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(string(b), mark+"# Settings"), "it stays as it was written")

	pin := filepath.Join(w.dir, "quay.pin.toml")
	w.ok("pinfile", "write", pin)
	begin(pin)
	w.ok("pinfile", "show", pin)
	w.ok("pinfile", "apply", pin, "--yes")
	w.ok("compare-with", pin)

	list := filepath.Join(w.dir, "names.toml")
	require.NoError(t, os.WriteFile(list, []byte(mark+"format = \"morvant-names/1\"\n[[build]]\nlabel = \"2.0\"\nid = \"7\"\n"), 0o644))
	w.ok("builds", "names", "add", list, "--as", "mine")

	feed := filepath.Join(w.dir, "feed")
	w.ok("publish", feed, "1.0", "--feed", "mine")
	key := regexp.MustCompile(`RW[A-Za-z0-9+/=]{54}`).FindString(w.ok("publish", feed, "1.0", "--check").out + w.run("feed", "add", feed).out)
	require.NotEmpty(t, key)
	w.ok("feed", "remove", "mine", "--yes")
	w.ok("feed", "add", feed, "--key", mark+key)

	secret := filepath.Join(w.home, "publish.key")
	begin(secret)
	w.ok("publish", feed, "1.0", "--secret-key", secret)
}

// TestAPathThatNamesNoDriveIsRefused: what a variable that is not set leaves behind.
func TestAPathThatNamesNoDriveIsRefused(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "windows" {
		t.Skip("for Windows")
	}
	w := newWorld(t)
	for _, p := range []string{`\Quay`, "/Quay", "C:Quay"} {
		w.fails(1, "does not say which drive", "add", "quay", p)
	}
	w.ok("add", "quay", w.live)
	w.fails(2, "does not say which drive", "game", "set", "--saves", `\Saves\*`)
	w.fails(2, "probably meant like this", "game", "set", "--keep", `Mods" --keep settings.ini`)
	require.Contains(t, w.ok("game", "set", "--saves", `%Saved_Games%\Quay`).err, "nothing is at the saves place")
}

// TestNamesOfFoldersInAnyLetterCase: %Saved_Games% is the folder that it is everywhere.
func TestNamesOfFoldersInAnyLetterCase(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("add", "quay", w.live)
	saves := filepath.Join(w.dir, "user", "Saved Games", "Quay")
	require.NoError(t, os.MkdirAll(saves, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(saves, "1.sav"), []byte("x"), 0o644))
	w.ok("game", "set", "--saves", `%Saved_Games%/Quay`)
	if runtime.GOOS != "windows" {
		require.Contains(t, w.ok("saves", "backup").out, "Backup 1: 1 file")
	}
}

// TestWhatIsPrintedAsACommandCanBeTyped starts what the program prints, as the system's shell hands it on.
func TestWhatIsPrintedAsACommandCanBeTyped(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("Mods (old)/a b's.pak", "a mod")
	w.write("data.pak", "the game's")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0 my own")
	w.ok("pin", "1.0 my own")
	w.write("data.pak", "an update")
	printed := w.run("status").out + w.run("verify").out + w.run("builds", "--find", "nothing at all").out
	lines := regexp.MustCompile(`morvant [a-z][^\n]*?(?:  |\n|$)`).FindAllString(printed, -1)
	require.NotEmpty(t, lines)
	for _, line := range lines {
		args := words(strings.ReplaceAll(strings.TrimSpace(line), "’", "'"))[1:]
		if strings.Contains(line, "ADDRESS") || strings.Contains(line, "LABEL") {
			continue
		}
		r := w.run(append(args, "--yes")...)
		require.Contains(t, []int{0, 3}, r.code, "%s\n%s", line, r.err)
	}
}

// TestARuleThatCannotBeSetKeepsNoOtherFromBeingSet, and it is said.
func TestARuleThatCannotBeSetKeepsNoOtherFromBeingSet(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("a.txt", "one")
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1.0")
	setting := filepath.Join(w.dir, "launcher.ini")
	require.NoError(t, os.WriteFile(setting, []byte("auto=1\n"), 0o644))
	w.ok("block", "add", "key-value-setting", "file="+filepath.Join(w.dir, "absent.ini"), "key=auto", "value=0")
	w.ok("block", "add", "key-value-setting", "file="+setting, "key=auto", "value=0")
	r := w.run("pin", "1.0", "--yes")
	require.Equal(t, 3, r.code)
	require.Contains(t, r.err, "the block is incomplete")
	b, err := os.ReadFile(setting)
	require.NoError(t, err)
	require.Equal(t, "auto=0\n", string(b))
	require.Contains(t, w.ok("status").out, "1 of 2 block rules broken")
	w.ok("unblock")
	b, err = os.ReadFile(setting)
	require.NoError(t, err)
	require.Equal(t, "auto=1\n", string(b))
}
