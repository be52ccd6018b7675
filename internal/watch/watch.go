package watch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
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
	// Mending is what came of bringing it back; nil: there was nothing to be brought back, or
	// nobody has asked for it.
	Mending *Mending
	// Followed is what came of an update of a lane that follows updates; nil: none has come.
	Followed *Followed
}

// Watch says how a lane is watched.
type Watch struct {
	Quiet  time.Duration // how long nothing must happen until it is looked at
	Every  time.Duration // a look in any case, for what no event tells
	Once   bool          // look once, and return
	Repair bool          // bring back what has changed, and set the block again
	// See is told of each change of how the lane stands, of the first look, and of what came of
	// bringing it back where that is new. It runs while the lane is open.
	See func(ctx context.Context, l *lane.Lane, e Event) error
	// Limit is told if the system cannot watch everything, and what helps.
	Limit func(problem string)
	// Kept is told what has been recorded of the player's own files and saves; nil: nothing is.
	Kept func(what string)
	// Turn, if set, is locked while it looks: for several watches at once.
	Turn sync.Locker
}

// restless is how many times as long as it should be quiet a lane may change all the time, until
// it is looked at all the same.
const restless = 15

// Run watches until ctx is done. The game's lock is held only while it looks. A folder
// that is away is waited for; one that has taken its place is watched from then on. What cannot
// be brought back is tried again, at growing distances.
func (w *Watch) Run(ctx context.Context, home *game.Home, name string, o lane.Options) error {
	at := &watched{watch: w, home: home, name: name, lane: o.Lane, mender: &mender{}, quiet: true}
	defer at.close()
	if err := at.arm(ctx); err != nil {
		return err
	}
	// Looked at once it is watched, so that nothing is missed in between.
	read := int64(status.Glance)
	if w.Once {
		read = status.Whole
	}
	err := at.look(ctx, o, read)
	if w.Once || ctx.Err() != nil || err != nil && !at.waits(err) {
		return err
	}
	t := newTimer(at.pause())
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-at.news.come:
			if err != nil {
				w.Limit(limitAdvice(err))
			}
			if at.quiet = t.put(w.Quiet, restless*w.Quiet); at.quiet {
				continue
			}
		case <-at.news.beside:
			t.soon(at.beside())
			continue
		case <-t.C:
			at.quiet = true
		}
		t.rest()
		if at.moved() {
			// Something may be filling it just now: it has to come to rest first.
			if err := at.arm(ctx); err != nil {
				at.waits(err)
			}
			t.put(w.Quiet, restless*w.Quiet)
			continue
		}
		switch err := at.look(ctx, o, more(at.before)); {
		case ctx.Err() != nil:
			return nil
		case errors.Is(err, game.ErrBusy):
			// Another command is at work; its changes are looked at once it is done.
			t.put(max(w.Quiet, time.Second), 0)
			continue
		case err != nil && !at.waits(err):
			return err
		case err == nil && at.trouble != "":
			w.Limit(name + " can be looked at again")
			at.trouble = ""
		}
		t.put(at.pause(), 0)
	}
}

// timer says when to look next.
type timer struct {
	*time.Timer
	due   time.Time
	since time.Time // of the first change that has not been looked at; zero: none
}

func newTimer(d time.Duration) *timer { return &timer{Timer: time.NewTimer(d), due: time.Now().Add(d)} }

// put puts the next look off by d, and returns false where that has been done for longer than
// most; with most 0 it is put off as often as you like.
func (t *timer) put(d, most time.Duration) bool {
	now := time.Now()
	switch {
	case most == 0:
	case t.since.IsZero():
		t.since = now
	case now.Sub(t.since) > most:
		return false
	}
	t.due = now.Add(d)
	t.Reset(d)
	return true
}

// soon makes the next look come no later than in d.
func (t *timer) soon(d time.Duration) {
	if time.Until(t.due) > d {
		t.put(d, 0)
	}
}

// rest says that it is looked at now.
func (t *timer) rest() { t.since = time.Time{} }

// pause is how long to wait for the next look: not long where something is in the way, is still
// to be brought back, or is still unread.
func (a *watched) pause() time.Duration {
	w := a.watch
	switch {
	case a.again: // it was not listened to while it was looked at
		return w.Quiet
	case a.trouble != "":
		return min(w.Every, max(w.Quiet, time.Second))
	case a.mending.waits():
		return a.retry
	case a.follows:
		return min(w.Every, max(w.Quiet, time.Second))
	case a.before != nil && !a.before.Sure():
		return min(w.Every, w.Quiet)
	}
	return w.Every
}

