package apply

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"morvant/internal/digest"
	"morvant/internal/plan"
	"morvant/internal/reflink"
	"morvant/internal/scan"
	"morvant/internal/store"
	"morvant/internal/volume"
)

const (
	// syncEach is up to how many new files are synced one by one; for more, one
	// call for the whole file system is faster.
	syncEach = 16
	// ShareFrom is the size in bytes from which sharing content with another
	// file is worth the calls it takes.
	ShareFrom = 256 << 10
	// startEvery is after how many bytes the disk is set to work on a new file.
	startEvery = 8 << 20
)

// stage fills the folder new with complete, checked and synced files.
func stage(ctx context.Context, job Job, report *Report) error {
	s := &stager{Job: job, report: report}
	var files []int
	for i := range job.Plan.Steps {
		if job.Plan.Steps[i].Writes() {
			files = append(files, i)
		}
	}
	if len(files) == 0 {
		return nil
	}
	var err error
	if s.fresh, err = job.Root.OpenRoot(newDir); err != nil {
		return err
	}
	defer s.fresh.Close()
	job.Meter.Begin("Writing", job.Plan.Totals().Write)
	defer job.Meter.End()
	s.syncEach = len(files) <= syncEach || !volume.SyncsAll
	wanted := make([]digest.Digest, len(files))
	for n, i := range files {
		wanted[n] = job.Plan.Steps[i].After.Digest
	}
	if s.contents, err = job.Store.Reader(ctx, wanted); err != nil {
		return err
	}
	g, groupCtx := errgroup.WithContext(ctx)
	var next atomic.Int64
	for range store.Workers() {
		g.Go(func() error {
			for groupCtx.Err() == nil {
				n := int(next.Add(1)) - 1
				if n >= len(files) {
					break
				}
				step := &job.Plan.Steps[files[n]]
				if err := s.file(groupCtx, fresh(files[n]), step); err != nil {
					return fmt.Errorf("%s: %w", step.Path, err)
				}
			}
			return nil
		})
	}
	if err := errors.Join(g.Wait(), ctx.Err()); err != nil {
		return err
	}
	if s.syncEach {
		return volume.SyncIn(job.Root, newDir)
	}
	dir, err := s.Root.Open(newDir)
	if err != nil {
		return err
	}
	defer dir.Close()
	_, err = volume.Sync(dir)
	return err
}

type stager struct {
	Job
	fresh    *os.Root // newDir
	contents *store.Reader
	report   *Report
	unset    sync.Mutex // guards report.Unset
	syncEach bool
	noShare  atomic.Bool // this file system has refused to share content
}

