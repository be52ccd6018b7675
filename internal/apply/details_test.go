package apply

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
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

func (r *rig) stat(p string) fs.FileInfo {
	r.Helper()
	info, err := os.Lstat(filepath.Join(r.dir, filepath.FromSlash(p)))
	require.NoError(r, err)
	return info
}

// TestEverythingIsAsItWasWanted compares with what was asked for, not with another run.
func TestEverythingIsAsItWasWanted(t *testing.T) {
	r, job, _ := everything(t)
	for i := range job.Plan.Steps {
		if s := &job.Plan.Steps[i]; s.After != nil && s.Path == "audio/song" {
			s.After.Mode = 0o600 // a file that moves may get another mode and time
			s.After.MTime = long + 1e9
		}
	}
	r.do(job)
	require.NoError(t, Finish(r.root))
	want := map[string]plan.Node{}
	for _, s := range job.Plan.Steps {
		if s.After != nil {
			want[s.Path] = *s.After
		}
	}
	require.Greater(t, len(want), 7)
	for p, n := range want {
		info := r.stat(p)
		require.Equal(t, n.Kind == plan.Dir, info.IsDir(), p)
		if n.Kind == plan.Link {
			target, err := os.Readlink(filepath.Join(r.dir, filepath.FromSlash(p)))
			require.NoError(t, err)
			require.Equal(t, n.Target, target)
			continue
		}
		if n.MTime != 0 {
			require.True(t, info.ModTime().Equal(n.Time()), "%s: %s", p, info.ModTime())
		}
		if n.Mode != 0 && runtime.GOOS != "windows" {
			require.Equal(t, n.Mode, info.Mode().Perm(), p)
		}
		if n.Kind == plan.File {
			b, err := os.ReadFile(filepath.Join(r.dir, filepath.FromSlash(p)))
			require.NoError(t, err)
			require.Equal(t, n.Digest, digest.Of(b), p)
		}
	}
	require.Equal(t, long-int64(time.Hour), r.stat("same").ModTime().UnixNano(), "nothing was wanted of it")
	for _, gone := range []string{"d/deep", "empty", "music"} {
		require.NoDirExists(t, filepath.Join(r.dir, filepath.FromSlash(gone)))
	}
	entries, err := os.ReadDir(filepath.Join(r.dir, manifest.PrivateDir))
	require.NoError(t, err)
	for _, e := range entries {
		require.False(t, strings.HasPrefix(e.Name(), ended), "what is over is deleted")
	}
}

// TestWhatIsNotSaidStays: a mode of a file whose content changes, or of which only the time does.
func TestWhatIsNotSaidStays(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("modes are made up here")
	}
	r := newRig(t)
	for _, p := range []string{"content", "time", "mode"} {
		r.file(p, p)
		require.NoError(t, os.Chmod(filepath.Join(r.dir, p), 0o640))
	}
	r.age(long)
	r.do(r.towards(plan.State{
		{Path: "content", Node: fileNode("other", 0, long)},
		{Path: "mode", Node: fileNode("mode", 0o600, long)},
		{Path: "time", Node: fileNode("time", 0, long+1e9)},
	}, "other"))
	require.NoError(t, Finish(r.root))
	for p, mode := range map[string]fs.FileMode{"content": 0o640, "mode": 0o600, "time": 0o640} {
		require.Equal(t, mode, r.stat(p).Mode().Perm(), p)
	}
	require.True(t, r.stat("time").ModTime().Equal(time.Unix(0, long+1e9)))
	require.True(t, r.stat("mode").ModTime().Equal(time.Unix(0, long)))
}

