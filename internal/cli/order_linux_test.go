package cli_test

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// These tests read the order of writes, syncs and renames from a trace of the program. A
// kill leaves what was written in the system's memory, so no kill can show that a sync is
// missing; only the order can, and a power cut.

// event is a system call that matters for what a power cut leaves.
type event struct {
	call     string
	path, to string // full paths; to of a rename
}

func (e event) String() string { return strings.TrimSpace(e.call + " " + e.path + " " + e.to) }

var (
	callLine = regexp.MustCompile(`^(\d+) +(\w+)\((.*)\) += (-?\d+)(?:<([^>]*)>)?`)
	fdPath   = regexp.MustCompile(`^\d+<([^>]*)>`)
	atPath   = regexp.MustCompile(`(?:AT_FDCWD|\d+)<([^>]*)>, "([^"]*)"`)
)

// trace runs the program and returns its events below dir, in order.
func (w *world) trace(dir string, args ...string) []event {
	w.t.Helper()
	file := filepath.Join(w.dir, "trace")
	strace, err := exec.LookPath("strace")
	require.NoError(w.t, err)
	cmd := w.command(args...)
	cmd.Path = strace
	cmd.Args = slices.Concat([]string{"strace", "-f", "-y", "-qq", "-s", "4096", "-o", file, "-e",
		"trace=openat,write,pwrite64,ftruncate,fsync,fdatasync,syncfs,renameat,renameat2,mkdirat,unlinkat,symlinkat,linkat,fchmodat,utimensat"}, []string{program}, args)
	cmd.Env = append(cmd.Env, "GOMAXPROCS=1")
	r := w.finish(cmd)
	require.Equal(w.t, 0, r.code, r.err)
	f, err := os.Open(file)
	require.NoError(w.t, err)
	defer f.Close()
	begun := make(map[string]string)
	var list []event
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		line := lines.Text()
		pid, rest, _ := strings.Cut(line, " ")
		if start, cut := strings.CutSuffix(line, " <unfinished ...>"); cut {
			begun[pid] = start
			continue
		}
		if _, after, resumed := strings.Cut(rest, "resumed>"); resumed {
			line = begun[pid] + after
		}
		m := callLine.FindStringSubmatch(line)
		if m == nil || strings.HasPrefix(m[4], "-") {
			continue
		}
		e := event{call: m[2]}
		switch e.call {
		case "openat":
			if !strings.Contains(m[3], "O_CREAT") {
				continue
			}
			e.call, e.path = "create", m[5]
		case "write", "pwrite64", "ftruncate":
			e.call = "write"
			if p := fdPath.FindStringSubmatch(m[3]); p != nil {
				e.path = p[1]
			}
		case "fsync", "fdatasync", "syncfs":
			if e.call == "fdatasync" {
				e.call = "fsync"
			}
			if p := fdPath.FindStringSubmatch(m[3]); p != nil {
				e.path = p[1]
			}
		default:
			paths := atPath.FindAllStringSubmatch(m[3], -1)
			if len(paths) == 0 {
				continue
			}
			full := func(p []string) string {
				if filepath.IsAbs(p[2]) {
					return p[2]
				}
				return filepath.Join(p[1], p[2])
			}
			e.path = full(paths[0])
			if strings.HasPrefix(e.call, "renameat") && len(paths) > 1 {
				e.call, e.to = "rename", full(paths[1])
			}
		}
		if strings.HasPrefix(e.path, dir) || strings.HasPrefix(e.to, dir) {
			list = append(list, e)
		}
	}
	require.NoError(w.t, lines.Err())
	return list
}

// ordered checks the order of events.
type ordered struct {
	t    *testing.T
	list []event
}

// index returns the place of the first event from a place on that is so, or fails.
func (o ordered) index(from int, what string, is func(event) bool) int {
	o.t.Helper()
	for i := max(from, 0); i < len(o.list); i++ {
		if is(o.list[i]) {
			return i
		}
	}
	o.t.Fatalf("no %s after event %d; the events:\n%s", what, from, o.text())
	return -1
}

func (o ordered) text() string {
	var b strings.Builder
	for i, e := range o.list {
		fmt.Fprintf(&b, "%4d %s\n", i, e)
	}
	return b.String()
}

// synced requires that between two places a path, or the whole file system, is synced.
func (o ordered) synced(after, before int, path, why string) {
	o.t.Helper()
	for i := after; i < before; i++ {
		if e := o.list[i]; e.call == "syncfs" || e.call == "fsync" && e.path == path {
			return
		}
	}
	o.t.Fatalf("%s is not synced between events %d and %d: %s; the events:\n%s", path, after, before, why, o.text())
}

