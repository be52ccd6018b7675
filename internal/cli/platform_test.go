package cli_test

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/game"
	"morvant/internal/manifest"
	"morvant/internal/state"
	"morvant/internal/store"
	"morvant/internal/volume"
)

const onWindows = runtime.GOOS == "windows"

// needsLinks skips a test where links to folders cannot be made: the junctions of
// Windows are missing under Wine.
func needsLinks(t *testing.T) {
	t.Helper()
	dir := t.TempDir()
	target := filepath.Join(dir, "target")
	require.NoError(t, os.Mkdir(target, 0o755))
	if err := volume.Link(target, filepath.Join(dir, "link")); err != nil {
		t.Skip("links to folders cannot be made here: ", err)
	}
}

// TestNamesOfWindows tries what Windows does with names, where it is Windows.
func TestNamesOfWindows(t *testing.T) {
	t.Parallel()
	if !onWindows {
		t.Skip("for Windows")
	}
	w := newLaunched(t)
	w.ok("pin", "1.1.1", "--yes", "--companion", `bin\standalone.txt=1`)
	require.Equal(t, "1", w.read("bin/standalone.txt"), "backslashes at the prompt")
	require.Contains(t, w.ok("diff", "1.1.1", "--text", `bin\standalone.txt`).out, "+1")

	deep := `long`
	for len(filepath.Join(w.live, deep)) < 300 {
		deep = filepath.Join(deep, "a folder with a long name of its own")
	}
	w.write(filepath.ToSlash(deep)+"/file.txt", "beyond 260 characters")
	w.ok("snapshot", "long")
	require.NoError(t, os.RemoveAll(w.path("long")))
	w.ok("pin", "long", "--yes")
	require.Equal(t, "beyond 260 characters", w.read(filepath.ToSlash(deep)+"/file.txt"))

	w.fails(2, `put double quotes around it: "Mods/**"`, "game", "set", "--keep", "'Mods/**'")
	w.fails(2, "single quotes mean nothing here", "game", "set", "--keep='Mods/**'")

	upper := w.command("status")
	upper.Dir = filepath.Join(filepath.Dir(w.live), "QUAY")
	require.Equal(t, 0, w.finish(upper).code, "the folder is found whatever its letters' case")
	w.fails(1, "lie within each other", "add", "again", filepath.Join(filepath.Dir(w.live), "QUAY"))
}

// TestAFileHeldOpenIsNamed holds a file open in a way that lets nobody replace it.
func TestAFileHeldOpenIsNamed(t *testing.T) {
	t.Parallel()
	if !onWindows {
		t.Skip("for Windows; elsewhere a file that is open can be replaced")
	}
	w := newLaunched(t)
	w.write("readme.txt", "altered")
	held, err := os.Open(w.path("readme.txt"))
	require.NoError(t, err)
	r := w.run("pin", "1.1.1", "--yes")
	require.NoError(t, held.Close())
	if r.code == 0 {
		t.Skip("files that are open can be replaced here, as under Wine")
	}
	require.Contains(t, r.err, "readme.txt")
	require.Contains(t, r.err, "Close it, then try again")
	require.Equal(t, "altered", w.read("readme.txt"))
	w.ok("pin", "1.1.1", "--yes")
}

// TestLetterCaseDoesNotCount spells the same names differently, as publishers, launchers
// and players do where it makes no difference.
func TestLetterCaseDoesNotCount(t *testing.T) {
	t.Parallel()
	if !onWindows {
		t.Skip("for folders that ignore letter case")
	}
	w := newWorld(t)
	w.write("Data/Voices.pak", "one")
	w.write("Data/Scene.pak", "the same in both")
	w.write("Mods/mine.esp", "mine")
	w.age()
	w.ok("add", "quay", w.live, "--keep", "mods/**")
	w.ok("snapshot", "1")
	require.NoError(t, os.Rename(w.path("Data"), w.path("spelled")))
	require.NoError(t, os.Rename(w.path("spelled"), w.path("data")))
	require.NoError(t, os.Remove(w.path("data/Voices.pak")))
	w.write("data/voices.PAK", "two")
	w.write("data/new.pak", "new")
	w.ok("snapshot", "2")
	w.write("Mods/mine.esp", "changed")
	w.ok("pin", "2", "--yes")

	w.ok("pin", "1", "--yes")
	require.Equal(t, "one", w.read("Data/Voices.pak"))
	require.NoFileExists(t, w.path("data/new.pak"))
	require.Equal(t, "changed", w.read("Mods/mine.esp"), "a keep rule holds in any spelling")
	w.ok("status")
	w.ok("verify")
	require.Contains(t, w.ok("pin", "1", "--yes").out, "changes no file")
	w.ok("pin", "2", "--yes")
	require.Equal(t, "two", w.read("data/voices.pak"))
	require.Equal(t, "the same in both", w.read("data/scene.pak"))
	w.ok("status")
	w.ok("undo", "--yes")
	require.Equal(t, "one", w.read("Data/Voices.pak"))
	w.ok("status")

	// A file of the player's where the build has one of that name is replaced, and comes
	// back as it was spelled.
	w.write("data/NEW.pak", "my own")
	w.ok("pin", "2", "--yes", "--clean")
	require.Equal(t, "new", w.read("data/new.pak"))
	w.ok("undo", "--yes")
	require.Equal(t, "my own", w.read("data/new.pak"))
	require.Contains(t, w.picture(), "data/NEW.pak")

	// What the pin adds goes over the build's file of that name.
	w.ok("pin", "2", "--yes", "--companion", `DATA\new.PAK=mine`)
	require.Equal(t, "mine", w.read("data/new.pak"))
	w.ok("status")
	require.Contains(t, w.ok("diff", "1", "2").out, "1 changed, 1 added")
	require.Contains(t, w.ok("identify").out, "2")

	recordElsewhere(t, w, "both", "Readme.txt", "README.TXT")
	before := w.picture()
	w.fails(1, `this folder cannot hold both "README.TXT" and "Readme.txt"`, "pin", "both", "--yes")
	recordElsewhere(t, w, "why", "data/why?.txt")
	w.fails(1, `no folder of this system can hold the name "data/why?.txt"`, "pin", "why", "--yes")
	require.Equal(t, before, w.picture())
}

