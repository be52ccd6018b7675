package apply

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strconv"
	"time"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/problem"
	"morvant/internal/scan"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// Outcome says how Recover ended an unfinished change.
type Outcome int

// The outcomes.
const (
	Nothing  Outcome = iota // there was no unfinished change
	Finished                // the folder is as planned; record the memo, then call Finish
	Back                    // the folder is as before; nothing is left to do
	Unknown                 // no record of the change is left; what it had moved is aside
	Foreign                 // the change was not begun by this Morvant; it is aside, and nothing of it was done
)

// Recovery says what to recover, and from what.
type Recovery struct {
	Root  *os.Root
	Store *store.Store // what the change displaced; nil: nothing can be restored from it
	Now   func() time.Time
	// ID is the change that the caller has noted as begun in this folder; empty: none.
	// A change of another ID is foreign.
	ID string
	// Steps and Memo are those of that change, for a journal that is lost.
	Steps []plan.Step
	Memo  json.RawMessage
	// Lost, if set, reports whether the caller was put back to before it began a change, so that it knows nothing of that: it is
	// taken back.
	Lost func(Origin) (bool, error)
	// Ours, if set, decides about a journal of an old version, which has no ID.
	Ours func(steps []plan.Step, memo json.RawMessage) bool
}

// Ended is what Recover came to.
type Ended struct {
	Outcome
	Memo   json.RawMessage
	Report *Report
	At     string // of a foreign change: where it is now
}

// Pending reports whether a change was begun in the folder and not finished.
func Pending(root *os.Root) (bool, error) {
	_, err := volume.LstatIn(root, changeDir)
	if volume.Absent(err) {
		return false, nil
	}
	return err == nil, err
}

// Recover finishes an unfinished change, or takes it back. An error says that neither
// was possible, and that nothing was lost; Recover can be tried again.
func Recover(ctx context.Context, r Recovery) (*Ended, error) {
	Sweep(r.Root)
	end := &Ended{Report: &Report{}}
	if found, err := Pending(r.Root); err != nil || !found {
		return end, err
	}
	c := &change{ctx: context.WithoutCancel(ctx), root: r.Root, store: r.Store, now: r.Now, report: end.Report, recovering: true}
	begun, err := c.begun()
	if err != nil {
		return nil, err
	}
	j, err := readJournal(r.Root)
	switch {
	case errors.Is(err, problem.ErrNewer):
		return nil, err
	case err == nil && !r.ours(j):
		if lost, err := r.lost(j); err != nil {
			return nil, err
		} else if lost {
			c.journal, end.Memo, end.Outcome = j, j.Memo, Back
			return end, c.back()
		}
		end.Outcome = Foreign
		end.At, err = c.setAside()
		return end, err
	case err != nil && !begun:
		// Cut off before anything moved.
		end.Outcome = Back
		return end, c.remove()
	case err != nil && r.ID == "":
		end.Outcome = Unknown
		if err := c.scatter(); err != nil {
			return nil, err
		}
		return end, c.remove()
	case err != nil:
		j = &journal{ID: r.ID, Memo: r.Memo, Steps: make([]step, len(r.Steps))}
		for i, s := range r.Steps {
			j.Steps[i] = step{Step: s}
		}
		j.index()
	}
	c.journal, end.Memo = j, j.Memo
	backwards, err := c.marked("back")
	if err != nil {
		return nil, err
	}
	if !backwards {
		forward := c.forward()
		if forward == nil {
			end.Outcome = Finished
			return end, c.secure()
		}
		if err := c.back(); err != nil {
			return nil, &UnfinishedError{forward, err}
		}
		end.Outcome = Back
		return end, nil
	}
	end.Outcome = Back
	return end, c.back()
}

// ours reports whether this Morvant has begun the change.
func (r *Recovery) ours(j *journal) bool {
	if j.ID != "" || r.Ours == nil {
		return j.ID == r.ID
	}
	steps := make([]plan.Step, len(j.Steps))
	for i := range j.Steps {
		steps[i] = j.Steps[i].Step
	}
	return r.Ours(steps, j.Memo)
}

