// Package apply carries out a plan in such a way that a crash at any point loses
// nothing and leaves the folder old or new, never a mix.
//
// A change lives in .morvant/change inside the folder:
//
//	new/N     content for step N, complete, checked and synced
//	old/N     what stood at the path of step N before
//	journal   the steps and the caller's memo; its presence starts the change
//	journal.2 the same again, should the first be damaged
//	displaced everything that has to leave its place is in old
//	done      the folder is as the steps want it
//	back      the change is being taken back
//	unplaced  nothing new stands in its place any more
//
// The order is: save what will be displaced to the store; fill new; write the
// journal; move the displaced to old; move new and moved content to its place;
// set times and modes. Each stage is on disk before the next begins, and each can
// be repeated, so Recover finishes a change from wherever it was cut off, or
// takes it back if it cannot be finished. The change ends when Finish renames the
// folder away; until then the caller can record the memo, as often as it takes.
package apply

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/process"
	"morvant/internal/progress"
	"morvant/internal/scan"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// Errors that callers test for.
var (
	ErrChanged = errors.New("it was changed by something else meanwhile")
)

const (
	changeDir = manifest.PrivateDir + "/change"
	newDir    = changeDir + "/new"
	oldDir    = changeDir + "/old"
	endedDir  = manifest.PrivateDir + "/ended" // a change that is over, being deleted

	// spare is kept free beside the bytes that a plan writes.
	spare = 1 << 20
	// perFile is what a file system may add to each file.
	perFile = 4096
)

// Job is one change of one folder.
type Job struct {
	Root  *os.Root
	Dir   string // where Root is, for messages and free space
	Plan  *plan.Plan
	Tree  *scan.Tree // what the plan was made from
	Store *store.Store
	Memo  json.RawMessage // handed back by Pending, for whoever ends the change
	Meter progress.Meter
	Now   func() time.Time
	// Elsewhere, if set, opens a file outside of the folder that most likely holds a
	// content, to share it; nil if there is none.
	Elsewhere func(digest.Digest) *os.File
	// Shared is how many of the bytes that the plan writes will take no space.
	Shared int64
}

// Do carries out the job up to the point where the folder is as planned. The
// caller then records what it has to and calls Finish. After an error the folder
// is as it was before.
func Do(ctx context.Context, job Job) error {
	if err := CheckSpace(job.Dir, job.Plan, job.Shared); err != nil {
		return err
	}
	if err := save(ctx, job); err != nil {
		return err
	}
	j := newJournal(job)
	c := &change{root: job.Root, journal: j}
	err := c.open()
	if err == nil {
		err = stage(ctx, job)
	}
	if err == nil {
		err = j.write(job.Root)
	}
	if err != nil {
		return errors.Join(err, c.remove())
	}
	// From here on the change is finished or taken back as a whole, whatever
	// the context says.
	if err := c.forward(); err != nil {
		if back := c.back(); back != nil {
			return fmt.Errorf("%w; taking it back failed as well and is tried again by the next command: %v", err, back)
		}
		return err
	}
	return nil
}

// CheckSpace returns a volume.SpaceError if the disk that holds dir has no room for what
// the plan writes. shared is how many of these bytes will take no space.
func CheckSpace(dir string, p *plan.Plan, shared int64) error {
	t := p.Totals()
	if t.Write == 0 {
		return nil
	}
	return volume.CheckFree(dir, t.Write-shared+perFile*int64(len(p.Steps))+spare)
}