// TestACopyOfItsOwnChangesNothingElse: the folder of a file that has other names keeps its time, and
// the file what is not said of it.
func TestACopyOfItsOwnChangesNothingElse(t *testing.T) {
	r := newRig(t)
	r.file("d/a", "shared")
	require.NoError(t, os.Link(filepath.Join(r.dir, "d", "a"), filepath.Join(t.TempDir(), "b")))
	require.NoError(t, os.Chmod(filepath.Join(r.dir, "d", "a"), 0o640))
	require.NoError(t, r.root.MkdirAll(changeDir, 0o755))
	r.age(long)
	require.NoError(t, setAttributes(r.root, "d/a", plan.Node{Kind: plan.File, MTime: long + 1e9}))
	require.True(t, r.stat("d/a").ModTime().Equal(time.Unix(0, long+1e9)))
	require.True(t, r.stat("d").ModTime().Equal(time.Unix(0, long)))
	if runtime.GOOS != "windows" {
		require.Equal(t, fs.FileMode(0o640), r.stat("d/a").Mode().Perm())
	}
	names, err := volume.Names(r.root, "d/a")
	require.NoError(t, err)
	require.Equal(t, 1, names)
}

func TestContentThatChangedSinceThePlanIsSeenAsItIsSaved(t *testing.T) {
	r := newRig(t)
	r.file("a", "one")
	r.age(long)
	job := r.job(map[string]string{"a": "ONE"})
	r.file("a", "two")
	r.age(long) // as long, as old
	_, err := Do(t.Context(), job)
	require.ErrorIs(t, err, ErrChanged)
	require.Equal(t, map[string]string{"a": "two"}, r.contents())
}

func TestMorvantsOwnFolderStays(t *testing.T) {
	r := newRig(t)
	r.file(manifest.PrivateDir+"/lane.toml", "x")
	moved, err := MakeRoom(r.root)
	require.NoError(t, err)
	require.Empty(t, moved)
	require.FileExists(t, filepath.Join(r.dir, manifest.PrivateDir, "lane.toml"))
	for _, name := range []string{ended, ended + "-a", ended + "-b", volume.PartPrefix + "x"} {
		r.file(manifest.PrivateDir+"/"+name+"/left", "")
	}
	Sweep(r.root)
	entries, err := os.ReadDir(filepath.Join(r.dir, manifest.PrivateDir))
	require.NoError(t, err)
	require.Len(t, entries, 1, "all that is over goes, and nothing else")
}

func TestAFolderThatGoesMayStayWithWhatNobodyKnows(t *testing.T) {
	r := newRig(t)
	r.file("d/a", "goes")
	job := r.job(map[string]string{})
	r.file("d/extra", "came since")
	r.do(job)
	require.NoError(t, Finish(r.root))
	require.Equal(t, map[string]string{"d/extra": "came since"}, r.contents())
}

// TestWhatIsInTheWayOfARecoveryGoesAside: files where folders have to be, in the second in which
// something was put aside already.
func TestWhatIsInTheWayOfARecoveryGoesAside(t *testing.T) {
	r := newRig(t)
	r.cutOff(r.job(map[string]string{"d/deep/b": "2"}), displaced)
	r.remove("d")
	r.file("d", "in the way")
	for _, taken := range []string{"2031-08-05-120000", "2031-08-05-120000-2"} {
		r.file(asideDir+"/"+taken+"/x", "")
	}
	end := r.recover()
	require.Equal(t, Finished, end.Outcome)
	require.Equal(t, map[string]string{"d/deep/b": "2"}, r.contents())
	require.Len(t, end.Report.Aside, 1)
	require.Contains(t, end.Report.Aside[0].At, "2031-08-05-120000-3/")
	require.NoError(t, Finish(r.root))

	// Folders that somebody has taken away meanwhile are made again, all of them.
	r = newRig(t)
	r.file("d/deep/a", "1")
	r.cutOff(r.job(map[string]string{"d/deep/a": "2"}), displaced)
	r.remove("d")
	require.Equal(t, Finished, r.recover().Outcome)
	require.Equal(t, map[string]string{"d/deep/a": "2"}, r.contents())
}

func TestWhoseAChangeIs(t *testing.T) {
	yes := func([]plan.Step, json.RawMessage) bool { return true }
	for _, c := range []struct {
		known Recovery
		id    string
		ours  bool
	}{
		{Recovery{ID: "a"}, "a", true},
		{Recovery{ID: "a"}, "b", false},
		{Recovery{ID: "a", Ours: yes}, "b", false},
		{Recovery{ID: "a", Ours: yes}, "", true},
		{Recovery{ID: "a"}, "", false},
	} {
		require.Equal(t, c.ours, c.known.ours(&journal{ID: c.id}), "%+v", c)
	}
}