// recordElsewhere records a build as a computer would whose folders can hold these names.
func recordElsewhere(t *testing.T, w *world, label string, names ...string) {
	t.Helper()
	home, err := game.OpenHome(t.Context(), w.home)
	require.NoError(t, err)
	defer home.Close()
	content, err := store.Open(t.Context(), home.StoreDir())
	require.NoError(t, err)
	defer content.Close()
	session := content.Begin()
	put := func(b []byte) digest.Digest {
		d, _, err := session.Put(t.Context(), bytes.NewReader(b), nil)
		require.NoError(t, err)
		return d
	}
	m := &manifest.Manifest{}
	for _, name := range names {
		m.Files = append(m.Files, manifest.File{Path: name, Size: int64(len(name)), Digest: put([]byte(name))})
	}
	m.Sort()
	b := &state.Build{UID: state.NewUID(), Game: "quay", Label: label, Made: time.Now(), Files: len(names)}
	b.Manifest, b.Attributes = put(m.Encode()), put(manifest.NewAttributes().Encode())
	require.NoError(t, session.Close())
	require.NoError(t, home.AddBuild(t.Context(), b))
}

func TestARunningGameIsNotChanged(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	content, err := os.ReadFile(program)
	require.NoError(t, err)
	w.write("a.txt", "1")
	w.ok("add", "quay", w.live, "--scratch", "bin/**")
	w.ok("snapshot", "1")
	w.write("a.txt", "2")
	require.NoError(t, os.Mkdir(w.path("bin"), 0o755))
	require.NoError(t, os.WriteFile(w.path("bin/quay.exe"), content, 0o755))
	end := w.stays(func(cmd *exec.Cmd) { cmd.Path = w.path("bin/quay.exe") })

	w.fails(1, "the game is running", "pin", "1", "--yes")
	w.fails(1, "Close the game", "pin", "1", "--yes")
	require.Equal(t, true, w.json(0, "status")["running"])
	require.Equal(t, "2", w.read("a.txt"))
	end()
	require.Equal(t, false, w.json(0, "status")["running"])
	w.ok("pin", "1", "--yes")
	require.Equal(t, "1", w.read("a.txt"))
}

// stays starts a program that runs until it is ended: Morvant itself, watching another
// game. change says what is different about it.
func (w *world) stays(change func(*exec.Cmd)) (end func()) {
	w.t.Helper()
	other := newWorld(w.t)
	other.ok("add", "other", other.live)
	other.ok("snapshot", "1")
	other.ok("pin", "1", "--yes")
	cmd := other.command("-g", "other", "watch")
	change(cmd)
	said, err := cmd.StderrPipe()
	require.NoError(w.t, err)
	require.NoError(w.t, cmd.Start())
	end = sync.OnceFunc(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	w.t.Cleanup(end)
	tooLong := time.AfterFunc(time.Minute, func() { _ = cmd.Process.Kill() })
	defer tooLong.Stop()
	line, err := bufio.NewReader(said).ReadString('\n')
	require.NoError(w.t, err, "it runs")
	require.NotEmpty(w.t, line)
	return end
}

func TestAFolderThatAWindowWorksInIsNamed(t *testing.T) {
	t.Parallel()
	if !onWindows {
		t.Skip("for Windows; elsewhere such a folder can be renamed")
	}
	w := newLanes(t)
	before := w.picture()
	end := w.stays(func(cmd *exec.Cmd) { cmd.Dir = w.live })
	w.fails(1, w.live+" is held open by", "lane", "switch", "old")
	w.fails(1, "leave it with cd ..", "lane", "switch", "old")
	require.Equal(t, before, w.picture())
	end()
	w.ok("lane", "switch", "old")
	require.Equal(t, before, picture(t, w.parked("main")))
}

// TestReadOnlyFilesAmongManyAreReplaced has more new files than are synced one by one,
// with one among them that nobody may write to.
func TestReadOnlyFilesAmongManyAreReplaced(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for i := range 24 {
		w.write(fmt.Sprintf("data/%d.txt", i), fmt.Sprint("one ", i))
	}
	require.NoError(t, os.Chmod(w.path("data/7.txt"), 0o444))
	w.ok("add", "quay", w.live)
	w.ok("snapshot", "1")
	for i := range 24 {
		require.NoError(t, os.Chmod(w.path(fmt.Sprintf("data/%d.txt", i)), 0o644))
		w.write(fmt.Sprintf("data/%d.txt", i), fmt.Sprint("two ", i))
	}
	w.ok("pin", "1", "--yes")
	require.Equal(t, "one 7", w.read("data/7.txt"))
	info, err := os.Stat(w.path("data/7.txt"))
	require.NoError(t, err)
	require.Zero(t, info.Mode().Perm()&0o222, "it is read-only again")
	w.ok("undo", "--yes")
	require.Equal(t, "two 7", w.read("data/7.txt"))
	w.ok("pin", "1", "--yes")
	w.ok("verify")
	require.NoError(t, os.Chmod(w.path("data/7.txt"), 0o644))
}
