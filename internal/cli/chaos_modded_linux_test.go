//go:build long

package cli_test

import (
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// modded is a game whose folder is full of links into a store of mods, and that is tied to a server. Only
// what must always hold is looked at: nothing outside ever changes, what is held is what is there once a
// repair is through, links included, and the two games change together or not at all.
type modded struct {
	*world
	r       *rand.Rand
	server  string
	store   string
	outside map[string]string // what the store of mods is like
	builds  map[string]tree
	said    []string
}

// stored describes every file of a folder by content, mode, time and number of names.
func stored(t *testing.T, dir string) map[string]string {
	t.Helper()
	list := make(map[string]string)
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		text := fmt.Sprint(info.Mode(), info.ModTime().UnixNano())
		if info.Mode().IsRegular() {
			b, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			text += string(b)
		}
		list[p] = text
		return nil
	}))
	return list
}

func (m *modded) fail(why string) {
	m.t.Helper()
	m.t.Fatalf("%s\nthe last operations:\n%s", why, strings.Join(m.said, "\n"))
}

// ask runs a command, perhaps with a fault.
func (m *modded) ask(faulty bool, args ...string) result {
	cmd := m.command(args...)
	cmd.Dir = m.dir
	fault := "no fault"
	if faulty && m.r.IntN(10) >= 4 {
		calls := chaosCalls[m.r.IntN(len(chaosCalls))]
		fault = fmt.Sprintf("inject=%s:signal=KILL:when=%d", calls, 1+m.r.IntN(60))
		if m.r.IntN(3) == 0 {
			fault = fmt.Sprintf("inject=%s:error=%s:when=%d", calls, chaosErrors[m.r.IntN(len(chaosErrors))], 1+m.r.IntN(60))
		}
		strace, err := exec.LookPath("strace")
		require.NoError(m.t, err)
		cmd.Path = strace
		cmd.Args = append([]string{"strace", "-f", "-qq", "-o", "/dev/null", "-e", "trace=" + calls, "-e", fault, program}, args...)
	}
	r := m.finish(cmd)
	m.said = append(m.said, fmt.Sprintf("%v with %s: exit %d %s", args, fault, r.code, strings.TrimSpace(r.err)))
	m.said = m.said[max(0, len(m.said)-30):]
	return r
}

// held says what a game is held at, after whatever was cut off has been ended.
func (m *modded) held(game string) (label string, overlay string, follows bool) {
	r := m.ask(false, "-g", game, "--json", "status")
	if r.code != 0 && r.code != 3 {
		m.fail("status fails")
	}
	j := m.json(r.code, "-g", game, "status")
	if b, ok := j["build"].(map[string]any); ok {
		label = b["label"].(string)
	}
	list, _ := j["overlays"].([]any)
	for _, o := range list {
		if of, name, _ := strings.Cut(o.(map[string]any)["name"].(string), "/"); of != "mods" {
			overlay = name
		}
	}
	follows, _ = j["follow"].(bool)
	return label, overlay, follows
}

// is checks what a folder holds of a build.
func (m *modded) is(dir, label, overlay string) {
	want := maps.Clone(m.builds[label])
	if dir == m.server {
		want = tree{"server": "server of " + label}
	} else if overlay != "" {
		want["bin/quay.exe"] = m.builds[overlay]["bin/quay.exe"]
	}
	for p, text := range want {
		if b, err := os.ReadFile(filepath.Join(dir, p)); err != nil || string(b) != text {
			m.fail(fmt.Sprintf("%s of %s with %q: %v %.40q", p, label, overlay, err, b))
		}
	}
}

// update writes a build over the live folder, as a launcher does.
func (m *modded) update(label string) {
	for _, b := range m.builds {
		for p := range b {
			if _, stays := m.builds[label][p]; !stays {
				_ = os.Remove(m.path(p))
			}
		}
	}
	for p, text := range m.builds[label] {
		require.NoError(m.t, os.MkdirAll(filepath.Dir(m.path(p)), 0o755))
		require.NoError(m.t, os.RemoveAll(m.path(p)))
		require.NoError(m.t, os.WriteFile(m.path(p), []byte(text), 0o644))
	}
	m.said = append(m.said, "the launcher updates to "+label)
}