// save puts everything that will leave its place into the store.
func save(ctx context.Context, job Job) error {
	unsaved := make(map[string]digest.Digest)
	for i := range job.Plan.Steps {
		s := &job.Plan.Steps[i]
		if !s.Displaces() || s.Before.Kind != plan.File {
			continue
		}
		ok, err := job.Store.Has(ctx, s.Before.Digest)
		if err != nil {
			return err
		}
		if !ok {
			unsaved[s.Path] = s.Before.Digest
		}
	}
	if len(unsaved) == 0 {
		return nil
	}
	// A copy of the tree: reading must not change what the plan was made from.
	tree := &scan.Tree{Entries: append([]scan.Entry(nil), job.Tree.Entries...)}
	session := job.Store.Begin()
	err := tree.Read(ctx, job.Root, scan.Request{
		Sink:  session.Put,
		Skip:  func(e *scan.Entry) bool { _, needed := unsaved[e.Path]; return !needed },
		Task:  "Saving what will be replaced",
		Meter: job.Meter,
		Now:   job.Now,
	})
	if err = errors.Join(err, session.Close()); err != nil {
		return err
	}
	for p, d := range unsaved {
		if e := tree.Entry(p); e == nil || e.Digest != d {
			return fmt.Errorf("%s: %w; nothing was changed", p, ErrChanged)
		}
	}
	return nil
}

// change is a change under way.
type change struct {
	root    *os.Root
	journal *journal
}

