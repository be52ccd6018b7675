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
// be repeated, so Recover (recover.go) finishes a change from wherever it was cut off,
// or takes it back if it cannot be finished. The change ends when Finish renames the
// folder away; until then the caller can record the memo, as often as it takes.
//
// A file that is neither what stood at a path before nor what the change puts there is
// somebody else's. It is never overwritten or deleted: what is in the way goes to
// .morvant/aside and is named in the Report.
package apply

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/plan"
	"morvant/internal/problem"
	"morvant/internal/progress"
	"morvant/internal/scan"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// Errors that callers test for.
var (
	ErrChanged = problem.New("something else changed it meanwhile", "Close whatever is writing there and run the command again")
)

const (
	changeDir = manifest.PrivateDir + "/change"
	newDir    = changeDir + "/new"
	oldDir    = changeDir + "/old"
	asideDir  = manifest.PrivateDir + "/aside" // what was in the way of a change
	ended     = "ended"                        // begins the names of changes that are over, being deleted

	// spare is kept free beside the bytes that a plan writes.
	spare = 1 << 20
	// perFile is what a file system may add to each file.
	perFile = 4096
)

// Origin is the home that carries a change out, and its age then.
type Origin struct {
	Home       string `json:"home,omitempty"`
	Generation int64  `json:"generation,omitempty"`
	Run        string `json:"run,omitempty"`
}

// Job is one change of one folder.
type Job struct {
	ID    string // of the change; only one that the caller has noted under it is recovered
	Root  *os.Root
	Dir   string // where Root is, for messages and free space
	Plan  *plan.Plan
	Tree  *scan.Tree // what the plan was made from
	Store *store.Store
	Memo  json.RawMessage // handed back by Pending, for whoever ends the change
	By    Origin          // who carries it out
	Meter progress.Meter
	Now   func() time.Time
	// Elsewhere, if set, opens a file outside of the folder that most likely holds a
	// content, to share it; nil if there is none.
	Elsewhere func(digest.Digest) *os.File
	// Names finds the files elsewhere that files are to be one with; nil: they become copies.
	Names *scan.Names
	// Shared is how many of the bytes that the plan writes will take no space.
	Shared int64
}

// UnfinishedError is returned for a change that could be neither finished nor taken
// back; Recover tries again.
type UnfinishedError struct{ Err, Back error }

func (e *UnfinishedError) Error() string {
	return fmt.Sprintf("%v; undoing that failed as well, and the next command tries it again: %v", e.Err, e.Back)
}

func (e *UnfinishedError) Unwrap() error { return e.Err }

// Do carries out the job up to the point where the folder is as planned. The
// caller then records what it has to and calls Finish. After an error the folder
// is as it was before, unless the error is an UnfinishedError.
func Do(ctx context.Context, job Job) (*Report, error) {
	if err := CheckSpace(job.Dir, job.Plan, job.Shared); err != nil {
		return nil, err
	}
	if err := save(ctx, job); err != nil {
		return nil, err
	}
	j := newJournal(job)
	c := &change{ctx: context.WithoutCancel(ctx), root: job.Root, journal: j, store: job.Store, now: job.Now, report: &Report{}}
	// A change folder that is there already is somebody else's: those of Morvant have
	// been recovered by now.
	found, err := Pending(job.Root)
	if err == nil && found {
		_, err = c.setAside()
	}
	if err == nil {
		err = c.open()
	}
	if err == nil {
		err = stage(ctx, job, c.report)
	}
	if err == nil {
		err = j.write(job.Root)
	}
	if err != nil {
		return nil, errors.Join(err, c.remove())
	}
	// From here on the change is finished or taken back as a whole, whatever
	// the context says.
	if err := c.forward(); err != nil {
		if back := c.back(); back != nil {
			return c.report, &UnfinishedError{err, back}
		}
		return c.report, err
	}
	return c.report, nil
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
	ctx     context.Context // of reading from the store; it is not cancelled
	root    *os.Root
	journal *journal
	store   *store.Store // nil: nothing can be restored from it
	now     func() time.Time
	report  *Report
	// recovering says that time has passed since the change began: what stands in the
	// way is not being written just now, and goes aside.
	recovering bool
}

