package watch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"sync"
	"time"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/entry"
	"morvant/internal/lane/status"
	"morvant/internal/plan"
	"morvant/internal/state"
)

// Event is what a watch has seen, once it has become quiet again.
type Event struct {
	Time   time.Time
	Status *status.Status
	// Before is how the lane stood at the last event; nil at the first.
	Before *status.Status
}

// Watch says how a lane is watched.
type Watch struct {
	Quiet time.Duration // how long nothing must happen until it is looked at
	Every time.Duration // a look in any case, for what no event tells
	Once  bool          // look once, and return
	// See is told of each change of how the lane stands, and of the first look. It
	// runs while the lane is open, and says whether it has changed it.
	See func(ctx context.Context, l *lane.Lane, e Event) (changed bool, err error)
	// Limit is told if the system cannot watch everything, and what helps.
	Limit func(problem string)
	// Turn, if set, is locked while it looks: for several watches at once.
	Turn sync.Locker
}

// Run watches until ctx is done. The game's lock is held only while it looks. A folder
// that is away is waited for; one that has taken its place is watched from then on.
func (w *Watch) Run(ctx context.Context, home *game.Home, name string, o lane.Options) error {
	at := &watched{watch: w, home: home, name: name, lane: o.Lane}
	defer at.close()
	if err := at.arm(ctx); err != nil {
		return err
	}
	// Looked at once it is watched, so that nothing is missed in between.
	read := int64(status.Glance)
	if w.Once {
		read = status.Whole
	}
	before, err := w.look(ctx, home, name, o, nil, read)
	if w.Once || ctx.Err() != nil || err != nil && !at.waits(err) {
		return err
	}
	timer := time.NewTimer(w.pause(at.trouble, before))
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-at.news.come:
			if err != nil {
				w.Limit(limitAdvice(err))
			}
			timer.Reset(w.Quiet)
			continue
		case <-timer.C:
		}
		if at.moved() {
			// Something may be filling it just now: it has to come to rest first.
			if err := at.arm(ctx); err != nil {
				at.waits(err)
			}
			timer.Reset(w.Quiet)
			continue
		}
		now, err := w.look(ctx, home, name, o, before, more(before))
		switch {
		case ctx.Err() != nil:
			return nil
		case errors.Is(err, game.ErrBusy):
			// Another command is at work; its changes are looked at later.
		case err != nil:
			at.waits(err)
		default:
			if at.trouble != "" {
				w.Limit(name + " can be looked at again")
				at.trouble = ""
			}
			before = now
		}
		timer.Reset(w.pause(at.trouble, before))
	}
}

// pause is how long to wait for the next look: not long where something is in the way, or
// is still unread.
func (w *Watch) pause(trouble string, last *status.Status) time.Duration {
	switch {
	case trouble != "":
		return min(w.Every, max(w.Quiet, time.Second))
	case last != nil && !last.Sure():
		return min(w.Every, w.Quiet)
	}
	return w.Every
}

// more says how much the next look reads: what a glance does, and at least one of the files
// that the last one has left. So they are all read at rest, one after the other, and other
// commands get their turn in between.
func more(last *status.Status) int64 {
	read := int64(status.Glance)
	if last == nil || last.Sure() {
		return read
	}
	least := slices.MinFunc(last.Drift.Unread, func(a, b plan.Entry) int { return cmp.Compare(a.Size, b.Size) })
	return max(read, least.Size)
}

// watched is the folder that a watch is about.
type watched struct {
	watch  *Watch
	home   *game.Home
	name   string
	lane   string
	dir    string
	folder fs.FileInfo // nil: it is not there
	news   *news
	// trouble is what keeps it from being looked at; said once.
	trouble string
}

// arm listens to what happens in the folder that is in the lane's place now.
func (a *watched) arm(ctx context.Context) error {
	g, err := a.home.Load(a.name)
	if err != nil {
		return err
	}
	is, err := a.home.Lane(ctx, a.name, a.lane)
	if err != nil {
		return err
	}
	a.close()
	a.dir = g.Folder(is)
	a.folder, _ = os.Stat(a.dir)
	a.news = &news{}
	if !a.watch.Once && a.folder != nil {
		a.news = newsOf(g, a.dir, a.watch.Limit)
	}
	return nil
}

// moved reports whether another folder stands in the place of the one that is watched.
func (a *watched) moved() bool {
	now, err := os.Stat(a.dir)
	if err != nil {
		return false // which the look says better
	}
	return a.folder == nil || !os.SameFile(a.folder, now)
}

// waits says what is in the way, once, and that it is waited for.
func (a *watched) waits(err error) bool {
	if errors.Is(err, state.ErrUnknown) || errors.Is(err, game.ErrSettings) {
		return false
	}
	if text := err.Error(); text != a.trouble {
		a.trouble = text
		a.watch.Limit(text + "; it is waited for")
	}
	return true
}

func (a *watched) close() {
	if a.news != nil {
		a.news.close()
	}
}

// look opens the lane, and tells See if it stands otherwise than before.
func (w *Watch) look(ctx context.Context, home *game.Home, name string, o lane.Options, before *status.Status, read int64) (*status.Status, error) {
	if w.Turn != nil {
		w.Turn.Lock()
		defer w.Turn.Unlock()
	}
	l, err := entry.Open(ctx, home, name, o)
	if err != nil {
		return nil, err
	}
	s, err := status.Of(ctx, l, read)
	if err == nil && (before == nil || sketch(before) != sketch(s)) {
		var mended bool
		mended, err = w.See(ctx, l, Event{Time: o.Now(), Status: s, Before: before})
		if err == nil && mended {
			// What was mended is no news; what has changed meanwhile is.
			if now, statusErr := status.Of(ctx, l, status.Whole); statusErr == nil && !now.Trouble() {
				s = now
			}
		}
	}
	return s, errors.Join(err, l.Close())
}

// sketch sums up how a lane stands, to be compared.
func sketch(s *status.Status) string {
	text := fmt.Sprintf("%v %d %d", s.Pin, s.Files, s.Bytes)
	if d := s.Drift; d != nil {
		text += fmt.Sprintf(" %v %v %v %v", d.Altered, d.Missing, d.Extra, d.Sure())
	}
	for _, b := range s.Block {
		text += fmt.Sprintf(" %v %s", b.Holds, b.Broke)
	}
	return text
}
