package scan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"morvant/internal/digest"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/progress"
	"morvant/internal/volume"
)

// ErrUnstable is returned for a file that keeps changing while it is read.
var ErrUnstable = problem.New("the file keeps changing while it is read", "Close whatever writes to it and run the command again")

// Changing is what is odd about a file that keeps changing while it is read.
const Changing = "still being written"

// attempts is how often a file that changes under the reader is read again.
const attempts = 3

// Sink takes the content of a file and returns its digest and size. read is to
// be told of the bytes as they come.
type Sink func(ctx context.Context, r io.Reader, read func(n int)) (digest.Digest, int64, error)

// Request says what to read of a tree.
type Request struct {
	Sink  Sink              // what takes the content; Hash, or a store
	Skip  func(*Entry) bool // files that need not be read; nil: those that are Known
	Limit int64             // bytes; the largest files beyond it stay unread; 0: no limit
	Task  string            // for the meter
	Meter progress.Meter
	Now   func() time.Time
	// Spare says of a file that may not be read, or keeps changing, whether it can do without: then it stays
	// unread, and is among the tree's unread ones. nil: none can.
	Spare func(*Entry) bool
	// Tolerant takes files that may not be read out of the tree, to its oddities.
	Tolerant bool

	settled time.Time // when the whole disk was last brought up to date; zero: not
}

// Read reads files of the tree and fills in their digests. A file that has gone
// in the meantime is taken out of the tree.
func (t *Tree) Read(ctx context.Context, root *os.Root, q Request) error {
	if q.Skip == nil {
		q.Skip = func(e *Entry) bool { return e.Known }
	}
	var todo []*Entry
	var total int64
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Kind == File && !q.Skip(e) {
			todo = append(todo, e)
			total += e.Stamp.Size
		}
	}
	if len(todo) == 0 {
		return nil
	}
	// The largest first: they take longest, and the small ones fill the gaps.
	slices.SortStableFunc(todo, func(a, b *Entry) int { return cmp.Compare(b.Stamp.Size, a.Stamp.Size) })
	for q.Limit > 0 && total > q.Limit && len(todo) > 0 {
		total -= todo[0].Stamp.Size
		todo = todo[1:]
	}
	q.sayAway(todo)
	if err := q.settleAll(root, todo); err != nil {
		return err
	}
	q.Meter.Begin(q.Task, total)
	defer q.Meter.End()
	var mu sync.Mutex
	gone := make(map[string]bool)
	var odd, unread []Oddity
	g, groupCtx := errgroup.WithContext(ctx)
	g.SetLimit(min(runtime.GOMAXPROCS(0), 8))
	for _, e := range todo {
		if groupCtx.Err() != nil {
			break
		}
		g.Go(func() error {
			err := e.read(groupCtx, root, q)
			if errors.Is(err, fs.ErrNotExist) {
				mu.Lock()
				gone[e.Path] = true
				mu.Unlock()
				q.Meter.Warn(e.Path + " disappeared while the folder was read; it is left out")
				return nil
			}
			if q.Spare != nil && (errors.Is(err, fs.ErrPermission) || errors.Is(err, ErrUnstable)) && q.Spare(e) {
				what := unreadable
				if errors.Is(err, ErrUnstable) {
					what = Changing
				}
				mu.Lock()
				unread = append(unread, Oddity{Path: e.Path, What: what, Unread: true})
				mu.Unlock()
				return nil
			}
			if q.Tolerant && errors.Is(err, fs.ErrPermission) {
				mu.Lock()
				gone[e.Path] = true
				odd = append(odd, Oddity{Path: e.Path, What: unreadable})
				mu.Unlock()
				return nil
			}
			return err
		})
	}
	if err := errors.Join(g.Wait(), ctx.Err()); err != nil {
		return err
	}
	t.Unread = append(t.Unread, unread...)
	slices.SortFunc(t.Unread, func(a, b Oddity) int { return strings.Compare(a.Path, b.Path) })
	if len(gone) > 0 {
		t.Entries = slices.DeleteFunc(t.Entries, func(e Entry) bool { return gone[e.Path] })
		t.Odd = append(t.Odd, odd...)
		slices.SortFunc(t.Odd, func(a, b Oddity) int { return strings.Compare(a.Path, b.Path) })
	}
	return nil
}

func (e *Entry) read(ctx context.Context, root *os.Root, q Request) error {
	for range attempts {
		var read int64
		ok, looked, err := e.readOnce(ctx, root, q, &read)
		if !ok {
			q.Meter.Advance(-read, e.Path) // it is read again, or not at all
		}
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return err
		}
		if ok {
			e.Known, e.Looked = true, looked
			return nil
		}
	}
	return fmt.Errorf("%s: %w", e.Path, ErrUnstable)
}

