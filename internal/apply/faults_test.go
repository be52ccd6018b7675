package apply

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/volume"
)

// fault is how a test makes calls fail: those from number from to number to, the first being 1.
type fault struct {
	from, to int
	mu       sync.Mutex // files are written by several goroutines at once
	calls    int
	at       string // the first that has failed
}

// arm lets calls fail until the returned function is called.
func (f *fault) arm() (disarm func()) {
	volume.Fault = func(op, path string) error {
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.calls++; f.calls < f.from || f.calls > f.to {
			return nil
		}
		if f.at == "" {
			f.at = op + " " + path
		}
		return &fs.PathError{Op: op, Path: path, Err: syscall.EIO}
	}
	return func() { volume.Fault = nil }
}

const forever = 1 << 30

// everything is a folder in which a change has one of everything to do.
func everything(t *testing.T) (r *rig, job Job, before map[string]string) {
	t.Helper()
	r = newRig(t)
	r.file("same", "same")
	r.file("retimed", "only its time and mode")
	r.file("d/changed", "old")
	r.file("d/deep/gone", "goes")
	r.file("music/song", "moves")
	r.file("was-file", "becomes a folder")
	r.file("was-folder/inside", "in a folder that becomes a file")
	r.file("other", "is a link then")
	require.NoError(t, os.Mkdir(filepath.Join(r.dir, "empty"), 0o755))
	r.age(long - int64(time.Hour))
	want := plan.State{
		{Path: "audio", Node: plan.Node{Kind: plan.Dir, MTime: long}},
		{Path: "audio/song", Node: fileNode("moves", 0o644, long)},
		{Path: "d", Node: plan.Node{Kind: plan.Dir, MTime: long}},
		{Path: "d/changed", Node: fileNode("new content", 0o600, long)},
		{Path: "new", Node: fileNode("new", 0o644, long)},
		{Path: "retimed", Node: fileNode("only its time and mode", 0o600, long)},
		{Path: "same", Node: fileNode("same", 0, 0)},
		{Path: "was-file", Node: plan.Node{Kind: plan.Dir, MTime: long}},
		{Path: "was-file/now", Node: fileNode("inside", 0o644, long)},
		{Path: "was-folder", Node: fileNode("a file", 0o644, long)},
	}
	if runtime.GOOS != "windows" {
		want = append(want[:5:5], append(plan.State{{Path: "other", Node: plan.Node{Kind: plan.Link, Target: "same"}}}, want[5:]...)...)
	}
	before = r.picture()
	job = r.towards(want, "moves", "new content", "new", "only its time and mode", "same", "inside", "a file")
	job.ID = "the change"
	return r, job, before
}

// age gives everything in the folder this time.
func (r *rig) age(when int64) {
	r.Helper()
	var dirs []string
	require.NoError(r, filepath.WalkDir(r.dir, func(p string, d fs.DirEntry, err error) error {
		dirs = append(dirs, p)
		return err
	}))
	for i := len(dirs) - 1; i >= 0; i-- {
		require.NoError(r, os.Chtimes(dirs[i], time.Unix(0, when), time.Unix(0, when)))
	}
}

// picture is everything in the folder, with modes and times; not Morvant's own.
func (r *rig) picture() map[string]string {
	r.Helper()
	out := make(map[string]string)
	require.NoError(r, filepath.WalkDir(r.dir, func(p string, d fs.DirEntry, err error) error {
		rel, relErr := filepath.Rel(r.dir, p)
		if err != nil || relErr != nil || rel == "." {
			return errors.Join(err, relErr)
		}
		if rel == manifest.PrivateDir {
			return fs.SkipDir
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		text := fmt.Sprint(info.Mode(), " ", info.ModTime().UnixNano())
		switch {
		case info.Mode().IsRegular():
			b, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			text += " " + string(b)
		case info.Mode()&fs.ModeSymlink != 0:
			target, err := os.Readlink(p)
			if err != nil {
				return err
			}
			text = "link to " + target
		}
		out[filepath.ToSlash(rel)] = text
		return nil
	}))
	return out
}

// done carries the change out without a fault, and returns what it leads to.
func done(t *testing.T) map[string]string {
	t.Helper()
	r, job, _ := everything(t)
	r.do(job)
	require.NoError(t, Finish(r.root))
	return r.picture()
}

// isOver expects the folder to be as before or after the change, and nothing left of it.
func (r *rig) isOver(where string, end *Ended, before, after map[string]string) {
	r.Helper()
	want := before
	if end.Outcome == Finished {
		want = after
		require.NoError(r, Finish(r.root), where)
	}
	require.Equal(r, want, r.picture(), where)
	require.True(r, end.Report.Empty(), "%s: %v", where, end.Report.Sentences(r.dir))
	left, err := Pending(r.root)
	require.NoError(r, err)
	require.False(r, left, where)
	require.NoDirExists(r, filepath.Join(r.dir, asideDir), where)
}

// TestAnyCallMayFailOnce: the change is as a whole or not at all, at once where it can be.
func TestAnyCallMayFailOnce(t *testing.T) {
	after := done(t)
	for n := 1; ; n++ {
		r, job, before := everything(t)
		f := &fault{from: n, to: n}
		disarm := f.arm()
		report, err := Do(t.Context(), job)
		disarm()
		if f.at == "" {
			require.NoError(t, err)
			require.Greater(t, n, 80, "calls")
			return
		}
		where := fmt.Sprintf("call %d, %s: %v", n, f.at, err)
		var unfinished *UnfinishedError
		switch {
		case errors.As(err, &unfinished):
			r.isOver(where, r.recoverKnown(), before, after)
		case err != nil:
			require.ErrorIs(t, err, syscall.EIO, where)
			require.Equal(t, before, r.picture(), where)
			left, err := Pending(r.root)
			require.NoError(t, err)
			require.False(t, left, where)
		default:
			require.True(t, report.Empty(), where)
			require.NoError(t, Finish(r.root))
			require.Equal(t, after, r.picture(), where)
		}
	}
}

// TestADiskMayGoAwayAtAnyCall: everything fails from then on, and once it is back the change is
// finished or taken back, even if it goes away in the middle of that as well.
func TestADiskMayGoAwayAtAnyCall(t *testing.T) {
	after := done(t)
	for n := 1; ; n++ {
		r, job, before := everything(t)
		f := &fault{from: n, to: forever}
		disarm := f.arm()
		_, err := Do(t.Context(), job)
		disarm()
		if f.at == "" {
			require.NoError(t, err)
			return
		}
		where := fmt.Sprintf("gone at call %d, %s", n, f.at)
		require.Error(t, err, where)
		again := 1 + n*7%40 // some other call each time
		f = &fault{from: again, to: forever}
		disarm = f.arm()
		end, err := Recover(t.Context(), r.known(job))
		disarm()
		if err == nil && f.at == "" {
			r.isOver(where, end, before, after)
			continue
		}
		where += fmt.Sprintf(", and again at call %d, %s", again, f.at)
		r.isOver(where, r.recoverKnown(job), before, after)
	}
}

// known is what the state knows of a change of this computer.
func (r *rig) known(jobs ...Job) Recovery {
	know := r.recovery()
	know.ID = "the change"
	for _, j := range jobs {
		know.Memo, know.Steps = j.Memo, j.Plan.Steps
	}
	return know
}

func (r *rig) recoverKnown(jobs ...Job) *Ended {
	r.Helper()
	end, err := Recover(r.Context(), r.known(jobs...))
	require.NoError(r, err)
	return end
}
