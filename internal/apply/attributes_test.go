package apply

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/progress"
	"morvant/internal/scan"
	"morvant/internal/volume"
)

// towards makes the job that brings the folder to any state. The store has the contents.
func (r *rig) towards(want plan.State, contents ...string) Job {
	r.Helper()
	session := r.store.Begin()
	for _, content := range contents {
		_, _, err := session.Put(r.Context(), bytes.NewReader([]byte(content)), nil)
		require.NoError(r, err)
	}
	require.NoError(r, session.Close())
	tree := r.look()
	p, err := plan.Make(plan.Request{Have: plan.FromTree(tree), Want: want, Exact: true})
	require.NoError(r, err)
	return Job{Root: r.root, Dir: r.dir, Plan: p, Tree: tree, Store: r.store, Memo: []byte(`{}`), Meter: progress.None{}, Now: time.Now}
}

func fileNode(content string, mode os.FileMode, mtime int64) plan.Node {
	return plan.Node{Kind: plan.File, Size: int64(len(content)), Digest: digest.Of([]byte(content)), Mode: mode, MTime: mtime}
}

var long = time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC).UnixNano()

// canLink skips a test where players cannot make links.
func canLink(t *testing.T) {
	t.Helper()
	if runtime.GOOS == "windows" {
		t.Skip("symbolic links take rights here that players do not have")
	}
}

func TestLinksTimesAndModesAreBroughtToWhatIsWanted(t *testing.T) {
	r := newRig(t)
	r.file("a", "1")
	r.file("d/old", "2")
	want := plan.State{
		{Path: "a", Node: fileNode("1", 0o600, long)}, // only its time and mode
		{Path: "d", Node: plan.Node{Kind: plan.Dir, MTime: long}},
		{Path: "d/l", Node: plan.Node{Kind: plan.Link, Target: "../a"}},
		{Path: "d/new", Node: fileNode("3", 0o644, long)},
	}
	canLink(t)
	r.do(r.towards(want, "3"))
	require.NoError(t, Finish(r.root))
	require.Equal(t, map[string]string{"a": "1", "d/new": "3"}, r.contents())
	target, err := os.Readlink(filepath.Join(r.dir, "d", "l"))
	require.NoError(t, err)
	require.Equal(t, filepath.FromSlash("../a"), target)
	for _, p := range []string{"a", "d", "d/new"} {
		info, err := os.Stat(filepath.Join(r.dir, filepath.FromSlash(p)))
		require.NoError(t, err)
		require.True(t, info.ModTime().Equal(time.Unix(0, long)), p)
	}
	// Where the link stands already, nothing happens; another one is replaced.
	want[2].Target = "new"
	r.do(r.towards(want))
	require.NoError(t, Finish(r.root))
	target, err = os.Readlink(filepath.Join(r.dir, "d", "l"))
	require.NoError(t, err)
	require.Equal(t, "new", target)
}

func TestAFileWithOtherNamesGetsACopyOfItsOwn(t *testing.T) {
	r := newRig(t)
	r.file("a", "shared with the mods")
	mods := filepath.Join(t.TempDir(), "mods-a")
	require.NoError(t, os.Link(filepath.Join(r.dir, "a"), mods))
	before, err := os.Stat(mods)
	require.NoError(t, err)
	r.do(r.towards(plan.State{{Path: "a", Node: fileNode("shared with the mods", 0o600, long)}}))
	require.NoError(t, Finish(r.root))

	after, err := os.Stat(mods)
	require.NoError(t, err)
	require.Equal(t, before.ModTime(), after.ModTime(), "it is not the change's to touch")
	require.Equal(t, before.Mode(), after.Mode())
	here, err := os.Stat(filepath.Join(r.dir, "a"))
	require.NoError(t, err)
	require.False(t, os.SameFile(here, after))
	require.True(t, here.ModTime().Equal(time.Unix(0, long)))
	require.Equal(t, map[string]string{"a": "shared with the mods"}, r.contents())
	left, err := filepath.Glob(filepath.Join(r.dir, ".morvant", "*", "own-*"))
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestWhatStandsAtMorvantsNameIsPutAside(t *testing.T) {
	r := newRig(t)
	said := ""
	root, err := os.OpenRoot(r.dir)
	require.NoError(t, err)
	root, err = Enter(root, func(text string) { said += text })
	require.NoError(t, err)
	defer root.Close()
	require.Empty(t, said, "nothing was there")

	r.file(".morvant", "somebody's file")
	moved, err := MakeRoom(root)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(moved, "set-aside-morvant-"))
	b, err := os.ReadFile(filepath.Join(r.dir, moved))
	require.NoError(t, err)
	require.Equal(t, "somebody's file", string(b))

	canLink(t)
	outside := t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(r.dir, ".morvant")))
	again, err := os.OpenRoot(r.dir)
	require.NoError(t, err)
	again, err = Enter(again, func(text string) { said += text })
	require.NoError(t, err)
	defer again.Close()
	require.Contains(t, said, "was not a folder, and Morvant needs its own folder there")
	r.file("x", "1")
	r.do(r.job(map[string]string{"x": "2"}))
	list, err := os.ReadDir(outside)
	require.NoError(t, err)
	require.Empty(t, list, "nothing was led out")
}