// justWritten is how long ago a file may have been written that somebody may still be writing to.
const justWritten = time.Minute

// unsettled is how long after a write to a file some of it may not have been brought to
// disk by the system. Another write to the same page through a mapping moves no time
// until then.
const unsettled = 5 * time.Minute

// sayAway tells how much has to come here from elsewhere before it can be read.
func (q *Request) sayAway(todo []*Entry) {
	var n, size int64
	for _, e := range todo {
		if e.Away {
			n++
			size += e.Stamp.Size
		}
	}
	if n > 0 {
		q.Meter.Warn(fmt.Sprintf("%d files, %d MB, are kept in the cloud and not on this computer; reading them brings them here", n, size>>20))
	}
}

func (s Stamp) unsettled(now time.Time) bool {
	age := now.Sub(time.Unix(0, s.MTime))
	return age < unsettled && age > -unsettled
}

// settleEach is up to how many files are settled one by one; for more, one call for the
// whole file system is faster.
const settleEach = 16

func (q *Request) settleAll(root *os.Root, todo []*Entry) error {
	now := q.Now()
	n := 0
	for _, e := range todo {
		if e.Stamp.unsettled(now) {
			n++
		}
	}
	if n <= settleEach {
		return nil
	}
	f, err := root.Open(".")
	if err != nil {
		return place("", err)
	}
	defer f.Close()
	if done, err := volume.Sync(f); err == nil && done {
		q.settled = now
	}
	return nil
}

// readOnce reads the file from the time looked on, and reports whether it stayed the
// same meanwhile.
func (e *Entry) readOnce(ctx context.Context, root *os.Root, q Request, read *int64) (same bool, looked time.Time, err error) {
	f, err := OpenFile(root, e.Path)
	if err != nil {
		return false, looked, err
	}
	defer f.Close()
	mode, stamp, err := lookAt(f)
	if err != nil {
		return false, looked, place(e.Path, err)
	}
	if !mode.IsRegular() {
		return false, looked, fmt.Errorf("%s: %w", e.Path, ErrUnstable)
	}
	looked = q.Now()
	if stamp.unsettled(looked) && (q.settled.IsZero() || stamp.MTime > q.settled.UnixNano()) {
		if err := settle(f); err != nil {
			return false, looked, place(e.Path, err)
		}
		looked = q.Now()
		if mode, stamp, err = lookAt(f); err != nil {
			return false, looked, place(e.Path, err)
		}
	}
	e.Stamp = stamp
	if e.Worn == 0 || mode.Perm() != e.Worn {
		e.Mode = mode.Perm()
	}
	var content io.Reader = f
	if looked.Sub(time.Unix(0, stamp.MTime)) < justWritten { // it may grow faster than it can be read
		content = io.LimitReader(f, stamp.Size+1)
	}
	d, size, err := q.Sink(ctx, content, func(n int) {
		*read += int64(n)
		q.Meter.Advance(int64(n), e.Path)
	})
	if err != nil {
		return false, looked, place(e.Path, err)
	}
	_, after, err := lookAt(f)
	if err != nil {
		return false, looked, place(e.Path, err)
	}
	e.Digest = d
	return size == e.Stamp.Size && after == e.Stamp, looked, nil
}

// OpenFile opens a regular file below root for reading. It neither follows a
// link nor waits for a named pipe that has taken the file's place.
func OpenFile(root *os.Root, p string) (*os.File, error) {
	var f *os.File
	err := process.Reading(filepath.Join(root.Name(), filepath.FromSlash(p)), func() error {
		var err error
		f, err = root.OpenFile(p, os.O_RDONLY|openFlags, 0)
		return err
	})
	if err != nil {
		return nil, place(p, err)
	}
	return f, nil
}

// hashBuffer is small enough for what was read to be hashed from the processor's
// own cache: with 1 MiB hashing takes half as long again.
const hashBuffer = 256 << 10

// Hash is the Sink that keeps nothing. Several goroutines may use it at once.
func Hash() Sink {
	bufs := sync.Pool{New: func() any { b := make([]byte, hashBuffer); return &b }}
	return func(ctx context.Context, r io.Reader, read func(n int)) (digest.Digest, int64, error) {
		b := bufs.Get().(*[]byte)
		defer bufs.Put(b)
		h := digest.NewHasher()
		var size int64
		for {
			if err := ctx.Err(); err != nil {
				return digest.Digest{}, size, err
			}
			n, err := r.Read(*b)
			h.Write((*b)[:n])
			size += int64(n)
			read(n)
			if errors.Is(err, io.EOF) {
				return h.Digest(), size, nil
			}
			if err != nil {
				return digest.Digest{}, size, err
			}
		}
	}
}
