package apply

import (
	"encoding/json"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/digest"
	"morvant/internal/plan"
)

// cutOff begins a change and does the given stages of it, as a run that is killed then.
func (r *rig) cutOff(job Job, stages ...func(*change) error) *change {
	r.Helper()
	require.NoError(r, save(r.Context(), job))
	c := &change{ctx: r.Context(), root: r.root, journal: newJournal(job), store: r.store, now: time.Now, report: &Report{}}
	require.NoError(r, c.open())
	require.NoError(r, stage(r.Context(), job, c.report))
	require.NoError(r, c.journal.write(r.root))
	for _, do := range stages {
		require.NoError(r, do(c))
	}
	return c
}

func displaced(c *change) error {
	if err := c.displace(); err != nil {
		return err
	}
	return c.mark("displaced")
}

func placed(c *change) error {
	if err := c.folders(); err != nil {
		return err
	}
	return c.place()
}

func (r *rig) remove(p string) {
	r.Helper()
	require.NoError(r, os.RemoveAll(filepath.Join(r.dir, filepath.FromSlash(p))))
}

func TestNewContentThatIsLostTakesTheChangeBack(t *testing.T) {
	r := newRig(t)
	r.file("a", "one")
	r.file("b", "two")
	r.cutOff(r.job(map[string]string{"a": "ONE", "b": "TWO"}), displaced)
	r.remove(".morvant/change/new/1")
	end := r.recover()
	require.Equal(t, Back, end.Outcome)
	require.True(t, end.Report.Empty(), "%+v", end.Report)
	require.Equal(t, map[string]string{"a": "one", "b": "two"}, r.contents())
}

func TestWhatIsGoneFromOldComesBackFromTheStore(t *testing.T) {
	r := newRig(t)
	r.file("a", "one")
	r.file("b", "two")
	r.cutOff(r.job(map[string]string{"a": "ONE", "b": "TWO"}), displaced)
	r.remove(".morvant/change/new/1")
	r.remove(".morvant/change/old/0")
	end := r.recover()
	require.Equal(t, Back, end.Outcome)
	require.Equal(t, []string{"a"}, end.Report.Restored)
	require.Equal(t, map[string]string{"a": "one", "b": "two"}, r.contents())
}

func TestAnUnreadableStageIsNotTakenForAnAbsentOne(t *testing.T) {
	if os.Getuid() == 0 || runtime.GOOS == "windows" {
		t.Skip("the right to read cannot be taken away here")
	}
	r := newRig(t)
	r.file("a", "one")
	r.cutOff(r.job(map[string]string{"a": "ONE"}), displaced)
	change := filepath.Join(r.dir, ".morvant", "change")
	require.NoError(t, os.Chmod(change, 0))
	_, err := Recover(t.Context(), r.recovery())
	require.Error(t, err)
	require.NoError(t, os.Chmod(change, 0o755))
	require.Equal(t, Finished, r.recover().Outcome)
	require.Equal(t, map[string]string{"a": "ONE"}, r.contents())
}

func TestFilesWrittenInBetweenGoAsideAndTheChangeGoesOn(t *testing.T) {
	r := newRig(t)
	r.file("a", "one")
	r.file("b", "two")
	r.file("d/c", "three")
	r.cutOff(r.job(map[string]string{"a": "ONE", "b": "TWO", "d/c": "THREE"}), displaced)
	r.file("a", "the launcher's")
	r.file("d/c", "the launcher's as well")
	end := r.recover()
	require.Equal(t, Finished, end.Outcome)
	require.Equal(t, map[string]string{"a": "ONE", "b": "TWO", "d/c": "THREE"}, r.contents())
	const at = ".morvant/aside/2031-08-05-120000/"
	require.Equal(t, []AsideFile{{"a", at + "a"}, {"d/c", at + "d/c"}}, end.Report.Aside)
	b, err := os.ReadFile(filepath.Join(r.dir, filepath.FromSlash(at+"d/c")))
	require.NoError(t, err)
	require.Equal(t, "the launcher's as well", string(b))
}

func TestFilesWrittenInBetweenDoNotKeepAChangeFromBeingTakenBack(t *testing.T) {
	r := newRig(t)
	r.file("a", "one")
	r.file("d/c", "three")
	r.cutOff(r.job(map[string]string{"a": "ONE"}), displaced, placed)
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, ".morvant", "change", "back"), nil, 0o644))
	r.file("a", "played on")
	r.file("d", "a file in the place of the folder")
	end := r.recover()
	require.Equal(t, Back, end.Outcome)
	require.Equal(t, map[string]string{"a": "one", "d/c": "three"}, r.contents())
	require.Len(t, end.Report.Aside, 2)
}