func (c *change) open() error {
	for _, dir := range []string{manifest.PrivateDir, changeDir, newDir, oldDir} {
		if err := c.root.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}

// remove ends the change: at one instant it is there whole, at the next it is over.
func (c *change) remove() error {
	if err := c.root.RemoveAll(endedDir); err != nil {
		return err
	}
	if err := c.root.Rename(changeDir, endedDir); err != nil {
		return ignoreMissing(err)
	}
	if err := syncDir(c.root, manifest.PrivateDir); err != nil {
		return err
	}
	return c.root.RemoveAll(endedDir)
}

func (c *change) marked(name string) bool {
	_, err := c.root.Lstat(path.Join(changeDir, name))
	return err == nil
}

// mark brings all names changed so far to disk and only then sets a mark.
func (c *change) mark(name string) error {
	if err := c.sync(); err != nil {
		return err
	}
	f, err := c.root.Create(path.Join(changeDir, name))
	if err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	return syncDir(c.root, changeDir)
}

// sync brings every folder that the steps touch to disk.
func (c *change) sync() error {
	f, err := c.root.Open(".")
	if err != nil {
		return err
	}
	defer f.Close()
	if done, err := volume.Sync(f); done || err != nil {
		return err
	}
	dirs := map[string]bool{newDir: true, oldDir: true}
	for i := range c.journal.Steps {
		dirs[path.Dir(c.journal.Steps[i].Path)] = true
	}
	for dir := range dirs {
		if err := syncDir(c.root, dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func syncDir(root *os.Root, dir string) error {
	f, err := root.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return volume.SyncDir(f)
}

// forward does what is left of the change, up to the mark done.
func (c *change) forward() error {
	if c.marked("done") {
		return nil
	}
	if !c.marked("displaced") {
		if err := c.displace(); err != nil {
			return err
		}
		if err := c.mark("displaced"); err != nil {
			return err
		}
	}
	if err := c.folders(); err != nil {
		return err
	}
	if err := c.place(); err != nil {
		return err
	}
	if err := c.attributes(func(s *plan.Step) (*plan.Node, *plan.Node) { return s.Before, s.After }); err != nil {
		return err
	}
	return c.mark("done")
}

// displace moves what has to leave its place into old.
func (c *change) displace() error {
	for i := range c.journal.Steps {
		s := &c.journal.Steps[i]
		if !s.Displaces() || c.exists(old(i)) {
			continue
		}
		mode, stamp, err := scan.Look(c.root, s.Path)
		if err != nil {
			return fmt.Errorf("%s: %w", s.Path, errors.Join(ErrChanged, err))
		}
		if s.Before.Kind == plan.File && !mode.IsRegular() || s.Stamp != nil && !sameFile(*s.Stamp, stamp) {
			return fmt.Errorf("%s: %w; nothing was changed", s.Path, ErrChanged)
		}
		if err := c.rename(s.Path, old(i)); err != nil {
			return err
		}
	}
	return nil
}

// rename renames within the folder; a file that a program holds open for a moment is
// waited for.
func (c *change) rename(from, to string) error {
	return process.Patiently(filepath.Join(c.root.Name(), filepath.FromSlash(from)), func() error { return c.root.Rename(from, to) })
}

// sameFile compares all of a stamp but the time of the last change of any kind,
// which a rename sets.
func sameFile(want, got scan.Stamp) bool {
	got.CTime = want.CTime
	return got == want
}

// folders removes the folders that go, the deepest first, and makes those that come.
func (c *change) folders() error {
	steps := c.journal.Steps
	for i := len(steps) - 1; i >= 0; i-- {
		s := &steps[i]
		if !goes(s) {
			continue
		}
		removed, err := c.removeDir(s.Path)
		if err != nil {
			return err
		}
		// Scratch files keep a folder alive; it may stay unless its place is needed.
		if !removed && s.After != nil {
			return fmt.Errorf("the folder %s: %w: it holds files that the plan does not know", s.Path, ErrChanged)
		}
	}
	for i := range steps {
		if s := &steps[i]; comes(s) {
			if err := c.makeDir(s.Path); err != nil {
				return err
			}
		}
	}
	return nil
}

// placed reports whether the content of step i, which places something, stands
// at its place already. It can tell only once everything is displaced.
func (c *change) placed(i int) bool {
	s := &c.journal.Steps[i]
	if s.After.Kind == plan.Link {
		target, err := c.root.Readlink(s.Path)
		return err == nil && target == s.After.Target
	}
	return !c.exists(c.journal.source(i))
}

// goes reports whether the step removes a folder.
func goes(s *step) bool {
	return s.Before != nil && s.Before.Kind == plan.Dir && (s.After == nil || s.After.Kind != plan.Dir)
}

// comes reports whether the step makes a folder.
func comes(s *step) bool {
	return s.After != nil && s.After.Kind == plan.Dir && (s.Before == nil || s.Before.Kind != plan.Dir)
}

// removeDir removes an empty folder. One that holds something stays, which it
// reports; anything else at p is left alone.
func (c *change) removeDir(p string) (removed bool, err error) {
	info, err := c.root.Lstat(p)
	if err != nil || !info.IsDir() {
		return true, ignoreMissing(err)
	}
	if err = c.root.Remove(p); err == nil {
		return true, nil
	}
	f, openErr := c.root.Open(p)
	if openErr != nil {
		return false, err
	}
	defer f.Close()
	if names, _ := f.Readdirnames(1); len(names) > 0 {
		return false, nil
	}
	return false, err
}

func (c *change) makeDir(p string) error {
	err := c.root.Mkdir(p, 0o755)
	if errors.Is(err, fs.ErrExist) {
		if info, err := c.root.Lstat(p); err != nil || !info.IsDir() {
			return fmt.Errorf("the folder %s: %w: something else has taken its place", p, ErrChanged)
		}
		return nil
	}
	return err
}

// place puts new and moved content where it belongs.
func (c *change) place() error {
	for i := range c.journal.Steps {
		s := &c.journal.Steps[i]
		if !s.Places() || c.placed(i) {
			continue
		}
		if c.exists(s.Path) {
			return fmt.Errorf("%s: %w", s.Path, ErrChanged)
		}
		var err error
		if s.After.Kind == plan.Link {
			err = c.root.Symlink(s.After.Target, s.Path)
		} else {
			err = c.rename(c.journal.source(i), s.Path)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// attributes sets times and modes: of files first, then of folders, whose times
// change with every name in them. ends says from which node a step leads to which.
func (c *change) attributes(ends func(*plan.Step) (from, to *plan.Node)) error {
	for _, kind := range []plan.Kind{plan.File, plan.Dir} {
		for i := range c.journal.Steps {
			s := &c.journal.Steps[i]
			if _, to := ends(&s.Step); to != nil && to.Kind == kind {
				if err := setAttributes(c.root, s.Path, *to); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func setAttributes(root *os.Root, p string, n plan.Node) error {
	if n.Mode != 0 {
		if err := volume.Chmod(root, p, n.Mode.Perm()); err != nil {
			return err
		}
	}
	if n.MTime == 0 {
		return nil
	}
	return volume.Chtimes(root, p, n.Time())
}

// back takes the change back, from wherever it is, and removes its folder.
func (c *change) back() error {
	if err := c.mark("back"); err != nil {
		return err
	}
	steps := c.journal.Steps
	if c.marked("displaced") && !c.marked("unplaced") {
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
			// One that holds something by now stays.
			if _, err := c.removeDir(steps[i].Path); err != nil {
				return err
			}
		}
	}
	for i := range steps {
		if goes(&steps[i]) {
			if err := c.makeDir(steps[i].Path); err != nil {
				return err
			}
		}
	}
	for i := range steps {
		if !c.exists(old(i)) {
			continue
		}
		if c.exists(steps[i].Path) {
			return fmt.Errorf("%s: %w; what stood there is in %s", steps[i].Path, ErrChanged, old(i))
		}
		if err := c.rename(old(i), steps[i].Path); err != nil {
			return err
		}
	}
	if err := c.attributes(func(s *plan.Step) (*plan.Node, *plan.Node) { return s.After, s.Before }); err != nil {
		return err
	}
	if err := c.sync(); err != nil {
		return err
	}
	return c.remove()
}

// unplace takes the content of step i back to where place took it from.
func (c *change) unplace(i int) error {
	s := &c.journal.Steps[i]
	switch {
	case !s.Places() || !c.placed(i):
		return nil
	case s.After.Kind == plan.Link:
		return c.root.Remove(s.Path)
	case !c.exists(s.Path):
		return fmt.Errorf("%s: %w", s.Path, ErrChanged)
	}
	return c.rename(s.Path, c.journal.source(i))
}

func (c *change) exists(p string) bool {
	_, err := c.root.Lstat(p)
	return err == nil
}

// Finish ends a change whose memo has been recorded.
func Finish(root *os.Root) error {
	return (&change{root: root}).remove()
}

// Pending returns the memo of a change that was begun in the folder and not
// finished. started is false if it was cut off before anything moved.
func Pending(root *os.Root) (memo json.RawMessage, started, found bool, err error) {
	if _, err := root.Lstat(changeDir); err != nil {
		return nil, false, false, ignoreMissing(err)
	}
	j, err := readJournal(root)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, true, nil
	}
	if err != nil {
		return nil, true, true, err
	}
	return j.Memo, true, true, nil
}

// Outcome says how Recover ended an unfinished change.
type Outcome int

// The outcomes.
const (
	Nothing  Outcome = iota // there was no unfinished change
	Finished                // the folder is as planned; record the memo, then call Finish
	Back                    // the folder is as before; nothing is left to do
)

// Recover finishes an unfinished change, or takes it back.
func Recover(root *os.Root) (Outcome, json.RawMessage, error) {
	if err := root.RemoveAll(endedDir); err != nil {
		return Nothing, nil, err
	}
	memo, started, found, err := Pending(root)
	if err != nil || !found {
		return Nothing, nil, err
	}
	c := &change{root: root}
	if !started {
		return Back, nil, c.remove()
	}
	if c.journal, err = readJournal(root); err != nil {
		return Nothing, nil, err
	}
	if c.marked("back") {
		return Back, memo, c.back()
	}
	if err := c.forward(); err != nil {
		if back := c.back(); back != nil {
			return Nothing, nil, fmt.Errorf("%v; taking it back: %w", err, back)
		}
		return Back, memo, nil
	}
	return Finished, memo, nil
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
