package lane

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"morvant/internal/apply"
	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/progress"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/store"
	"morvant/internal/volume"
)

// Errors that callers test for.
var (
	ErrRunning = problem.New("the game is running", "Close the game and run the command again")
	ErrNotHeld = errors.New("not held at any build")
	ErrNothing = errors.New("there is nothing to undo")
	ErrNames   = errors.New("some file names cannot be recorded")
	ErrGone    = errors.New("the live folder is gone")
	// ErrImmutable is returned for a file that nobody may change or move.
	ErrImmutable = problem.New("it is immutable: not even its owner can change or move it", "Nothing was changed. Make it changeable (chattr -i FILE, as an administrator), then run the command again")
	// ErrMounted is returned for a folder inside of a lane's that is another disk.
	ErrMounted = problem.New("it is another disk, mounted inside the game's folder, and files cannot be moved from one to the other", "Nothing was changed. Make it yours with a keep rule, or unmount it, then run the command again")
	// ErrUnfinished is returned where something that has begun must be ended first.
	ErrUnfinished = errors.New("an earlier change is not finished")
)

// Options say how a lane is opened.
type Options struct {
	Lane  string // empty: the one that game.Home.Lane returns
	Who   string // the command, for others that wait
	Meter progress.Meter
	Now   func() time.Time
	// Absent opens a lane whose folder is not there, for what needs only what is
	// remembered of it.
	Absent bool
	// Unsettled opens a lane of a game whose settings cannot be used, for what goes by what is
	// remembered: it has no rules then, and nothing is recovered.
	Unsettled bool
	// Looks says that it is only looked at: where another Morvant works on the game, it is opened as it stands just now.
	Looks bool
	// Remake, if set, is asked whether a folder that is gone is to be made again; nil
	// is a yes.
	Remake func(*GoneError) error
	// Feed says how feeds are talked to; meter and clock are those above.
	Feed feed.Options
}

// Lane is an open lane. It holds the game's lock until it is closed.
type Lane struct {
	Game  *game.Game
	Name  string
	Dir   string // its folder, full path
	Live  bool   // it is the one that the launcher starts
	Store *store.Store
	// Recovered says in sentences how what an earlier run left unfinished was ended.
	Recovered []string
	// Unfinished says why something that an earlier run left unfinished is so still;
	// until it is ended, nothing is changed. Looking is possible all the same.
	Unfinished error
	// Older says that the home has been put back to before something that was done to this folder.
	Older bool
	// Waiting names what an earlier run has begun and the same command goes on with.
	Waiting []string
	// Passive says that another Morvant is at work on the game: nothing is noted of what is seen meanwhile.
	Passive bool

	Base *game.Game // as the settings say; Game has the keep rules of pins beside them
	held state.Pin  // what the lane was held to when it was opened

	Home  *game.Home
	Lock  *game.Lock
	Root  *os.Root
	Cache *scan.Cache
	Meter progress.Meter
	Now   func() time.Time
	Feed  feed.Options
	// remade says that the folder was gone as a whole and has just been made again.
	Remade bool
	Tried  *volume.Traits // see traits
	// stranger says why the folder may not be the lane's, although it is in its place;
	// empty: it is.
	Strange string
	names   *scan.Names // see Names
	// borrowed says that lock, store and cache belong to another open lane.
	borrowed bool
}

// Tell adds a sentence to Recovered.
func (l *Lane) Tell(format string, args ...any) {
	l.Recovered = append(l.Recovered, fmt.Sprintf(format, args...))
}

// MayChange returns an error if nothing may be changed as things stand: something is
// unfinished, or the game is running.
func (l *Lane) MayChange() error {
	if l.Unfinished != nil {
		return l.Unfinished
	}
	return l.NotRunning()
}

// IsUnfinished makes an error one of ErrUnfinished; its text says by itself what is not finished.
func IsUnfinished(err error) error { return unfinished{err} }

type unfinished struct{ error }

func (u unfinished) Is(target error) bool { return target == ErrUnfinished }
func (u unfinished) Unwrap() error        { return u.error }