// file writes the content of one step, with its time and mode.
func (s *stager) file(ctx context.Context, name string, step *plan.Step) error {
	if linked, err := s.link(ctx, name, step); linked || err != nil {
		return err
	}
	f, err := s.share(ctx, name, step)
	if err == nil && f == nil {
		if f, err = s.create(name); err == nil {
			err = s.write(ctx, f, step)
		}
	}
	if f == nil {
		return err
	}
	if err == nil && s.syncEach {
		err = f.Sync() // before it may become read-only
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	after := *step.After
	if after.Mode == 0 && step.Before != nil {
		after.Mode = step.Before.Mode
	}
	if step.Before != nil {
		// Hidden and system, which some systems have, are not recorded; they stay.
		if err := volume.KeepFlags(filepath.Join(s.Dir, filepath.FromSlash(step.Path)), filepath.Join(s.Dir, filepath.FromSlash(name))); err != nil {
			return err
		}
	}
	like := path.Dir(step.Path)
	if step.Before != nil {
		like = step.Path
	}
	if _, err := volume.LstatIn(s.Root, like); err == nil { // its folder may come with this change
		if err := volume.OwnIn(s.Root, name, like); err != nil {
			return err
		}
	} else if err := volume.OwnIn(s.Root, name, "."); err != nil {
		return err
	}
	err = setAttributes(s.fresh, path.Base(name), after)
	if errors.Is(err, fs.ErrPermission) {
		s.unset.Lock()
		defer s.unset.Unlock()
		s.report.unset(step.Path, err)
		return nil
	}
	return err
}

func (s *stager) create(name string) (*os.File, error) {
	return s.fresh.OpenFile(path.Base(name), os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
}

// share makes a file that shares content with files of the folder or of elsewhere, and
// fills in the rest. What it holds then is read back and checked; if it is not right, or
// sharing is not possible, there is no file, and it has to be written as a whole.
func (s *stager) share(ctx context.Context, name string, step *plan.Step) (*os.File, error) {
	if step.After.Size < ShareFrom || s.noShare.Load() {
		return nil, nil
	}
	f, err := s.shared(ctx, name, step)
	switch {
	case errors.Is(err, reflink.ErrUnsupported):
		s.noShare.Store(true)
		return nil, nil
	case errors.Is(err, store.ErrMissing), errors.Is(err, fs.ErrNotExist), errors.Is(err, errNothingShared):
		return nil, nil
	case err != nil:
		return nil, err
	}
	_, err = f.Seek(0, io.SeekStart)
	var d digest.Digest
	if err == nil {
		d, _, err = scan.Hash()(ctx, f, func(n int) { s.Meter.Advance(int64(n), step.Path) })
	}
	if err != nil || d != step.After.Digest {
		if err == nil {
			s.Meter.Advance(-step.After.Size, step.Path)
		}
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// shared makes the file from what is likeliest to share most.
func (s *stager) shared(ctx context.Context, name string, step *plan.Step) (*os.File, error) {
	var whole *os.File
	var err error
	if step.Copy != "" {
		whole, err = scan.OpenFile(s.Root, step.Copy)
	} else if s.Elsewhere != nil {
		whole = s.Elsewhere(step.After.Digest)
	}
	switch {
	case err != nil:
		return nil, err
	case whole != nil:
		defer whole.Close()
		return reflink.File(s.Root, name, whole)
	case step.Before == nil || step.Before.Kind != plan.File || step.Before.Size < ShareFrom:
		return nil, errNothingShared
	}
	f, err := s.create(name)
	if err != nil {
		return nil, err
	}
	if err := s.sharePieces(ctx, f, step); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// errNothingShared says that the old file has nothing that could be shared.
var errNothingShared = errors.New("no common content")

// sharePieces builds f from the file it replaces: runs of chunks that both have
// are shared, the others come from the store.
func (s *stager) sharePieces(ctx context.Context, f *os.File, step *plan.Step) error {
	runs, err := s.runs(ctx, step)
	if err != nil {
		return err
	}
	src, err := scan.OpenFile(s.Root, step.Path)
	if err != nil {
		return err
	}
	defer src.Close()
	if err := f.Truncate(step.After.Size); err != nil {
		return err
	}
	var buf []byte
	for _, r := range runs {
		from, to := r.shareable()
		if from < to {
			switch err := reflink.Range(f, from, src, from+r.delta, to-from); {
			case errors.Is(err, reflink.ErrUnsupported) && !reflink.Ranges:
				return errNothingShared
			case err != nil:
				return err
			}
		}
		at := r.start
		for _, p := range r.pieces {
			end := at + int64(p.Size)
			if from >= to || at < from || end > to {
				b, err := s.Store.Chunk(ctx, p.Digest, buf)
				if err != nil {
					return err
				}
				if cap(b) > cap(buf) {
					buf = b
				}
				if _, err := f.WriteAt(b, at); err != nil {
					return err
				}
			}
			at = end
		}
	}
	return nil
}

// run is a row of chunks that follow each other in the new file and, if old is
// set, in the old one as well, delta bytes further on.
type run struct {
	start, end int64
	old        bool
	delta      int64
	pieces     []store.Piece
}

// shareable returns the range of the new file that can be shared: whole blocks
// that lie at whole blocks in the old file.
func (r *run) shareable() (from, to int64) {
	if !r.old || r.delta%reflink.Block != 0 {
		return 0, 0
	}
	return (r.start + reflink.Block - 1) / reflink.Block * reflink.Block, r.end / reflink.Block * reflink.Block
}

func (s *stager) runs(ctx context.Context, step *plan.Step) ([]run, error) {
	before, err := s.Store.Layout(ctx, step.Before.Digest)
	if err != nil {
		return nil, err
	}
	after, err := s.Store.Layout(ctx, step.After.Digest)
	if err != nil {
		return nil, err
	}
	offsets := make(map[digest.Digest]int64, len(before))
	var at int64
	for _, p := range before {
		if _, twice := offsets[p.Digest]; !twice {
			offsets[p.Digest] = at
		}
		at += int64(p.Size)
	}
	var runs []run
	at = 0
	shareable := false
	for _, p := range after {
		r := run{start: at, end: at + int64(p.Size)}
		if offset, ok := offsets[p.Digest]; ok {
			r.old, r.delta = true, offset-at
		}
		if last := len(runs) - 1; last >= 0 && runs[last].old == r.old && runs[last].delta == r.delta {
			runs[last].end = r.end
			runs[last].pieces = append(runs[last].pieces, p)
		} else {
			r.pieces = []store.Piece{p}
			runs = append(runs, r)
		}
		shareable = shareable || r.old && r.delta%reflink.Block == 0
		at = r.end
	}
	if !shareable {
		return nil, errNothingShared
	}
	return runs, nil
}

// write writes f from the store, which checks the content.
func (s *stager) write(ctx context.Context, f *os.File, step *plan.Step) error {
	var written, started int64
	return s.contents.Read(ctx, step.After.Digest, func(b []byte) error {
		if _, err := f.Write(b); err != nil {
			return err
		}
		if written += int64(len(b)); written-started >= startEvery {
			volume.StartSync(f, started, written-started)
			started = written
		}
		s.Meter.Advance(int64(len(b)), step.Path)
		return nil
	})
}