// beside is how soon to look after something has changed beside the lane, or in files that nobody
// misses: less soon each time that it came to nothing.
func (a *watched) beside() time.Duration {
	return min(a.watch.Every, a.watch.Quiet<<min(a.idle, 12))
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
	trouble  string
	mender   *mender
	before   *status.Status // how it stood at the last look; nil: nobody has looked
	mending  *Mending       // what came of the last try to bring it back
	retry    time.Duration  // how long to wait before it is tried again
	quiet    bool           // nothing has changed for a moment
	again    bool           // it has just begun to be listened to
	idle     int            // looks in a row that came to nothing
	follows  bool           // an update that is followed has still to be waited for
	followed *Followed      // what came of the last one
	own      keeper
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
	if a.watch.Once || a.folder == nil {
		return nil
	}
	var also []string
	if f, err := backup.Finder(ctx, a.home, g, is.Name, a.dir); err == nil && is.Live {
		places, _, err := f.Find()
		for _, p := range places {
			also = append(also, p.In(a.dir))
		}
		if err != nil {
			a.watch.Limit(fmt.Sprintf("the saves are not watched: %v", err))
		}
	}
	a.news = newsOf(g, a.dir, a.watch.Limit, also...)
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
	if errors.Is(err, state.ErrUnknown) || errors.Is(err, game.ErrSettings) && a.before == nil {
		return false
	}
	if text := err.Error(); text != a.trouble {
		a.trouble = text
		a.watch.Limit(text + "; Morvant waits for it")
	}
	return true
}

func (a *watched) close() {
	if a.news != nil {
		a.news.close()
	}
}

// look opens the lane, brings it back if it has to, and tells See what is new.
func (a *watched) look(ctx context.Context, o lane.Options, read int64) error {
	w := a.watch
	if w.Turn != nil {
		w.Turn.Lock()
		defer w.Turn.Unlock()
	}
	l, err := entry.Open(ctx, a.home, a.name, o)
	if err != nil {
		return err
	}
	err = errors.Join(a.lookAt(ctx, l, o, read), l.Close())
	if a.again = err == nil && l.Dir != a.dir; a.again { // the player has taken it over elsewhere
		err = a.arm(ctx)
	}
	return err
}

func (a *watched) lookAt(ctx context.Context, l *lane.Lane, o lane.Options, read int64) error {
	w := a.watch
	s, err := status.Of(ctx, l, read)
	if err != nil {
		return err
	}
	var followed *Followed
	if a.quiet || w.Once {
		if followed, err = FollowUp(ctx, l); err != nil {
			return err
		}
	}
	if a.follows = followed != nil && followed.Waits != ""; followed != nil && !a.follows {
		if s, err = status.Of(ctx, l, status.Whole); err != nil {
			return err
		}
	}
	news := a.before == nil || outline(a.before) != outline(s) || followed.sketch() != a.followed.sketch()
	a.followed = followed
	e := Event{Time: o.Now(), Status: s, Before: a.before, Followed: followed}
	now := s
	if w.Repair && s.Build != nil && s.Trouble() && !s.Pin.Follow {
		e.Mending = a.mender.mend(ctx, l, s, a.quiet)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		news = news || e.Mending.sketch() != a.mending.sketch()
		if e.Mending.Done {
			if now, err = status.Of(ctx, l, status.Whole); err != nil {
				return err
			}
			e.Mending.Stayed = stayed(a.before, now)
		}
	}
	a.wait(e.Mending)
	a.mending, a.before = e.Mending, s
	if a.idle++; news {
		a.idle = 0
		if err := w.See(ctx, l, e); err != nil {
			return err
		}
	}
	if w.Kept != nil && a.quiet {
		if err := a.own.record(ctx, l, w, now.Tree); err != nil {
			w.Limit(fmt.Sprintf("your own files are not recorded: %v", err))
		}
	}
	if e.Mending != nil && e.Mending.Done {
		// What was mended is no news; what has changed meanwhile is.
		if !now.Trouble() || e.Mending.waits() {
			a.before = now
		}
		rest := *e.Mending
		rest.Done, rest.Stayed = false, nil // told
		a.mending = &rest
	}
	return nil
}

// wait sets how long to wait before the lane is brought back again: twice as long each time.
func (a *watched) wait(m *Mending) {
	first := max(a.watch.Quiet, time.Second)
	switch {
	case !m.waits() || !a.mending.waits() || m.sketch() != a.mending.sketch():
		a.retry = first
	default:
		a.retry = 2 * a.retry
	}
	a.retry = min(a.retry, max(first, a.watch.Every))
}

// outline sums up how a lane stands as far as it is news: which files differ, not how.
func outline(s *status.Status) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%v", s.Pin)
	if d := s.Drift; d != nil {
		for _, list := range [][]plan.Entry{d.Altered, d.Missing, d.Unrunnable, d.Extra, d.Lost, d.Harmed} {
			for _, e := range list {
				b.WriteString(e.Path)
				b.WriteByte(0)
			}
			b.WriteByte(1)
		}
		if u := d.Update; u != nil {
			fmt.Fprintf(&b, "%s %d %d", u.Build.UID, u.Done, u.Of)
		}
		fmt.Fprintf(&b, "%v", d.Sure())
	}
	for _, h := range s.Block {
		fmt.Fprintf(&b, " %s %v", h.Rule.Kind, h.Holds)
	}
	for _, g := range s.Gone {
		b.WriteString(g.Path)
		b.WriteByte(0)
	}
	return b.String()
}

// sketch sums up how a lane stands, to be compared.
func sketch(s *status.Status) string {
	text := fmt.Sprintf("%v %d %d", s.Pin, s.Files, s.Bytes)
	if d := s.Drift; d != nil {
		text += fmt.Sprintf(" %v %v %v %v %v %v", d.Altered, d.Missing, d.Extra, d.Lost, d.Harmed, d.Sure())
	}
	for _, b := range s.Block {
		text += fmt.Sprintf(" %v %s", b.Holds, b.Broke)
	}
	return text
}
