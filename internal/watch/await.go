package watch

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"time"

	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/status"
	"morvant/internal/problem"
	"morvant/internal/state"
)

// Await says how an update is waited for that is let in on purpose.
type Await struct {
	Before Before
	Quiet  time.Duration // how long nothing must happen until the update counts as done
	// After does the update and returns when it is done; nil: somebody else does it.
	After func(ctx context.Context) error
	// Expected says that the player has named the build that comes: it need not be known.
	Expected bool
	// Said tells that the player says that all of it is there; so does SayDone.
	Said <-chan struct{}
	// Tell is told what it is waiting for.
	Tell func(what string)
	// Moved is asked whether the lane's folder is now the one to which it has been moved, and
	// opens it; nil: nobody is asked.
	Moved func(to string) error
}

// Arrival is an update that has come.
type Arrival struct {
	Status *status.Status
	// Whole is the known build that the folder is now, every file of it; nil: it is none.
	Whole *state.Build
	// Doubts speak against its being all there. The player says that it is.
	Doubts []string
}

// Errors of an update that is waited for.
var (
	ErrNoUpdate  = problem.New("no update has come", "Let the launcher look for updates, then try again; nothing was changed")
	ErrHalfDone  = problem.New("the update is incomplete", "Let the launcher finish it, then wait for the update again; or go back to the held build")
	ErrNotWaited = problem.New("nobody is waiting for an update", "--done is for a let-update that waits in another window")
)

// How often a folder is looked at while nothing tells of changes, and how often somebody may
// have said elsewhere that the update is there.
const (
	look   = 15 * time.Second
	listen = 500 * time.Millisecond
)

// AwaitUpdate waits until the launcher has updated the lane. Something has changed, then nothing
// for a while, nothing shows that the launcher is still at work, and the folder is a known build
// as a whole; or it is none, nothing speaks against its being whole, and the player has named it
// or has let a command do the update; or the player says that it is there.
//
// The block, which the caller has taken off after BeginAwait, is set again by the next
// command if this run is killed.
func AwaitUpdate(ctx context.Context, l *lane.Lane, a Await) (*Arrival, error) {
	w := &awaiting{Await: a, lane: l}
	w.listen()
	defer func() { w.news.close() }()
	if a.After != nil {
		w.ended = make(chan error, 1)
		go func() { w.ended <- a.After(ctx) }()
	}
	got, err := w.wait(ctx)
	if err != nil && l.Root == nil { // what is let go between two looks is held again, however the wait has ended
		if _, lost := l.Refind(context.WithoutCancel(ctx)); lost != nil {
			err = errors.Join(err, lost)
		}
	}
	return got, err
}

// awaiting is one wait for an update.
type awaiting struct {
	Await
	lane  *lane.Lane
	news  *news
	ended chan error // nil: what does the update has ended, or nothing does it
	told  string
	seen  string // at the last look, where nothing tells of changes
	// rested is how the lane stood at the last look after the command had ended, and since when.
	rested string
	since  time.Time
}

// stall is how many times as long as it should be quiet nothing may happen once the command that does the
// update has ended, although the launcher looks as if it were at work: then it has given up.
const stall = 30

// stalled reports whether the launcher has given up, as it looks.
func (w *awaiting) stalled(now *status.Status) bool {
	if w.After == nil || w.ended != nil {
		return false
	}
	if is := sketch(now); is != w.rested || w.since.IsZero() {
		w.rested, w.since = is, time.Now()
		return false
	}
	return time.Since(w.since) > stall*w.Quiet
}

// holding says that on this system a folder cannot be moved while a program has it, or anything in
// it, open: a launcher may want to swap it. So nothing is kept open between two looks there, and
// nothing tells of changes.
const holding = runtime.GOOS == "windows"

func (w *awaiting) listen() {
	w.news = &news{}
	if !holding {
		w.news = newsOf(w.lane.Game, w.lane.Dir, w.Tell)
	}
}

func (w *awaiting) wait(ctx context.Context) (*Arrival, error) {
	changed := false
	if holding {
		w.lane.LetGo()
	}
	timer := time.NewTimer(w.Quiet)
	defer timer.Stop()
	heard := time.NewTicker(listen)
	defer heard.Stop()
	for {
		said := false
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case err := <-w.news.come:
			changed = changed || err == nil
			timer.Reset(w.Quiet)
			continue
		case err := <-w.ended:
			if err != nil {
				return nil, err
			}
			w.ended = nil
			timer.Reset(w.Quiet)
			continue
		case <-w.Said:
			said = true
		case <-heard.C:
			var err error
			if said, err = saidDone(ctx, w.lane); err != nil {
				return nil, err
			}
			if !said {
				continue
			}
		case <-timer.C:
			if w.ended != nil { // it is still at work
				timer.Reset(w.Quiet)
				continue
			}
		}
		if there, err := w.there(ctx); err != nil || !there {
			if err != nil {
				return nil, err
			}
			timer.Reset(w.Quiet)
			continue
		}
		now, err := status.Of(ctx, w.lane, status.Whole)
		if err != nil {
			return nil, err
		}
		changed = changed || sketch(w.Before.Status) != sketch(now)
		if rests := w.seen == sketch(now); holding && !rests && !said {
			w.seen = sketch(now)
			w.lane.LetGo()
			timer.Reset(w.Quiet)
			continue
		}
		got, err := w.arrived(ctx, now, changed, said)
		if got != nil || err != nil {
			return got, err
		}
		if holding {
			w.lane.LetGo()
		}
		timer.Reset(max(w.Quiet, min(look, 5*w.Quiet)))
	}
}