func (r *Recovery) lost(j *journal) (bool, error) {
	if r.Lost == nil {
		return false, nil
	}
	return r.Lost(j.Origin)
}

// begun reports whether anything may have been moved: any sign of it counts.
func (c *change) begun() (bool, error) {
	for _, name := range append([]string{"displaced", "done", "back", "unplaced"}, journals...) {
		if there, err := c.marked(name); there || err != nil {
			return there, err
		}
	}
	list, err := c.list(oldDir)
	return len(list) > 0, err
}

func (c *change) list(dir string) ([]string, error) {
	f, err := c.root.Open(dir)
	if err != nil {
		return nil, ignoreMissing(err)
	}
	defer f.Close()
	return f.Readdirnames(-1)
}

// setAside puts a whole change aside that nobody here has begun.
func (c *change) setAside() (string, error) {
	if err := c.root.MkdirAll(asideDir, 0o755); err != nil {
		return "", err
	}
	at := path.Join(asideDir, "foreign-"+c.now().Format("2006-01-02-150405"))
	for n := 2; ; n++ {
		if there, err := c.exists(at); err != nil {
			return "", err
		} else if !there {
			break
		}
		at = path.Join(asideDir, fmt.Sprintf("foreign-%s-%d", c.now().Format("2006-01-02-150405"), n))
	}
	if err := volume.RenameIn(c.root, changeDir, at); err != nil {
		return "", err
	}
	return at, volume.SyncIn(c.root, manifest.PrivateDir)
}

// scatter puts aside what a change without any record had displaced.
func (c *change) scatter() error {
	names, err := c.list(oldDir)
	if err != nil {
		return err
	}
	for _, name := range names {
		if err := c.clear(path.Join(oldDir, name)); err != nil {
			return err
		}
	}
	return nil
}

// secure sees to it that everything in old is in the store before it is deleted, and
// puts aside what no step has put there.
func (c *change) secure() error {
	names, err := c.list(oldDir)
	if err != nil {
		return err
	}
	for _, name := range names {
		i, err := strconv.Atoi(name)
		if err != nil || i < 0 || i >= len(c.journal.Steps) || c.journal.Steps[i].Before == nil {
			if err := c.clear(path.Join(oldDir, name)); err != nil {
				return err
			}
			continue
		}
		if n := c.journal.Steps[i].Before; n.Kind == plan.File && c.store != nil {
			if err := c.keep(old(i), n.Digest); err != nil {
				return fmt.Errorf("%s: %w", c.journal.Steps[i].Path, err)
			}
		}
	}
	return nil
}

// keep puts a file into the store unless its content is there.
func (c *change) keep(p string, d digest.Digest) error {
	if ok, err := c.store.Complete(c.ctx, d); ok || err != nil {
		return err
	}
	f, err := scan.OpenFile(c.root, p)
	if err != nil {
		return err
	}
	defer f.Close()
	session := c.store.Begin()
	_, _, err = session.Put(c.ctx, f, nil)
	return errors.Join(err, session.Close())
}

// back takes the change back, from wherever it is, and removes its folder.
func (c *change) back() error {
	c.recovering = true // nothing may stand in the way of going back
	if err := c.mark("back"); err != nil {
		return err
	}
	if err := c.unlock(); err != nil {
		return err
	}
	steps := c.journal.Steps
	displaced, err := c.marked("displaced")
	if err != nil {
		return err
	}
	unplaced, err := c.marked("unplaced")
	if err != nil {
		return err
	}
	if displaced && !unplaced {
		for i := range steps {
			if err := c.unplace(i); err != nil {
				return err
			}
		}
		if err := c.mark("unplaced"); err != nil {
			return err
		}
	}
	for i := len(steps) - 1; i >= 0; i-- {
		if comes(&steps[i]) {
			// One that holds something by now stays, if its place is not needed.
			if _, err := c.removeDir(steps[i].Path); err != nil {
				return err
			}
		}
	}
	for i := range steps {
		if goes(&steps[i]) {
			if err := c.makeParents(steps[i].Path); err != nil {
				return err
			}
			if err := c.makeDir(steps[i].Path); err != nil {
				return err
			}
		}
	}
	for i := range steps {
		if err := c.replace(i); err != nil {
			return err
		}
	}
	c.oldAttributes()
	if err := c.lock(); err != nil {
		return err
	}
	if err := c.scatter(); err != nil {
		return err
	}
	if err := c.sync(); err != nil {
		return err
	}
	return c.remove()
}

