//go:build long

package cli_test

import (
	"archive/zip"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// chaosFor is how long the chaos run lasts; by hand, with the live folder and the home on
// file systems of one's choice:
//
//	MORVANT_CHAOS=20m MORVANT_CHAOS_LIVE=/mnt/xfs MORVANT_CHAOS_HOME=/dev/shm \
//		go test -tags long -timeout 1h -run Chaos -v ./internal/cli
func chaosFor() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("MORVANT_CHAOS")); err == nil {
		return d
	}
	return time.Minute
}

// tree is what a folder holds, by path: the content of its files.
type tree map[string]string

// change is a change that stands, as the model remembers it.
type modelChange struct {
	before, after tree
	held, out     string // before it
	exact, open   bool   // before it
}

// modelLane is an install as the model knows it.
type modelLane struct {
	files   tree
	held    string // label of a snapshot; empty: not held
	out     string // a file of it that is left out
	exact   bool   // the player's own files are held as well
	open    bool   // the block was taken off by hand
	changes []modelChange
}

// model is an independent idea of what everything must be: it knows nothing of the
// program's own lists, and is told of nothing but what was asked for.
type model struct {
	lanes     map[string]*modelLane
	live      string
	saves     tree
	backups   map[int]tree
	snapshots map[string]tree
	blocked   bool // the launcher's setting of the live lane
}

func (m *model) clone() *model {
	c := &model{lanes: make(map[string]*modelLane), live: m.live, saves: maps.Clone(m.saves), backups: maps.Clone(m.backups), snapshots: maps.Clone(m.snapshots), blocked: m.blocked}
	for name, l := range m.lanes {
		c.lanes[name] = &modelLane{maps.Clone(l.files), l.held, l.out, l.exact, l.open, slices.Clone(l.changes)}
	}
	return c
}

func kept(p string) bool { return strings.HasPrefix(p, "Mods/") }

// without is a build without a file.
func without(t tree, p string) tree {
	out := maps.Clone(t)
	delete(out, p)
	return out
}

// pinned says what a folder holds once it has been pinned to a build, of which a file is left out.
func (l *modelLane) pinned(want, owned tree, exact bool, left string) tree {
	if want = without(want, left); exact {
		return want
	}
	out := make(tree)
	missing := make(map[string]int) // content that comes to a path where nothing is
	for p, c := range want {
		if _, there := l.files[p]; !there && !kept(p) && c != "" {
			missing[c]++
		}
	}
	for _, p := range slices.Sorted(maps.Keys(l.files)) {
		c := l.files[p]
		_, wanted := want[p]
		switch {
		case kept(p):
			out[p] = c
		case p == left:
		case wanted:
		case owned[p] == c && owned[p] != "":
		case missing[c] > 0: // it moves
			missing[c]--
		case inTheWay(p, want): // it goes; undo brings it back
		default:
			out[p] = c
		}
	}
	for p, c := range want {
		if !kept(p) {
			out[p] = c
		}
	}
	return out
}

// inTheWay reports whether a build has a folder where a file is, or a file above it.
func inTheWay(p string, want tree) bool {
	for q := range want {
		if !kept(q) && (strings.HasPrefix(q, p+"/") || strings.HasPrefix(p, q+"/")) {
			return true
		}
	}
	return false
}

type chaos struct {
	*launched
	r    *rand.Rand
	m    *model
	dirs []string
	n    int
	text int
	said []string // the last operations
	// unsure says that it is not known whether the live lane is blocked.
	unsure bool
	saved  string
}

// at reads what a folder holds.
func (c *chaos) at(dir string) tree {
	t := make(tree)
	for p := range picture(c.t, dir) {
		b, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(p)))
		if err == nil {
			t[p] = string(b)
		}
	}
	return t
}