func TestAnySignCounts(t *testing.T) {
	for _, sign := range []string{"displaced", "done", "back", "unplaced", "journal", "journal.2", "old/0", ""} {
		r := newRig(t)
		require.NoError(t, r.root.MkdirAll(oldDir, 0o755))
		if sign != "" {
			r.file(changeDir+"/"+sign, "")
		}
		c := &change{root: r.root}
		begun, err := c.begun()
		require.NoError(t, err)
		require.Equal(t, sign != "", begun, sign)
	}
}

func TestForeignChangesAndFilesWithoutARecordAllGoAside(t *testing.T) {
	r := newRig(t)
	for _, taken := range []string{"foreign-2031-08-05-120000", "foreign-2031-08-05-120000-2"} {
		r.file(asideDir+"/"+taken+"/x", "")
	}
	r.file("a", "mine")
	job := r.job(map[string]string{"a": "evil"})
	job.ID = "of somebody else"
	r.cutOff(job)
	end := r.recover()
	require.Equal(t, Foreign, end.Outcome)
	require.Equal(t, asideDir+"/foreign-2031-08-05-120000-3", end.At)

	r = newRig(t)
	r.file("a", "one")
	r.file("b", "two")
	r.cutOff(r.job(map[string]string{"a": "ONE", "b": "TWO"}), displaced)
	r.remove(changeDir + "/journal")
	r.remove(changeDir + "/journal.2")
	end = r.recover()
	require.Equal(t, Unknown, end.Outcome)
	require.Len(t, end.Report.Aside, 2)
}

func TestWhatTheFirstStepDisplacedIsNobodyElses(t *testing.T) {
	r := newRig(t)
	r.file("a", "the only copy")
	r.cutOff(r.job(map[string]string{"a": "ONE"}), displaced, placed)
	for _, name := range []string{"1", "7", "x"} {
		r.file(oldDir+"/"+name, "of no step")
	}
	end := r.recover()
	require.Equal(t, Finished, end.Outcome)
	require.Len(t, end.Report.Aside, 3)
	for _, a := range end.Report.Aside {
		require.NotContains(t, a.At, "/0")
	}
}

// TestATakingBackTellsItsOwnFromOthers: a change of which something is lost is taken back, with what
// others have done to what it had placed already.
func TestATakingBackTellsItsOwnFromOthers(t *testing.T) {
	begin := func() *rig {
		r := newRig(t)
		r.file("a", "one")
		r.file("b", "two")
		r.age(long)
		r.cutOff(r.towards(plan.State{{Path: "a", Node: fileNode("ONE", 0, long)}, {Path: "b", Node: fileNode("TWO", 0, long)}}, "ONE", "TWO"), displaced, func(c *change) error {
			if err := c.folders(); err != nil {
				return err
			}
			return volume.RenameIn(c.root, c.journal.source(0), "a") // one of two
		})
		r.remove(".morvant/change/new/1")
		return r
	}
	was := map[string]string{"a": "one", "b": "two"}

	r := begin()
	now := time.Unix(0, long).Add(time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(r.dir, "a"), now, now))
	end := r.recover()
	require.Equal(t, Back, end.Outcome)
	require.Equal(t, was, r.contents())
	require.Empty(t, end.Report.Aside, "touched, and still the change's own")

	r = begin()
	r.file("a", "somebody's")
	end = r.recover()
	require.Equal(t, Back, end.Outcome)
	require.Equal(t, was, r.contents())
	require.Len(t, end.Report.Aside, 1)

	// What comes back from the store has its mode and time, and the owner of its folder.
	r = begin()
	r.remove(".morvant/change/old/1")
	root := os.Getuid() == 0 && runtime.GOOS != "windows"
	if root {
		require.NoError(t, os.Chown(r.dir, 12345, 12345))
	}
	end = r.recover()
	if root {
		require.Equal(t, 12345, ownerOf(t, filepath.Join(r.dir, "b")))
	}
	require.Equal(t, []string{"b"}, end.Report.Restored)
	require.True(t, r.stat("b").ModTime().Equal(time.Unix(0, long)))
}