func TestAReportIsSentences(t *testing.T) {
	one := &Report{
		AsideDir: ".morvant/aside/x", Aside: []AsideFile{{Path: "a", At: ".morvant/aside/x/a"}}, Restored: []string{"b"}, Lost: []string{"c"}, Unset: []string{"d"}, Shared: []string{"e"},
	}
	require.False(t, one.Empty())
	text := strings.Join(one.Sentences("/g"), "\n")
	for _, part := range []string{
		"something else wrote a meanwhile; Morvant keeps what was written in " + filepath.Join("/g", ".morvant", "aside", "x"), "b was missing and has been restored", "c is gone and is not in the store",
		"the date or mode of d could not be set", "e has other names elsewhere",
	} {
		require.Contains(t, text, part)
	}
	many := &Report{Restored: []string{"b", "b2"}, Lost: []string{"c", "c2", "c3"}, Unset: []string{"d", "d2"}, Shared: []string{"e", "e2"}}
	text = strings.Join(many.Sentences("/g"), "\n")
	for _, part := range []string{"2 files, such as b, were missing", "3 files, such as c, are gone and not in the store", "dates or modes of 2 files", "2 files, such as e, have other names elsewhere"} {
		require.Contains(t, text, part)
	}
	broken := &Report{}
	broken.unset("d", &os.PathError{Op: "chtimes", Path: "d", Err: syscall.EIO})
	broken.unset("d2", os.ErrPermission)
	require.Equal(t, []string{"the dates or modes of 2 files, such as d, could not be set: " + syscall.EIO.Error()}, broken.Sentences("/g"))
	require.Empty(t, (&Report{}).Sentences("/g"))
	require.True(t, (&Report{}).Empty())
	for _, r := range []*Report{{Aside: one.Aside}, {Restored: one.Restored}, {Lost: one.Lost}, {Unset: one.Unset}, {Shared: one.Shared}} {
		require.False(t, r.Empty())
		require.Len(t, r.Sentences("/g"), 1)
	}
}

func TestAnUnfinishedChangeSaysBoth(t *testing.T) {
	cause := errors.New("the disk is full")
	err := error(&UnfinishedError{cause, errors.New("and read-only")})
	require.ErrorIs(t, err, cause)
	require.ErrorContains(t, err, "the disk is full; undoing that failed as well, and the next command tries it again: and read-only")
}

// TestLargeContentIsSharedOrCopied: content that another file of the folder has is there
// afterwards, whether the file system can share it or not, and each file is its own.
func TestLargeContentIsSharedOrCopied(t *testing.T) {
	r := newRig(t)
	content := strings.Repeat("tides and cargo ", ShareFrom/8)
	r.file("a", content)
	r.do(r.towards(plan.State{{Path: "a", Node: fileNode(content, 0, 0)}, {Path: "b", Node: fileNode(content, 0, 0)}}, content))
	require.NoError(t, Finish(r.root))
	require.Equal(t, map[string]string{"a": content, "b": content}, r.contents())
	r.file("a", "changed")
	require.Equal(t, content, r.contents()["b"])
}