// Origin is the home, and its age now, for what is written into a folder.
func Origin(ctx context.Context, l *Lane) (apply.Origin, error) {
	age, err := l.Home.Sign(ctx)
	return apply.Origin(age), err
}

// LostBy returns what reports whether this home wrote something and has been put back to before it.
func LostBy(l *Lane) func(apply.Origin) (bool, error) {
	return func(by apply.Origin) (bool, error) { return l.Home.Lost(context.Background(), state.Age(by)) }
}

// Close gives everything back.
func (l *Lane) Close() error {
	var errs []error
	if l.Root != nil {
		errs = append(errs, l.Root.Close())
	}
	if l.borrowed {
		return errors.Join(errs...)
	}
	if l.Cache != nil {
		errs = append(errs, l.Cache.Close())
	}
	if l.Store != nil {
		errs = append(errs, l.Store.Close())
	}
	if l.Lock != nil {
		errs = append(errs, l.Lock.Unlock())
	}
	return errors.Join(errs...)
}

// KeepFor puts the keep rules of the lane's pin beside those of the game.
func (l *Lane) KeepFor(held state.Pin) {
	l.held = held
	l.KeepAlso(state.Pin{})
}

// KeepAlso puts those of another pin beside them, in the place of any other before.
func (l *Lane) KeepAlso(pin state.Pin) {
	g := *l.Base
	g.Keep = slices.Concat(g.Keep, l.held.Keep, pin.Keep)
	l.Game = &g
}

// MoveTo makes the lane's folder the one that newer settings of its game name.
func (l *Lane) MoveTo(g *game.Game) {
	l.Base, l.Dir = g, g.Live
	l.KeepAlso(state.Pin{})
}

// Title returns what to call the lane in messages: the game, and the lane's name if
// it is parked.
func (l *Lane) Title() string {
	if l.Live {
		return l.Game.Display()
	}
	return fmt.Sprintf("%s (lane %s)", l.Game.Display(), l.Name)
}

// Describe names a change for people: "The pin to 1.1.1".
func Describe(c *state.Change) string {
	switch c.What {
	case state.ChangePin:
		return "The pin to " + c.Build
	case state.ChangeUnpin:
		return "The unpin"
	case state.ChangeUndo:
		return fmt.Sprintf("The undo of change %d", c.Undoes)
	case state.ChangeRepair:
		return "The repair to " + c.Build
	case state.ChangeKeep:
		return "The keeping of " + c.Build
	case state.ChangeCarry:
		return "The carry from " + c.Build
	}
	return "A change"
}

// LowerFirst writes the first letter small: for a description within a sentence.
func LowerFirst(s string) string { return string(s[0]|0x20) + s[1:] }

// Pin returns what the lane is held to, and the build; nil if it is not held.
func (l *Lane) Pin(ctx context.Context) (state.Pin, *state.Build, error) {
	pin, err := l.Home.Pin(ctx, l.Game.Name, l.Name)
	if err != nil || !pin.Held() {
		return pin, nil, err
	}
	b, err := l.Home.RecordedBuild(ctx, l.Game.Name, pin.Build)
	return pin, b, err
}

// NotRunning returns an error if a program runs from the lane.
func (l *Lane) NotRunning() error { return NotRunningIn(l.Dir) }

// NotRunningIn returns an error if a program runs from a folder.
func NotRunningIn(dir string) error {
	list, err := process.In(dir)
	if err != nil {
		return err
	}
	if len(list) > 0 {
		return fmt.Errorf("%w: %s (process %d)", ErrRunning, list[0].Path, list[0].PID)
	}
	return nil
}

// BegunHere returns the note of something that has begun in this lane; nil if nothing
// of that kind has.
func (l *Lane) BegunHere(ctx context.Context, kind state.BegunKind) (*state.Begun, error) {
	list, err := l.Home.Begun(ctx, l.Game.Name)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].Lane == l.Name && list[i].Kind == kind {
			return &list[i], nil
		}
	}
	return nil, nil
}