// arrived says whether the update has come, as far as it can be known; nil: not yet.
func (w *awaiting) arrived(ctx context.Context, now *status.Status, changed, said bool) (*Arrival, error) {
	byCommand := w.After != nil
	if !changed {
		switch {
		case byCommand:
			return nil, ErrNoUpdate
		case said:
			w.tell("nothing has changed yet")
		}
		return nil, nil
	}
	against, err := signsAgainst(ctx, w.lane, w.Before, now)
	if err != nil {
		return nil, err
	}
	got := &Arrival{Status: now}
	if got.Whole, err = status.WholeBuild(ctx, w.lane, now.Tree, w.Before.Tree); err != nil {
		return nil, err
	}
	if got.Whole != nil && now.Build != nil && got.Whole.UID == now.Build.UID && !said {
		if byCommand {
			return nil, ErrNoUpdate
		}
		w.tell(fmt.Sprintf("it is still %s, or again", now.Build.Label))
		return nil, nil
	}
	switch all := against.all(); {
	case got.Whole != nil && len(against.atWork) == 0:
		return got, nil
	case said:
		if got.Whole == nil {
			got.Doubts = all
		}
		return got, nil
	case w.stalled(now):
		return nil, fmt.Errorf("%w: %s", ErrHalfDone, strings.Join(all, "; "))
	case got.Whole != nil:
		w.tell(strings.Join(against.atWork, "; "))
	case len(all) == 0 && (byCommand || w.Expected):
		return got, nil
	case len(all) == 0:
		w.tell(unknown(now) + "; confirm that it is complete, and Morvant records it")
	case byCommand && len(against.atWork) == 0:
		return nil, fmt.Errorf("%w: %s", ErrHalfDone, strings.Join(all, "; "))
	default:
		w.tell(strings.Join(all, "; "))
	}
	return nil, nil
}

// unknown describes an update that is in place and is no known build.
func unknown(s *status.Status) string {
	text := "the update looks complete, but it is none of the known builds"
	if u := update(s); u != nil && u.Unlike()+u.Beside == 1 {
		text += fmt.Sprintf(" (like %s, but for 1 file)", u.Build.Label)
	} else if u != nil {
		text += fmt.Sprintf(" (like %s, but for %d files)", u.Build.Label, u.Unlike()+u.Beside)
	}
	return text
}

// tell says once what is waited for.
func (w *awaiting) tell(what string) {
	if what != w.told {
		w.told = what
		w.Tell(what)
	}
}

// there makes sure that the lane's folder is the one in its place: a launcher may have swapped
// it, or given it another name.
func (w *awaiting) there(ctx context.Context) (bool, error) {
	fresh, err := w.lane.Refind(ctx)
	switch {
	case err != nil && w.Moved != nil:
		to := w.lane.Whereabouts()
		if to == "" || w.Moved(to) != nil {
			break
		}
		fresh, err = w.lane.Refind(ctx)
	}
	if err != nil {
		w.tell(fmt.Sprintf("%s is not there just now", w.lane.Dir))
		return false, nil
	}
	if fresh {
		w.news.close()
		w.listen()
	}
	return true, nil
}

// Before is how a lane stood when nothing could come yet.
type Before struct {
	*status.Status                     // all of it read
	says           []identify.Evidence // what the game said of its version
}

// BeginAwait notes that an update is about to be let in, and EndAwait that it is over.
func BeginAwait(ctx context.Context, l *lane.Lane, now *status.Status) (b Before, err error) {
	b.Status = now
	if b.says, err = identify.Says(l.Dir, l.Game.Program, l.Game.Version); err != nil {
		return b, err
	}
	return b, l.Home.Begin(ctx, l.Game.Name, l.Name, state.BegunLetUpdate, state.NewUID(), false)
}

// EndAwait is the end of BeginAwait.
func EndAwait(ctx context.Context, l *lane.Lane) error {
	return l.Home.End(context.WithoutCancel(ctx), l.Game.Name, l.Name, state.BegunLetUpdate)
}

// SayDone tells the run that waits for an update of a game that all of it is there.
func SayDone(ctx context.Context, st *state.State, game string) error {
	list, err := st.Begun(ctx, game)
	if err != nil {
		return err
	}
	for _, b := range list {
		if b.Kind == state.BegunLetUpdate {
			return st.Begin(ctx, b.Game, b.Lane, b.Kind, b.UID, true)
		}
	}
	return ErrNotWaited
}

func saidDone(ctx context.Context, l *lane.Lane) (said bool, err error) {
	b, err := l.BegunHere(ctx, state.BegunLetUpdate)
	if err != nil || b == nil {
		return false, err
	}
	if err := json.Unmarshal(b.Body, &said); err != nil || !said {
		return false, err
	}
	// Heard; it can be said again.
	return true, l.Home.Begin(ctx, b.Game, b.Lane, b.Kind, b.UID, false)
}