// TestMissingContentLeavesEverything: what the store does not have cannot be written, and
// nothing has been moved by then.
func TestMissingContentLeavesEverything(t *testing.T) {
	r := newRig(t)
	r.file("a", "1")
	job := r.towards(plan.State{{Path: "a", Node: fileNode("nobody has this", 0, 0)}, {Path: "b", Node: fileNode("nor this", 0, 0)}})
	_, err := Do(t.Context(), job)
	require.Error(t, err)
	require.Equal(t, map[string]string{"a": "1"}, r.contents())
	require.NoDirExists(t, filepath.Join(r.dir, ".morvant", "change"))
}

// TestNothingInAReportMakesUpForSomethingElse: any two things that went otherwise are two.
func TestNothingInAReportMakesUpForSomethingElse(t *testing.T) {
	kinds := []func(*Report){
		func(r *Report) { r.Aside = []AsideFile{{}} }, func(r *Report) { r.Unset = []string{"x"} }, func(r *Report) { r.Shared = []string{"x"} },
		func(r *Report) { r.Restored = []string{"x"} }, func(r *Report) { r.Lost = []string{"x"} },
	}
	for _, first := range kinds {
		for _, second := range kinds {
			var r Report
			first(&r)
			second(&r)
			require.False(t, r.Empty())
		}
	}
}

func TestTheSpaceThatAPlanNeedsIsWhatItWritesAndABitMore(t *testing.T) {
	most := int64(1 << 60)
	p := &plan.Plan{Steps: []plan.Step{{Path: "a", After: &plan.Node{Kind: plan.File, Size: most}}, {Path: "b", After: &plan.Node{Kind: plan.Dir}}}}
	var short *volume.SpaceError
	require.ErrorAs(t, CheckSpace(t.TempDir(), p, 1000), &short)
	require.Equal(t, most-1000+2*perFile+spare, short.Need)
	require.NoError(t, CheckSpace(t.TempDir(), p, most), "all of it is shared")
	require.NoError(t, CheckSpace(t.TempDir(), &plan.Plan{Steps: p.Steps[1:]}, 0), "nothing is written")
}

func TestAFileIsOneAgainWithOnlyWhatIsInTheNamedFolders(t *testing.T) {
	canLink(t)
	mods, elsewhere := t.TempDir(), t.TempDir()
	put := func(dir, name, content string) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(p, []byte(content), 0o640))
		require.NoError(t, os.Chtimes(p, time.Unix(0, long), time.Unix(0, long)))
		return p
	}
	there := put(mods, "a", "roads")
	changed := put(mods, "b", "ROADS") // of the same size and time
	outside := put(elsewhere, "c", "roads")
	require.NoError(t, os.Symlink(outside, filepath.Join(mods, "led-out")))
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(mods, "folder")))
	for _, tc := range []struct {
		name, other   string
		again, copies int
		one           bool
	}{
		{"there", there, 1, 0, true},
		{"changed since", changed, 1, 0, false}, // found out while it is read
		{"not in the folders", outside, 0, 1, false},
		{"a link in them that leads out", filepath.Join(mods, "led-out"), 0, 1, false},
		{"a folder in them that leads out", filepath.Join(mods, "folder", "c"), 0, 1, false},
		{"up and out", mods + "/../" + filepath.Base(elsewhere) + "/c", 0, 1, false},
		{"gone", filepath.Join(mods, "gone"), 0, 1, false},
		{"a folder", mods, 0, 1, false},
	} {
		t.Run(tc.name, func(t *testing.T) {
			r := newRig(t)
			n := fileNode("roads", 0o644, long)
			n.Other = manifest.Other{Name: tc.other}
			want, apart, err := Links(t.Context(), &scan.Names{Folders: []string{mods}}, nil, nil, plan.State{{Path: "x", Node: n}})
			require.NoError(t, err)
			job := r.towards(want, "roads")
			again, copies := CountLinks(job.Plan, apart)
			require.Equal(t, [2]int{tc.again, tc.copies}, [2]int{again, copies})
			job.Names = &scan.Names{Folders: []string{mods}}
			r.do(job)
			require.NoError(t, Finish(r.root))
			require.Equal(t, map[string]string{"x": "roads"}, r.contents())
			here, err := os.Stat(filepath.Join(r.dir, "x"))
			require.NoError(t, err)
			for _, p := range []string{there, changed, outside} {
				info, err := os.Stat(p)
				require.NoError(t, err)
				require.Equal(t, tc.one && p == tc.other, os.SameFile(here, info), p)
				require.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
				require.True(t, info.ModTime().Equal(time.Unix(0, long)))
			}
		})
	}
}