// replaced requires of every file that takes another's place under one of these names:
// its content is synced before the rename, and its folder after it.
func (o ordered) replaced(name string) int {
	o.t.Helper()
	last := -1
	for i, e := range o.list {
		if e.call != "rename" || e.to != name {
			continue
		}
		wrote := -1
		for j := range i {
			if f := o.list[j]; f.path == e.path && (f.call == "write" || f.call == "create") {
				wrote = j
			}
		}
		require.GreaterOrEqual(o.t, wrote, 0, "%s comes from nowhere", name)
		o.synced(wrote, i, e.path, "its content, before it takes its name")
		o.synced(i, len(o.list), filepath.Dir(name), "its name")
		last = i
	}
	require.GreaterOrEqual(o.t, last, 0, "%s was never written:\n%s", name, o.text())
	return last
}

func TestEveryStageOfAChangeIsOnDiskBeforeTheNextBegins(t *testing.T) {
	t.Parallel()
	canTrace(t)
	for _, many := range []bool{false, true} {
		w := newCrashWorld(t)
		if many { // synced by one call for the whole file system
			for i := range 40 {
				w.write(fmt.Sprintf("many/%d.txt", i), fmt.Sprint("one ", i))
			}
			w.ok("snapshot", "many")
			for i := range 40 {
				w.write(fmt.Sprintf("many/%d.txt", i), fmt.Sprint("two ", i))
			}
		}
		build := "1"
		if many {
			build = "many"
		}
		o := ordered{t, w.trace(w.dir, "pin", build, "--clean", "--yes")}
		in := func(p string) string { return w.path(".morvant/" + p) }
		is := func(call, path string) func(event) bool {
			return func(e event) bool { return e.call == call && (e.path == path || e.to == path) }
		}
		under := func(call, dir string) func(event) bool {
			return func(e event) bool {
				return e.call == call && (strings.HasPrefix(e.path, dir+"/") || strings.HasPrefix(e.to, dir+"/"))
			}
		}
		// Saved first: whatever is displaced is in the store, and the store on disk.
		pack := o.index(0, "pack", func(e event) bool { return e.call == "rename" && strings.HasSuffix(e.to, ".pack") })
		o.replaced(o.list[pack].to)
		// Staged: every new file is synced after it was written, and the folder that lists them.
		journal := o.index(0, "journal", is("rename", in("change/journal")))
		lastNew := 0
		for i := range journal {
			if e := o.list[i]; under("write", in("change/new"))(e) || under("create", in("change/new"))(e) {
				o.synced(i, journal, e.path, "new content, before the journal says that it is there")
				lastNew = i
			}
		}
		require.Positive(t, lastNew)
		o.synced(lastNew, journal, in("change/new"), "the list of the new files")
		// Noted in the state before the journal is there.
		noted := o.index(lastNew-1, "", func(event) bool { return true })
		for i := range journal {
			if e := o.list[i]; e.call == "fsync" && strings.HasSuffix(e.path, "state.db-wal") {
				noted = i
			}
		}
		require.Less(t, noted, journal, "the state notes the change before it begins")
		o.replaced(in("change/journal.2"))
		o.replaced(in("change/journal"))
		firstOld := o.index(journal, "displacing", under("rename", in("change/old")))
		o.synced(journal, firstOld, in("change"), "the name of the journal, before anything moves")
		o.synced(journal, firstOld, in(""), "the name of the change, before anything moves")
		// Displaced.
		mark := o.index(firstOld, "mark", is("create", in("change/displaced")))
		lastOld := firstOld
		for i := firstOld; i < mark; i++ {
			if under("rename", in("change/old"))(o.list[i]) {
				lastOld = i
			}
		}
		o.synced(lastOld, mark, in("change/old"), "what is displaced, before that is marked")
		placed := o.index(mark, "placing", func(e event) bool {
			return e.call == "rename" && strings.HasPrefix(e.path, in("change/")) && !strings.HasPrefix(e.to, in(""))
		})
		o.synced(mark, placed, in("change/displaced"), "the mark, before anything takes a place")
		o.synced(mark, placed, in("change"), "the name of the mark, before anything takes a place")
		// Done.
		done := o.index(placed, "mark", is("create", in("change/done")))
		lastPlaced := placed
		for i := placed; i < done; i++ {
			if e := o.list[i]; e.call == "rename" || e.call == "utimensat" || e.call == "fchmodat" {
				lastPlaced = i
			}
		}
		o.synced(lastPlaced, done, w.live, "what has taken its place, before that is marked")
		recorded := o.index(done, "record in the state", func(e event) bool { return e.call == "write" && strings.HasSuffix(e.path, "state.db-wal") })
		o.synced(done, recorded, in("change/done"), "the mark, before the state says that it is done")
		o.synced(done, recorded, in("change"), "the name of the mark, before the state says that it is done")
		over := o.index(recorded, "end", func(e event) bool { return e.call == "rename" && strings.Contains(e.to, "/.morvant/ended-") })
		o.synced(recorded, over, filepath.Join(w.home, "state.db-wal"), "the record, before the change is over")
		gone := o.index(over, "deleting", under("unlinkat", o.list[over].to))
		o.synced(over, gone, in(""), "the name of what is over, before it is deleted")
		o.replaced(in("lane.toml"))
	}
}