// seen reads what everything is now, for the lanes that a model has.
func (c *chaos) seen(m *model) (string, bool) {
	for name, l := range m.lanes {
		dir := c.parked(name)
		if name == m.live {
			dir = c.live
		}
		if _, err := os.Stat(dir); err != nil {
			return fmt.Sprintf("lane %s is not at %s", name, dir), false
		}
		if is := c.at(dir); !maps.Equal(is, l.files) {
			return fmt.Sprintf("lane %s: %s", name, differences(l.files, is)), false
		}
	}
	if is := c.at(c.saved); !maps.Equal(is, m.saves) {
		return "saves: " + differences(m.saves, is), false
	}
	return "", true
}

func differences(want, is tree) string {
	var list []string
	for p, c := range want {
		if now, ok := is[p]; !ok {
			list = append(list, "missing "+p)
		} else if now != c {
			list = append(list, fmt.Sprintf("%s is %.20q, not %.20q", p, now, c))
		}
	}
	for p := range is {
		if _, ok := want[p]; !ok {
			list = append(list, "extra "+p)
		}
	}
	slices.Sort(list)
	return strings.Join(list, "; ")
}

func (c *chaos) pick(list []string) string { return list[c.r.IntN(len(list))] }

func (c *chaos) snapshots() []string { return slices.Sorted(maps.Keys(c.m.snapshots)) }

func (c *chaos) others() []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(c.m.lanes)), func(s string) bool { return s == c.m.live })
}