// MakeRoom sees to it that what stands at the name of Morvant's own folder is a folder. A
// link there would lead what is written into it to another place; like anything else it is
// given another name, which is returned.
func MakeRoom(root *os.Root) (moved string, err error) {
	info, err := volume.LstatIn(root, manifest.PrivateDir)
	if volume.Absent(err) || err == nil && info.IsDir() {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	moved = "set-aside-" + strings.TrimPrefix(manifest.PrivateDir, ".") + "-" + rand.Text()[:6]
	return moved, volume.RenameIn(root, manifest.PrivateDir, moved)
}

// Enter makes room in a folder that has been opened, and says so. After an error the folder is
// closed.
func Enter(root *os.Root, say func(string)) (*os.Root, error) {
	moved, err := MakeRoom(root)
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	if moved != "" {
		say(fmt.Sprintf("%s in %s was not a folder, and Morvant needs its own folder there; it is called %s now", manifest.PrivateDir, root.Name(), moved))
	}
	return root, nil
}

func (c *change) open() error {
	for _, dir := range []string{manifest.PrivateDir, changeDir, newDir, oldDir} {
		err := volume.MkdirIn(c.root, dir, 0o755)
		if err == nil {
			err = volume.OwnIn(c.root, dir, path.Dir(dir))
		}
		if err != nil && !(errors.Is(err, fs.ErrExist) && dir == manifest.PrivateDir) {
			return err
		}
	}
	return nil
}

// remove ends the change: at one instant it is there whole, at the next it is over.
// What cannot be deleted of it then is deleted by the next command.
func (c *change) remove() error {
	if err := volume.RenameIn(c.root, changeDir, path.Join(manifest.PrivateDir, ended+"-"+rand.Text()[:8])); err != nil {
		return ignoreMissing(err)
	}
	err := volume.SyncIn(c.root, manifest.PrivateDir)
	Sweep(c.root)
	return err
}

// Sweep deletes what is left of changes that are over, as far as it can.
func Sweep(root *os.Root) {
	dir, err := root.Open(manifest.PrivateDir)
	if err != nil {
		return
	}
	defer dir.Close()
	names, _ := dir.Readdirnames(-1)
	for _, name := range names {
		if name == ended || strings.HasPrefix(name, ended+"-") || strings.HasPrefix(name, volume.PartPrefix) {
			_ = root.RemoveAll(path.Join(manifest.PrivateDir, name)) // the next command tries again
		}
	}
}

// marked reports whether a stage has been reached. Only what is surely not there counts
// as absent.
func (c *change) marked(name string) (bool, error) { return c.exists(path.Join(changeDir, name)) }

func (c *change) exists(p string) (bool, error) {
	_, err := volume.LstatIn(c.root, p)
	if volume.Absent(err) {
		return false, nil
	}
	return err == nil, err
}

// mark brings all names changed so far to disk and only then sets a mark.
func (c *change) mark(name string) error {
	if err := c.sync(); err != nil {
		return err
	}
	f, err := volume.CreateIn(c.root, path.Join(changeDir, name))
	if err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	return volume.SyncIn(c.root, changeDir)
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
		if err := volume.SyncIn(c.root, dir); err != nil && !volume.Absent(err) {
			return err
		}
	}
	return nil
}