func TestALinkIsTakenBackUnlessSomebodyHasChangedIt(t *testing.T) {
	canLink(t)
	for _, changed := range []bool{false, true} {
		r := newRig(t)
		r.file("a", "one")
		r.cutOff(r.towards(plan.State{{Path: "a", Node: fileNode("ONE", 0, 0)}, {Path: "l", Node: plan.Node{Kind: plan.Link, Target: "a"}}}, "ONE"), displaced, func(c *change) error {
			return os.Symlink("a", filepath.Join(r.dir, "l"))
		})
		if changed {
			r.remove("l")
			require.NoError(t, os.Symlink("elsewhere", filepath.Join(r.dir, "l")))
		}
		r.remove(".morvant/change/new/0")
		require.Equal(t, Back, r.recover().Outcome)
		target, err := os.Readlink(filepath.Join(r.dir, "l"))
		if changed {
			require.NoError(t, err)
			require.Equal(t, "elsewhere", target)
		} else {
			require.ErrorIs(t, err, fs.ErrNotExist)
		}
	}
}

func TestTheJournalKnowsFilesByTheirStamps(t *testing.T) {
	r, job, _ := everything(t)
	j := newJournal(job)
	stamps := 0
	for _, s := range j.Steps {
		require.Equal(t, s.Displaces() && s.Before.Kind == plan.File, s.Stamp != nil, s.Path)
		if s.Stamp != nil {
			stamps++
		}
	}
	require.Positive(t, stamps)
	require.True(t, sameFile(scan.Stamp{Size: 1, CTime: 2}, scan.Stamp{Size: 1, CTime: 3}), "a rename sets it")
	require.False(t, sameFile(scan.Stamp{Size: 1}, scan.Stamp{Size: 2}))
	require.NoError(t, r.root.MkdirAll(changeDir, 0o755))
	require.NoError(t, j.write(r.root))
	for _, name := range journals {
		require.FileExists(t, filepath.Join(r.dir, filepath.FromSlash(changeDir), name))
	}
}

// summed adds up what is told to it.
type summed struct {
	progress.None
	bytes int64
}

func (s *summed) Advance(n int64, _ string) { s.bytes += n }

func TestWhatIsWrittenIsTold(t *testing.T) {
	r := newRig(t)
	job := r.job(map[string]string{"a": "some content"})
	meter := &summed{}
	job.Meter = meter
	r.do(job)
	require.Equal(t, int64(len("some content")), meter.bytes)
}

// TestOwnersStay: an administrator's change leaves files to whom they belong.
func TestOwnersStay(t *testing.T) {
	if os.Getuid() != 0 || runtime.GOOS == "windows" {
		t.Skip("needs root")
	}
	r := newRig(t)
	r.file("d/a", "one")
	r.file("b", "two")
	const player = 12345
	require.NoError(t, os.Chown(filepath.Join(r.dir, "d"), player, player))
	require.NoError(t, os.Chown(filepath.Join(r.dir, "b"), player+1, player+1))
	r.do(r.job(map[string]string{"d/a": "one", "d/new": "in a folder of the player's", "b": "TWO", "e/new": "in a new folder"}))
	require.NoError(t, Finish(r.root))
	for p, owner := range map[string]int{"d/new": player, "b": player + 1, "e/new": 0} {
		require.Equal(t, owner, ownerOf(t, filepath.Join(r.dir, filepath.FromSlash(p))), p)
	}
}

func TestAnErrorThatCouldBeTakenBackIsNoUnfinishedChange(t *testing.T) {
	require.True(t, errors.As(error(&UnfinishedError{fs.ErrExist, fs.ErrInvalid}), new(*UnfinishedError)))
	for n := 1; n < 200; n++ {
		r, job, _ := everything(t)
		f := &fault{from: n, to: n}
		disarm := f.arm()
		report, err := Do(t.Context(), job)
		disarm()
		var unfinished *UnfinishedError
		switch {
		case f.at == "":
			return
		case errors.As(err, &unfinished):
			require.Error(t, unfinished.Back, f.at)
		case err != nil && report != nil:
			require.True(t, report.Empty(), "%s: what fails once is tried twice: %v", f.at, report.Sentences(r.dir))
		}
	}
}