// edited changes files of a folder by hand, as a player and a launcher do.
func (c *chaos) edited(dir string, t tree) {
	names := []string{"readme.txt", "bin/quay.exe", "data/a.pak", "data/b.pak", "data/deep/c.txt", "Mods/one.txt", "Mods/deep/two.txt", "extra.txt", "was", "was/inside.txt"}
	for range 1 + c.r.IntN(4) {
		p := c.pick(names)
		full := filepath.Join(dir, filepath.FromSlash(p))
		if c.r.IntN(4) == 0 {
			if info, err := os.Lstat(full); err == nil && !info.IsDir() {
				require.NoError(c.t, os.Remove(full))
				delete(t, p)
				// The model knows no empty folders: a build that has one takes a file from its place.
				for d := filepath.Dir(full); d != dir && os.Remove(d) == nil; d = filepath.Dir(d) {
				}
				c.said = append(c.said, "by hand: "+full+" deleted")
			}
			continue
		}
		if info, err := os.Lstat(full); err == nil && info.IsDir() {
			continue
		}
		if info, err := os.Lstat(filepath.Dir(full)); err == nil && !info.IsDir() {
			continue
		}
		c.text++
		text := strings.Repeat(fmt.Sprintf("text %d of %s. ", c.r.IntN(12), p), 1+c.r.IntN(400))
		require.NoError(c.t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(c.t, os.Chmod(filepath.Dir(full), 0o755))
		_ = os.Remove(full)
		require.NoError(c.t, os.WriteFile(full, []byte(text), 0o644))
		t[p] = text
		c.said = append(c.said, "by hand: "+full+" written")
	}
}

// operation is something to ask for, and what everything must be after it.
type operation struct {
	args  []string
	after *model
	// change says that it adds a change to the history of the live lane.
	change bool
	label  string // of a snapshot that it makes
}

// next chooses an operation; nil: this one is not possible now.
func (c *chaos) next() *operation {
	m := c.m.clone()
	live := m.lanes[m.live]
	owned := tree{}
	if live.held != "" {
		owned = without(m.snapshots[live.held], live.out)
	}
	pin := func(label string, exact bool) *operation {
		before := maps.Clone(live.files)
		left := ""
		args := []string{"pin", "snapshot/" + label, "--plain", "--yes"}
		if files := slices.DeleteFunc(slices.Sorted(maps.Keys(m.snapshots[label])), kept); !exact && len(files) > 0 && c.r.IntN(4) == 0 {
			left = c.pick(files)
			args = append(args, "--leave-out", left)
		}
		live.files = live.pinned(m.snapshots[label], owned, exact, left)
		live.changes = append(live.changes, modelChange{before: before, after: live.files, held: live.held, out: live.out, exact: live.exact, open: live.open})
		live.held, live.out, live.exact, live.open, m.blocked = label, left, false, false, true
		if exact {
			args = append(args, "--exact")
		}
		return &operation{args: args, after: m, change: true}
	}
	switch c.r.IntN(24) {
	case 0, 1, 2:
		c.edited(c.live, c.m.lanes[c.m.live].files)
		return nil
	case 3, 4:
		c.n++
		label := fmt.Sprintf("s%d", c.n)
		m.snapshots[label] = maps.Clone(live.files)
		return &operation{args: []string{"snapshot", label}, after: m, label: label}
	case 5, 6, 7:
		return pin(c.pick(c.snapshots()), false)
	case 8:
		return pin(c.pick(c.snapshots()), true)
	case 9, 10, 11:
		if len(live.changes) == 0 {
			return nil
		}
		last := live.changes[len(live.changes)-1]
		for p := range last.after {
			if last.after[p] != last.before[p] {
				delete(live.files, p)
			}
		}
		// What stands in the way of what comes back goes.
		for p, was := range last.before {
			if last.after[p] == was {
				continue
			}
			for q := range live.files {
				if strings.HasPrefix(q, p+"/") || strings.HasPrefix(p, q+"/") {
					return nil // such an undo is about files that came later
				}
			}
			live.files[p] = was
		}
		live.changes = live.changes[:len(live.changes)-1]
		live.held, live.out, live.exact, live.open = last.held, last.out, last.exact, last.open
		m.blocked = live.held != "" && !live.open
		return &operation{args: []string{"undo", "--yes"}, after: m, change: true}
	case 12:
		if live.held == "" {
			return nil
		}
		// What is just as in another snapshot goes with a repair if the lane has drifted to that one,
		// which the model cannot tell.
		for p, c := range live.files {
			for label, s := range m.snapshots {
				if _, held := owned[p]; label != live.held && !held && !kept(p) && s[p] == c {
					return nil
				}
			}
		}
		before := maps.Clone(live.files)
		live.files = live.pinned(m.snapshots[live.held], owned, live.exact, live.out)
		live.changes = append(live.changes, modelChange{before: before, after: live.files, held: live.held, out: live.out, exact: live.exact, open: live.open})
		m.blocked = !live.open
		if maps.Equal(before, live.files) {
			return nil // it would say that nothing differs
		}
		return &operation{args: []string{"verify", "--repair", "--yes"}, after: m, change: true}
	case 13:
		if len(m.lanes) > 2 {
			return nil
		}
		c.n++
		name, label := fmt.Sprintf("l%d", c.n), c.pick(c.snapshots())
		m.lanes[name] = &modelLane{held: label}
		m.lanes[name].files = m.lanes[name].pinned(m.snapshots[label], tree{}, false, "")
		for p := range m.lanes[name].files {
			if kept(p) {
				delete(m.lanes[name].files, p)
			}
		}
		m.lanes[name].changes = []modelChange{{before: tree{}, after: maps.Clone(m.lanes[name].files)}}
		return &operation{args: []string{"lane", "new", name, "--from", "snapshot/" + label, "--yes"}, after: m}
	case 14, 15:
		if len(c.others()) == 0 {
			return nil
		}
		m.live = c.pick(c.others())
		m.blocked = m.lanes[m.live].held != "" && !m.lanes[m.live].open
		return &operation{args: []string{"lane", "switch", m.live}, after: m}
	case 16:
		if len(c.others()) == 0 {
			return nil
		}
		c.n++
		was, name := c.pick(c.others()), fmt.Sprintf("r%d", c.n)
		m.lanes[name] = m.lanes[was]
		delete(m.lanes, was)
		return &operation{args: []string{"lane", "rename", was, name}, after: m}
	case 17:
		if len(c.others()) == 0 {
			return nil
		}
		was := c.pick(c.others())
		delete(m.lanes, was)
		return &operation{args: []string{"lane", "remove", was, "--delete", "--yes"}, after: m}
	case 18:
		p := c.pick([]string{"1.sav", "2.sav", "deep/3.sav"})
		c.text++
		c.m.saves[p] = fmt.Sprint("save ", c.text)
		require.NoError(c.t, os.MkdirAll(filepath.Dir(filepath.Join(c.saved, p)), 0o755))
		require.NoError(c.t, os.WriteFile(filepath.Join(c.saved, filepath.FromSlash(p)), []byte(c.m.saves[p]), 0o644))
		return nil
	case 19:
		if c.r.IntN(2) == 0 {
			m.saves = tree{}
			return &operation{args: []string{"saves", "stash", "--yes"}, after: m}
		}
		ids := slices.Sorted(maps.Keys(m.backups))
		if len(ids) == 0 {
			return nil
		}
		id := ids[c.r.IntN(len(ids))]
		m.saves = maps.Clone(m.backups[id])
		return &operation{args: []string{"saves", "restore", fmt.Sprint(id), "--yes"}, after: m}
	case 20:
		return &operation{args: []string{"store", "trim", "--yes"}, after: m}
	case 21, 22:
		// A folder with most of a build, and something of its own.
		c.n++
		label, dir := fmt.Sprintf("i%d", c.n), filepath.Join(c.dir, "import")
		require.NoError(c.t, os.RemoveAll(dir))
		got := tree{"own.txt": fmt.Sprint("own ", c.n)}
		for p, text := range m.snapshots[c.pick(c.snapshots())] {
			if c.r.IntN(5) > 0 && p != "own.txt" {
				got[p] = text
			}
		}
		for p, text := range got {
			require.NoError(c.t, os.MkdirAll(filepath.Dir(filepath.Join(dir, p)), 0o755))
			require.NoError(c.t, os.WriteFile(filepath.Join(dir, p), []byte(text), 0o644))
		}
		m.snapshots[label] = got
		return &operation{args: []string{"import", dir, label, "--inside", ".", "--yes"}, after: m, label: label}
	default:
		if m.blocked || live.held == "" {
			m.blocked, live.open = false, live.held != ""
			return &operation{args: []string{"unblock"}, after: m}
		}
		m.blocked, live.open = true, false
		return &operation{args: []string{"block"}, after: m}
	}
}

var (
	chaosCalls  = []string{"renameat,renameat2", "fsync,fdatasync,syncfs", "unlinkat", "mkdirat", "pwrite64", "write", "openat", "fchmodat", "utimensat", "ftruncate"}
	chaosErrors = []string{"EIO", "ENOSPC", "EACCES"}
)

// do asks for an operation, perhaps with a fault, and finds out which of the two models
// holds after the next command.
func (c *chaos) do(o *operation) {
	before := c.m
	args := append([]string{"-g", "quay"}, o.args...)
	cmd := c.command(args...)
	cmd.Dir = c.dir
	fault := "no fault"
	if k := c.r.IntN(10); k >= 4 {
		calls := c.pick(chaosCalls)
		n := 1 + c.r.IntN(40)
		inject := fmt.Sprintf("inject=%s:signal=KILL:when=%d", calls, n)
		if k >= 8 {
			inject = fmt.Sprintf("inject=%s:error=%s:when=%d", calls, c.pick(chaosErrors), n)
		}
		fault = inject
		strace, err := exec.LookPath("strace")
		require.NoError(c.t, err)
		cmd.Path = strace
		cmd.Args = append([]string{"strace", "-f", "-qq", "-o", "/dev/null", "-e", "trace=" + calls, "-e", inject, program}, args...)
	}
	r := c.finish(cmd)
	what := fmt.Sprintf("%v with %s: exit %d %s", o.args, fault, r.code, strings.TrimSpace(r.err))
	c.said = append(c.said, what)
	next := c.pick([]string{"status", "lane list", "history", "saves list", "store check"})
	look := c.outsideRun(append([]string{"-g", "quay"}, strings.Fields(next)...)...)
	if fault != "no fault" && !slices.Contains([]string{"lane list", "status"}, next) {
		// Only commands that open the lane end what is unfinished.
		look = c.outsideRun("-g", "quay", "status")
	}
	c.said = append(c.said, fmt.Sprintf("  then %s: exit %d %s", next, look.code, strings.TrimSpace(look.err)))
	if look.code != 0 && look.code != 3 {
		c.fail("the next command fails")
	}
	if check := c.outsideRun("-g", "quay", "store", "check"); check.code != 0 {
		c.fail("the store lacks something: " + check.out + check.err)
	}
	wrongAfter, isAfter := c.seen(o.after)
	wrongBefore, isBefore := c.seen(before)
	switch {
	case fault == "no fault" && r.code == 0 && !isAfter:
		c.fail("it has succeeded, and yet: " + wrongAfter)
	case !isAfter && !isBefore:
		c.fail("neither as after (" + wrongAfter + ") nor as before (" + wrongBefore + ")")
	}
	// What the player cannot see in the files is asked for.
	status := c.outsideRun("-g", "quay", "--json", "status")
	var s struct {
		Held  bool                    `json:"held"`
		Lane  string                  `json:"lane"`
		Build *struct{ Label string } `json:"build"`
		Block []struct{ Holds bool }  `json:"block"`
	}
	if json.Unmarshal([]byte(status.out), &s) != nil {
		c.fail("status --json: " + status.out + status.err)
	}
	history := c.outsideRun("-g", "quay", "--json", "history")
	var h struct {
		Changes []struct {
			ID, Undone_by int
			What          string
		}
	}
	if json.Unmarshal([]byte(history.out), &h) != nil {
		c.fail("history: " + history.err)
	}
	standing := 0
	for _, change := range h.Changes {
		if change.Undone_by == 0 && change.What != "undo" {
			standing++
		}
	}
	// The history says which of the two it is where the files are the same.
	chosen := before
	if isAfter && (!isBefore || s.Lane == o.after.live && standing == len(o.after.lanes[o.after.live].changes) && (s.Build == nil) == (o.after.lanes[o.after.live].held == "") && (s.Build == nil || s.Build.Label == o.after.lanes[o.after.live].held)) {
		chosen = o.after
	}
	c.m = chosen.clone()
	l := c.m.lanes[c.m.live]
	if s.Lane != c.m.live {
		c.fail(fmt.Sprintf("lane %s is live, not %s", s.Lane, c.m.live))
	}
	if s.Held != (l.held != "") || s.Held && s.Build.Label != l.held {
		c.fail(fmt.Sprintf("held %v %+v, not %q", s.Held, s.Build, l.held))
	}
	if standing != len(l.changes) {
		c.fail(fmt.Sprintf("%d changes stand, not %d", standing, len(l.changes)))
	}
	// A lane that is held is blocked, unless that was taken off on purpose; one that is
	// not held never is.
	blocked := strings.Contains(c.stateText(), "by-hand")
	for _, b := range s.Block {
		if !b.Holds && blocked {
			c.fail("the block is said not to hold, and it does")
		}
	}
	switch {
	case l.held == "" && blocked:
		c.fail("it is not held, and blocked")
	case fault != "no fault" || r.code != 0:
		c.unsure = true // what was cut off is ended by the next command that opens the lane
		l.open = l.held != "" && strings.Contains(c.outsideRun("-g", "quay", "status").out, "let in; morvant block")
	case c.unsure:
		c.unsure = false
		l.open = l.held != "" && !blocked
	case blocked != o.after.blocked:
		c.fail(fmt.Sprintf("blocked is %v", blocked))
	}
	c.m.blocked = blocked
	if o.label != "" {
		list := c.outsideRun("-g", "quay", "builds").out
		if strings.Contains(list, o.label+" ") {
			c.m.snapshots[o.label] = maps.Clone(o.after.snapshots[o.label])
		} else {
			delete(c.m.snapshots, o.label)
			if fault == "no fault" {
				c.fail("the snapshot is not there")
			}
		}
	}
}

// exported takes a snapshot out of the store and compares every byte.
func (c *chaos) exported(label string) {
	file := filepath.Join(c.dir, "export.zip")
	_ = os.Remove(file)
	r := c.outsideRun("-g", "quay", "export", "snapshot/"+label, file)
	if r.code != 0 {
		c.fail("snapshot " + label + " cannot be exported: " + r.err)
	}
	z, err := zip.OpenReader(file)
	require.NoError(c.t, err)
	defer z.Close()
	is := make(tree)
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		in, err := f.Open()
		require.NoError(c.t, err)
		b, err := io.ReadAll(in)
		require.NoError(c.t, err)
		in.Close()
		is[f.Name] = string(b)
	}
	if !maps.Equal(is, c.m.snapshots[label]) {
		var made []string // what led to it
		if i := slices.IndexFunc(c.said, func(line string) bool { return strings.HasPrefix(line, "[snapshot "+label+"]") }); i >= 0 {
			made = c.said[max(0, i-24):min(len(c.said), i+3)]
		}
		c.fail("snapshot " + label + ": " + differences(c.m.snapshots[label], is) + "\nmade by:\n" + strings.Join(made, "\n") + "\n")
	}
}