// deployed are the files that a mod program links into the game, and what each is in its store.
var deployed = map[string]string{"Mods/boats.pak": "boats.pak", "Mods/sounds/horn.pak": "horn.pak", "data/reeds.pak": "reeds.pak"}

// deploy links some of them and takes others away, as that program does; all of them if all is set.
func (m *modded) deploy(all bool) {
	for p, from := range deployed {
		require.NoError(m.t, os.MkdirAll(filepath.Dir(m.path(p)), 0o755))
		require.NoError(m.t, os.RemoveAll(m.path(p)))
		if all || m.r.IntN(2) == 0 {
			require.NoError(m.t, os.Link(filepath.Join(m.store, from), m.path(p)))
		}
	}
	m.said = append(m.said, "a program deploys and purges")
}

// comesBack brings the modded state back that was recorded, and holds it against the store of mods.
func (m *modded) comesBack() {
	m.ask(true, "-g", "quay", "pin", "modded", "--exact", "--plain", "--yes")
	if r := m.ask(false, "-g", "quay", "pin", "modded", "--exact", "--plain", "--yes"); r.code != 0 {
		m.fail("the modded game does not come back: " + r.err)
	}
	for p, from := range deployed {
		there, err := os.Stat(m.path(p))
		require.NoError(m.t, err)
		is, err := os.Stat(filepath.Join(m.store, from))
		require.NoError(m.t, err)
		if !os.SameFile(is, there) {
			m.fail(p + " is no link")
		}
	}
}

// laid checks the files of a set of mods, where it is laid.
func (m *modded) laid() {
	over, _ := m.json(0, "-g", "quay", "status")["overlays"].([]any)
	if !slices.ContainsFunc(over, func(o any) bool { return o.(map[string]any)["name"] == "mods/lamps" }) {
		return
	}
	for p, text := range map[string]string{"Mods/lamps.pak": "lamps", "data/lamps.pak": "more lamps"} {
		if b, err := os.ReadFile(m.path(p)); err != nil || string(b) != text {
			m.fail(fmt.Sprintf("%s of the mods: %v %.40q", p, err, b))
		}
	}
}

func (m *modded) link() string { return m.path("data/roads.pak") }

// once does something at random and looks at what must hold.
func (m *modded) once() {
	labels := slices.DeleteFunc(slices.Sorted(maps.Keys(m.builds)), func(l string) bool { return l == "modded" })
	label := labels[m.r.IntN(len(labels))]
	was, _, follows := m.held("quay")
	theirs, _, _ := m.held("quay-server")
	tied := false
	switch m.r.IntN(13) {
	case 0, 1:
		tied = true
		m.ask(true, "-g", "quay", "pin", label, "--with-tied", "--plain", "--yes")
	case 2, 3:
		m.ask(true, "-g", "quay", "pin", label, "--follow", "--plain", "--overlay", labels[m.r.IntN(len(labels))]+":bin/quay.exe", "--yes")
	case 4, 5:
		if follows {
			m.update(label)
			m.ask(true, "-g", "quay", "status")
			// With the mods deployed, what comes is the modded game.
			if now, _, still := m.held("quay"); still && now != label && !(label == "1.2" && now == "modded") {
				m.fail(fmt.Sprintf("it is held at %s and does not follow the update to %s", now, label))
			}
		}
	case 6: // a program purges its links, or puts one over a file
		require.NoError(m.t, os.RemoveAll(m.link()))
		if m.r.IntN(2) == 0 {
			require.NoError(m.t, os.RemoveAll(m.path("readme.txt")))
			require.NoError(m.t, os.Symlink(filepath.Join(m.store, "roads.pak"), m.path("readme.txt")))
		}
		m.said = append(m.said, "links are purged")
		m.ask(true, "-g", "quay", "verify", "--repair", "--yes")
	case 7:
		m.ask(true, "-g", "quay", "undo", "--yes")
	case 8:
		m.deploy(false)
		m.ask(true, "-g", "quay", "status")
	case 9:
		m.deploy(false)
		m.comesBack()
	case 10, 11:
		m.ask(true, "-g", "quay", "mods", []string{"lay", "lift"}[m.r.IntN(2)], "lamps", "--yes")
	default:
		m.ask(true, "-g", "quay", "store", "trim", "--yes")
	}
	now, overlay, _ := m.held("quay")
	other, _, _ := m.held("quay-server")
	now, overlay, _ = m.held("quay") // what was cut off between the two is ended with the first
	if tied && now != other && (now != was || other != theirs) {
		m.fail(fmt.Sprintf("quay is at %s and was at %s, the server at %s and was at %s", now, was, other, theirs))
	}
	if other != "" {
		m.is(m.server, other, "")
	}
	if now != "" {
		if r := m.ask(false, "-g", "quay", "verify", "--repair", "--yes"); r.code != 0 {
			m.fail("it cannot be repaired: " + r.out)
		}
		m.is(m.live, now, overlay)
		m.laid()
		if to, err := os.Readlink(m.link()); err != nil || to != filepath.Join(m.store, "roads.pak") {
			m.fail(fmt.Sprintf("the link is not there: %s %v", to, err))
		}
	}
	if is := stored(m.t, m.store); !maps.Equal(is, m.outside) {
		m.fail("the store of mods has changed")
	}
}