// forward does what is left of the change, up to the mark done.
func (c *change) forward() error {
	if done, err := c.marked("done"); done || err != nil {
		return err
	}
	if err := c.unlock(); err != nil {
		return err
	}
	displaced, err := c.marked("displaced")
	if err != nil {
		return err
	}
	if !displaced {
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
	if err := c.attributes(); err != nil {
		return err
	}
	return c.mark("done")
}

// displace moves what has to leave its place into old.
func (c *change) displace() error {
	for i := range c.journal.Steps {
		s := &c.journal.Steps[i]
		if !s.Displaces() {
			continue
		}
		if done, err := c.exists(old(i)); done || err != nil {
			if err != nil {
				return err
			}
			continue
		}
		mode, stamp, err := scan.Look(c.root, s.Path)
		if err != nil {
			return fmt.Errorf("%s: %w", s.Path, errors.Join(ErrChanged, err))
		}
		if s.Before.Kind == plan.File && !mode.IsRegular() {
			return fmt.Errorf("%s: %w", s.Path, ErrChanged)
		}
		if s.Stamp != nil && !sameFile(*s.Stamp, stamp) {
			// Some disks tell a file's time late, or only to the second: what counts is
			// the content.
			if same, err := c.holds(s.Path, s.Before); err != nil {
				return err
			} else if !same {
				return fmt.Errorf("%s: %w", s.Path, ErrChanged)
			}
		}
		if err := volume.RenameIn(c.root, s.Path, old(i)); err != nil {
			return err
		}
	}
	return nil
}

// holds reads a file and reports whether it is what the node says.
func (c *change) holds(p string, n *plan.Node) (bool, error) {
	f, err := scan.OpenFile(c.root, p)
	if err != nil {
		return false, err
	}
	defer f.Close()
	d, size, err := scan.Hash()(c.ctx, f, func(int) {})
	return size == n.Size && d == n.Digest, err
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
	info, err := volume.LstatIn(c.root, p)
	if err != nil || !info.IsDir() {
		return true, ignoreMissing(err)
	}
	if err = volume.RemoveIn(c.root, p); err == nil {
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
	info, err := volume.LstatIn(c.root, p)
	switch {
	case err == nil && info.IsDir():
		return nil
	case err == nil:
		if err := c.clear(p); err != nil {
			return err
		}
	case !volume.Absent(err):
		return err
	}
	if err := volume.MkdirIn(c.root, p, 0o755); err != nil {
		return err
	}
	return volume.OwnIn(c.root, p, path.Dir(p))
}

// makeParents makes the folders above a path that something else has taken away.
func (c *change) makeParents(p string) error {
	dir := path.Dir(p)
	if dir == "." {
		return nil
	}
	if info, err := volume.LstatIn(c.root, dir); err == nil && info.IsDir() {
		return nil
	}
	if err := c.makeParents(dir); err != nil {
		return err
	}
	return c.makeDir(dir)
}

// clear takes away what something else has put at a path: aside if the change has been
// cut off before; else something is writing there just now, which is ErrChanged.
func (c *change) clear(p string) error {
	if !c.recovering {
		return fmt.Errorf("%s: %w", p, ErrChanged)
	}
	if c.report.AsideDir == "" {
		dir := path.Join(asideDir, c.now().Format("2006-01-02-150405"))
		for n := 2; ; n++ {
			there, err := c.exists(dir)
			if err != nil {
				return err
			}
			if !there {
				break
			}
			dir = path.Join(asideDir, fmt.Sprintf("%s-%d", c.now().Format("2006-01-02-150405"), n))
		}
		c.report.AsideDir = dir
	}
	to := path.Join(c.report.AsideDir, strings.TrimPrefix(p, changeDir+"/"))
	if err := c.root.MkdirAll(path.Dir(to), 0o755); err != nil {
		return err
	}
	if err := volume.RenameIn(c.root, p, to); err != nil {
		return err
	}
	c.report.Aside = append(c.report.Aside, AsideFile{p, to})
	return nil
}

// place puts new and moved content where it belongs.
func (c *change) place() error {
	for i := range c.journal.Steps {
		s := &c.journal.Steps[i]
		if !s.Places() {
			continue
		}
		if s.After.Kind == plan.Link {
			if err := c.placeLink(s); err != nil {
				return err
			}
			continue
		}
		waits, err := c.exists(c.journal.source(i))
		if err != nil {
			return err
		}
		info, err := volume.LstatIn(c.root, s.Path)
		switch {
		case err != nil && !volume.Absent(err):
			return err
		case !waits && (err != nil || !info.Mode().IsRegular()):
			// Nothing is deleted before it is in its place; so this one was lost.
			return fmt.Errorf("%s: its new content is gone from %s", s.Path, c.journal.source(i))
		case !waits:
			continue // it is at its place already
		case err == nil:
			if err := c.clear(s.Path); err != nil {
				return err
			}
		}
		if c.recovering {
			if err := c.makeParents(s.Path); err != nil {
				return err
			}
		}
		if err := volume.RenameIn(c.root, c.journal.source(i), s.Path); err != nil {
			return err
		}
	}
	return nil
}

func (c *change) placeLink(s *step) error {
	if target, err := c.root.Readlink(s.Path); err == nil && target == s.After.Target {
		return nil
	}
	if there, err := c.exists(s.Path); err != nil {
		return err
	} else if there {
		if err := c.clear(s.Path); err != nil {
			return err
		}
	}
	if err := volume.SymlinkIn(c.root, s.After.Target, s.Path); err != nil {
		return err
	}
	return volume.OwnIn(c.root, s.Path, path.Dir(s.Path))
}

// Finish ends a change whose memo has been recorded.
func Finish(root *os.Root) error {
	return (&change{root: root}).remove()
}

func ignoreMissing(err error) error {
	if volume.Absent(err) {
		return nil
	}
	return err
}