func (c *chaos) fail(why string) {
	c.t.Helper()
	if keep := os.Getenv("MORVANT_CHAOS_KEEP"); keep != "" { // to look at what it has come to
		_ = exec.Command("cp", "-a", c.dir, c.home, keep).Run()
	}
	last := max(0, len(c.said)-32)
	c.t.Fatalf("%s\nthe last operations:\n%s", why, strings.Join(c.said[last:], "\n"))
}

func TestChaos(t *testing.T) {
	canTrace(t)
	n := seedOf(t)
	base := t.TempDir()
	place := func(variable string) string {
		dir := os.Getenv(variable)
		if dir == "" {
			return base
		}
		dir, err := os.MkdirTemp(dir, "morvant-chaos-")
		require.NoError(t, err)
		t.Cleanup(func() { os.RemoveAll(dir) })
		return dir
	}
	liveBase, err := filepath.EvalSymlinks(place("MORVANT_CHAOS_LIVE"))
	require.NoError(t, err)
	w := &world{t: t, dir: liveBase, live: filepath.Join(liveBase, "Quay"), home: filepath.Join(place("MORVANT_CHAOS_HOME"), "home")}
	c := &chaos{launched: &launched{world: w, state: filepath.Join(liveBase, "launcher", "state.cfg")}, r: rand.New(rand.NewPCG(n, 2)), saved: filepath.Join(liveBase, "Saves")}
	for _, dir := range []string{w.live, filepath.Dir(c.state), c.saved} {
		require.NoError(t, os.MkdirAll(dir, 0o755))
	}
	require.NoError(t, os.WriteFile(c.state, []byte("folder = x\nupdates = at-once\n"), 0o644))
	c.m = &model{live: "main", lanes: map[string]*modelLane{"main": {files: tree{}}}, saves: tree{}, snapshots: map[string]tree{}, backups: map[int]tree{}}
	for range 6 {
		c.edited(w.live, c.m.lanes["main"].files)
	}
	w.ok("add", "quay", w.live, "--keep", "Mods/**", "--saves", c.saved)
	w.ok(c.setting()...)
	w.ok("snapshot", "s0")
	c.m.snapshots["s0"] = maps.Clone(c.m.lanes["main"].files)
	require.NoError(t, os.WriteFile(filepath.Join(c.saved, "1.sav"), []byte("the first"), 0o644))
	c.m.saves["1.sav"] = "the first"
	w.ok("saves", "backup")
	c.m.backups[1] = maps.Clone(c.m.saves)
	done := 0
	for until := time.Now().Add(chaosFor()); time.Now().Before(until); {
		o := c.next()
		if o == nil {
			continue
		}
		c.do(o)
		if done++; done%5 == 0 {
			c.exported(c.pick(c.snapshots()))
		}
	}
	for _, label := range c.snapshots() {
		c.exported(label)
	}
	if r := c.outsideRun("-g", "quay", "store", "check"); r.code != 0 {
		c.fail(r.out + r.err)
	}
	t.Logf("%d operations, %d snapshots, 0 findings; seed %d", done, len(c.m.snapshots), n)
}