func TestChaosOfAModdedGame(t *testing.T) {
	canTrace(t)
	n := seedOf(t)
	w := newWorld(t)
	m := &modded{world: w, r: rand.New(rand.NewPCG(n, 3)), server: filepath.Join(w.dir, "server"), store: w.source("store", map[string]string{"roads.pak": "roads", "scenery/trees.pak": "trees", "boats.pak": "boats", "horn.pak": "horn", "reeds.pak": "reeds"}), builds: make(map[string]tree)}
	for i := range 3 {
		label := fmt.Sprintf("1.%d", i)
		b := tree{"bin/quay.exe": "program of " + label, "readme.txt": "the same", "data/a.pak": strings.Repeat("a of "+label+" ", 2000), "data/only-" + label + ".pak": "only " + label}
		m.builds[label] = b
		w.source("build-"+label, b)
		w.source("server-"+label, tree{"server": "server of " + label})
	}
	require.NoError(t, os.CopyFS(w.live, os.DirFS(filepath.Join(w.dir, "build-1.2"))))
	require.NoError(t, os.CopyFS(m.server, os.DirFS(filepath.Join(w.dir, "server-1.2"))))
	require.NoError(t, os.MkdirAll(w.path("Mods"), 0o755))
	require.NoError(t, os.Symlink(filepath.Join(m.store, "scenery"), w.path("Mods/Scenery")))
	require.NoError(t, os.Symlink(filepath.Join(m.store, "roads.pak"), m.link()))
	require.NoError(t, os.Link(filepath.Join(m.store, "roads.pak"), w.path("Mods/roads.txt")))
	w.ok("add", "quay", w.live, "--keep", "Mods/**")
	w.ok("add", "quay-server", m.server)
	w.ok("-g", "quay", "game", "set", "--with", "quay-server")
	for label := range m.builds {
		w.ok("-g", "quay", "import", filepath.Join(w.dir, "build-"+label), label, "--yes")
		w.ok("-g", "quay-server", "import", filepath.Join(w.dir, "server-"+label), label, "--yes")
	}
	w.ok("-g", "quay", "pin", "1.2", "--with-tied", "--yes")
	w.ok("-g", "quay", "game", "set", "--mods-from", m.store)
	m.deploy(true)
	m.builds["modded"] = m.builds["1.2"]
	w.ok("-g", "quay", "snapshot", "modded")
	w.ok("-g", "quay", "mods", "record", "lamps", "--from", w.source("lamps", map[string]string{"Mods/lamps.pak": "lamps", "data/lamps.pak": "more lamps"}), "--yes")
	m.outside = stored(t, m.store)
	info, err := os.Stat(filepath.Join(m.store, "roads.pak"))
	require.NoError(t, err)
	require.EqualValues(t, 2, info.Sys().(*syscall.Stat_t).Nlink)
	done := 0
	for until := time.Now().Add(chaosFor()); time.Now().Before(until); done++ {
		m.once()
	}
	require.FileExists(t, w.path("Mods/Scenery/trees.pak"))
	info, err = os.Stat(filepath.Join(m.store, "roads.pak"))
	require.NoError(t, err)
	require.EqualValues(t, 2, info.Sys().(*syscall.Stat_t).Nlink)
	t.Logf("%d operations, 0 findings; seed %d", done, n)
}