func TestAFileInTheFoldersPlaceIsAWayOfNotBeingThere(t *testing.T) {
	r := newRig(t)
	r.file("d/e/f", "deep")
	r.cutOff(r.job(nil), displaced, placed)
	r.file("d", "a file now")
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, ".morvant", "change", "back"), nil, 0o644))
	require.Equal(t, Back, r.recover().Outcome)
	require.Equal(t, map[string]string{"d/e/f": "deep"}, r.contents())
}

func TestAnySignOfABegunChangeMeansRecovery(t *testing.T) {
	for _, lost := range [][]string{{"journal"}, {"journal.2"}, {"journal", "journal.2"}} {
		r := newRig(t)
		r.file("a", "the player's edit")
		job := r.job(map[string]string{"a": "ONE"})
		job.ID = "this one"
		r.cutOff(job, displaced)
		for _, name := range lost {
			r.remove(".morvant/change/" + name)
		}
		known := r.recovery()
		known.ID, known.Steps, known.Memo = job.ID, job.Plan.Steps, job.Memo
		end, err := Recover(t.Context(), known)
		require.NoError(t, err)
		require.Equal(t, Finished, end.Outcome, lost)
		require.JSONEq(t, string(job.Memo), string(end.Memo))
		require.Equal(t, map[string]string{"a": "ONE"}, r.contents())
	}
}

func TestWithoutAnyRecordTheDisplacedFilesGoAside(t *testing.T) {
	r := newRig(t)
	r.file("a", "the player's edit")
	r.cutOff(r.job(map[string]string{"a": "ONE"}), displaced)
	r.remove(".morvant/change/journal")
	r.file(".morvant/change/journal.2", "damaged")
	end := r.recover()
	require.Equal(t, Unknown, end.Outcome)
	require.Len(t, end.Report.Aside, 1)
	b, err := os.ReadFile(filepath.Join(r.dir, filepath.FromSlash(end.Report.Aside[0].At)))
	require.NoError(t, err)
	require.Equal(t, "the player's edit", string(b))
	require.Equal(t, Nothing, r.recover().Outcome)
}

func TestAChangeThatNobodyHereHasBegunIsPutAsideAndNotCarriedOut(t *testing.T) {
	r := newRig(t)
	r.file("a", "mine")
	job := r.job(map[string]string{"a": "evil"})
	job.ID = "of somebody else"
	r.cutOff(job)
	for _, id := range []string{"", "another"} {
		known := r.recovery()
		known.ID = id
		end, err := Recover(t.Context(), known)
		require.NoError(t, err)
		require.Equal(t, Foreign, end.Outcome)
		require.Equal(t, map[string]string{"a": "mine"}, r.contents())
		require.NoError(t, os.Rename(filepath.Join(r.dir, filepath.FromSlash(end.At)), filepath.Join(r.dir, ".morvant", "change")))
	}
	// One of an old version has no id; its caller decides.
	known := r.recovery()
	known.Ours = func([]plan.Step, json.RawMessage) bool { return false }
	end, err := Recover(t.Context(), known)
	require.NoError(t, err)
	require.Equal(t, Foreign, end.Outcome)
}

func TestWhatWasTrimmedMeanwhileIsStoredBeforeItIsDeleted(t *testing.T) {
	r := newRig(t)
	r.file("a", "the only copy")
	r.cutOff(r.job(map[string]string{"a": "ONE"}), displaced)
	other := newRig(t) // a store that has lost it
	known := r.recovery()
	known.Store = other.store
	end, err := Recover(t.Context(), known)
	require.NoError(t, err)
	require.Equal(t, Finished, end.Outcome)
	b, err := other.store.Bytes(t.Context(), digest.Of([]byte("the only copy")), 100)
	require.NoError(t, err)
	require.Equal(t, "the only copy", string(b))
}

func TestALateTimeIsNoReasonToRefuse(t *testing.T) {
	r := newRig(t)
	r.file("a", "same content")
	job := r.job(map[string]string{"a": "new"})
	// Some disks tell the time of a file late.
	require.NoError(t, os.Chtimes(filepath.Join(r.dir, "a"), time.Now(), time.Unix(1_900_000_000, 0)))
	r.do(job)
	require.NoError(t, Finish(r.root))
	require.Equal(t, map[string]string{"a": "new"}, r.contents())
}

func TestAChangeFolderOfSomebodyElseIsNotMixedWithOnesOwn(t *testing.T) {
	r := newRig(t)
	r.file("a", "one")
	r.file(".morvant/change/new/0", "of a stranger")
	r.file(".morvant/change/old/0", "of a stranger as well")
	r.do(r.job(map[string]string{"a": "ONE"}))
	require.NoError(t, Finish(r.root))
	require.Equal(t, map[string]string{"a": "ONE"}, r.contents())
	list, err := filepath.Glob(filepath.Join(r.dir, ".morvant", "aside", "foreign-*", "old", "0"))
	require.NoError(t, err)
	require.Len(t, list, 1, "it is kept, and not carried out")
}