func TestEveryStageOfATakingBackIsOnDiskBeforeTheNextBegins(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newCrashWorld(t)
	w.cutOffAfterDisplacing([]string{"pin", "1", "--clean", "--yes"})
	// What has to come is lost, so it has to be taken back.
	list, err := filepath.Glob(w.path(".morvant/change/new/*"))
	require.NoError(t, err)
	require.NotEmpty(t, list)
	require.NoError(t, os.Remove(list[len(list)-1]))
	o := ordered{t, w.trace(w.dir, "lane", "list")}
	require.Equal(t, w.before, w.picture())
	in := func(p string) string { return w.path(".morvant/" + p) }
	back := o.index(0, "mark", func(e event) bool { return e.call == "create" && e.path == in("change/back") })
	unplaced := o.index(back, "mark", func(e event) bool { return e.call == "create" && e.path == in("change/unplaced") })
	o.synced(back, unplaced, in("change/back"), "the mark")
	o.synced(back, unplaced, in("change"), "the name of the mark")
	returned := o.index(unplaced, "putting back", func(e event) bool { return e.call == "rename" && strings.HasPrefix(e.path, in("change/old/")) })
	o.synced(unplaced, returned, in("change/unplaced"), "the mark")
	o.synced(unplaced, returned, in("change"), "the name of the mark")
	over := o.index(returned, "end", func(e event) bool { return e.call == "rename" && strings.Contains(e.to, "/.morvant/ended-") })
	last := returned
	for i := returned; i < over; i++ {
		if e := o.list[i]; e.call == "rename" && strings.HasPrefix(e.path, in("change/old/")) {
			last = i
		}
	}
	o.synced(last, over, w.live, "what is back, before the change is over")
}

func TestFilesThatDecideAreOnDiskBeforeTheyTakeTheirNames(t *testing.T) {
	t.Parallel()
	canTrace(t)
	w := newLanes(t)
	// A switch: both markers, the folders' names, and what is noted before.
	o := ordered{t, w.trace(w.dir, "-g", "quay", "lane", "switch", "old")}
	o.replaced(w.path(".morvant/lane.toml"))
	swap := o.index(0, "exchange of the folders", func(e event) bool {
		return e.call == "rename" && e.to == w.parked("old") || e.path == w.live && e.call == "rename"
	})
	noted := -1
	for i := range swap {
		if e := o.list[i]; e.call == "fsync" && strings.HasSuffix(e.path, "state.db-wal") {
			noted = i
		}
	}
	require.Positive(t, noted, "the switch is noted before it is made")
	carried := o.index(swap, "the state", func(e event) bool { return e.call == "write" && strings.HasSuffix(e.path, "state.db-wal") })
	o.synced(swap, carried, filepath.Dir(w.live), "the folders' names, before the state says where they are")
	// The launcher's setting.
	o.replaced(w.state)

	// Settings, a pack, and a copy of the state.
	o = ordered{t, w.trace(w.dir, "-g", "quay", "game", "set", "--title", "Quay")}
	o.replaced(filepath.Join(w.home, "games", "quay.toml"))
	w.write("fresh.txt", "fresh")
	o = ordered{t, w.trace(w.dir, "-g", "quay", "snapshot", "fresh")}
	pack := o.index(0, "pack", func(e event) bool { return e.call == "rename" && strings.HasSuffix(e.to, ".pack") })
	o.replaced(o.list[pack].to)
	index := o.index(pack, "index", func(e event) bool { return e.call == "write" && strings.HasSuffix(e.path, "index.db-wal") })
	o.synced(pack, index, filepath.Dir(o.list[pack].to), "the name of the pack, before the index names it")
	o = ordered{t, w.trace(w.dir, "-g", "quay", "lane", "rename", "main", "principal")}
	renamed := o.index(0, "rename", func(e event) bool { return e.call == "rename" && strings.HasSuffix(e.to, "[principal]") })
	o.synced(renamed, len(o.list), filepath.Dir(w.live), "the folder's name")
}