// unplace takes the content of step i back to where place took it from. What something
// else has put there since goes aside.
func (c *change) unplace(i int) error {
	s := &c.journal.Steps[i]
	if !s.Places() {
		return nil
	}
	if s.After.Kind == plan.Link {
		if target, err := c.root.Readlink(s.Path); err != nil || target != s.After.Target {
			return nil
		}
		return volume.RemoveIn(c.root, s.Path)
	}
	waits, err := c.exists(c.journal.source(i))
	if err != nil || waits {
		return err // it was never placed
	}
	info, err := volume.LstatIn(c.root, s.Path)
	switch {
	case volume.Absent(err):
		return nil
	case err != nil:
		return err
	case !info.Mode().IsRegular() || info.Size() != s.After.Size || s.After.MTime != 0 && s.From == "" && !info.ModTime().Equal(s.After.Time()):
		if same, err := c.holds(s.Path, s.After); err != nil || !same {
			return c.clear(s.Path)
		}
	}
	return volume.RenameIn(c.root, s.Path, c.journal.source(i))
}

// replace puts what step i displaced back to its place: from old, or if it is gone from
// there, from the store.
func (c *change) replace(i int) error {
	s := &c.journal.Steps[i]
	if !s.Displaces() {
		return nil
	}
	waits, err := c.exists(old(i))
	if err != nil {
		return err
	}
	there, err := c.exists(s.Path)
	switch {
	case err != nil:
		return err
	case there && !waits:
		return nil // it was never displaced
	case there:
		if err := c.clear(s.Path); err != nil {
			return err
		}
	}
	if err := c.makeParents(s.Path); err != nil {
		return err
	}
	if waits {
		return volume.RenameIn(c.root, old(i), s.Path)
	}
	return c.restore(s)
}

// restore writes again what stood at a path before and is gone.
func (c *change) restore(s *step) error {
	if s.Before.Kind == plan.Link {
		return volume.SymlinkIn(c.root, s.Before.Target, s.Path)
	}
	if c.store == nil {
		c.report.Lost = append(c.report.Lost, s.Path)
		return nil
	}
	part := path.Join(changeDir, "restored")
	f, err := volume.CreateIn(c.root, part)
	if err != nil {
		return err
	}
	err = c.store.WriteTo(c.ctx, f, s.Before.Digest)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); errors.Is(err, store.ErrMissing) {
		c.report.Lost = append(c.report.Lost, s.Path)
		return c.root.Remove(part)
	}
	if err == nil {
		err = volume.OwnIn(c.root, part, path.Dir(s.Path))
	}
	if err == nil {
		err = c.set(part, *s.Before)
	}
	if err == nil {
		err = volume.RenameIn(c.root, part, s.Path)
	}
	if err == nil {
		c.report.Restored = append(c.report.Restored, s.Path)
	}
	return err
}

// oldAttributes sets times and modes as they were, where the change may have touched
// them. What cannot be set, tried twice, does not keep the change from being over.
func (c *change) oldAttributes() {
	moved := make(map[string]bool)
	for i := range c.journal.Steps {
		moved[c.journal.Steps[i].From] = true
	}
	for _, kind := range []plan.Kind{plan.File, plan.Dir} {
		var failed []*step
		for i := range c.journal.Steps {
			s := &c.journal.Steps[i]
			if s.Before == nil || s.Before.Kind != kind || kind == plan.File && !s.KeepsContent() && !moved[s.Path] {
				continue
			}
			if setAttributes(c.root, s.Path, *s.Before) != nil {
				failed = append(failed, s)
			}
		}
		for _, s := range failed {
			if err := setAttributes(c.root, s.Path, *s.Before); err != nil && !errors.Is(err, fs.ErrNotExist) {
				c.report.unset(s.Path, err)
			}
		}
	}
}
