package lane

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"morvant/internal/apply"
	"morvant/internal/feed"
	"morvant/internal/game"
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
	ErrRunning = errors.New("the game is running")
	ErrNotHeld = errors.New("not held to any build")
	ErrNothing = errors.New("there is nothing to take back")
	ErrNames   = errors.New("some names cannot be recorded")
	ErrGone    = errors.New("the live folder is gone")
	// ErrImmutable is returned for a file that nobody may change or move.
	ErrImmutable = errors.New("it is immutable: not even its owner may change or move it")
	// ErrUnfinished is returned where something that has begun must be ended first.
	ErrUnfinished = errors.New("an earlier change is not finished")
)

// patience is how long a command waits for another one on the same game.
const patience = 5 * time.Second

// Options say how a lane is opened.
type Options struct {
	Lane  string // empty: the one that game.Home.Lane returns
	Who   string // the command, for others that wait
	Meter progress.Meter
	Now   func() time.Time
	// Absent opens a lane whose folder is not there, for what needs only what is
	// remembered of it.
	Absent bool
	// Remake, if set, is asked whether a folder that is gone is to be made again; nil
	// is a yes.
	Remake func(*GoneError) error
	// Limit and Silence are those of feed.Options.
	Limit   int64
	Silence time.Duration
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

	base *game.Game // as the settings say; Game has the keep rules of pins beside them
	held game.Pin   // what the lane was held to when it was opened

	home  *game.Home
	lock  *game.Lock
	root  *os.Root
	cache *scan.Cache
	meter progress.Meter
	now   func() time.Time
	feed  feed.Options
	// remade says that the folder was gone as a whole and has just been made again.
	remade bool
	tried  *volume.Traits // see traits
	// stranger says why the folder may not be the lane's, although it is in its place;
	// empty: it is.
	stranger string
	// borrowed says that lock, store and cache belong to another open lane.
	borrowed bool
}

// tell adds a sentence to Recovered.
func (l *Lane) tell(format string, args ...any) {
	l.Recovered = append(l.Recovered, fmt.Sprintf(format, args...))
}

// mayChange returns an error if nothing may be changed as things stand: something is
// unfinished, or the game is running.
func (l *Lane) mayChange() error {
	if l.Unfinished != nil {
		return l.Unfinished
	}
	return l.notRunning()
}

// Open opens a lane of a game. A change or a switch that was cut off is finished or
// taken back first.
func Open(ctx context.Context, home *game.Home, name string, o Options) (*Lane, error) {
	g, err := home.Load(name)
	if err != nil {
		return nil, err
	}
	l := &Lane{Game: g, base: g, home: home, meter: o.Meter, now: o.Now}
	l.feed = feed.Options{Limit: o.Limit, Silence: o.Silence, Meter: o.Meter, Now: o.Now}
	if err := l.open(ctx, o); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

func (l *Lane) open(ctx context.Context, o Options) error {
	var err error
	if l.lock, err = l.home.Lock(ctx, l.Game.Name, o.Who, patience); err != nil {
		return err
	}
	if l.Store, err = store.Open(ctx, l.home.StoreDir()); err != nil {
		return err
	}
	if l.Store.Rebuilt {
		l.tell("The index of the store was lost or damaged; it has been made anew from the packs.")
	}
	if l.cache, err = scan.OpenCache(ctx, l.home.CacheFile()); err != nil {
		return err
	}
	if err := l.recoverSwitch(ctx); err != nil {
		return err
	}
	if err := l.recoverLanes(ctx); err != nil {
		return err
	}
	is, err := l.home.Lane(ctx, l.Game.Name, o.Lane)
	if err != nil {
		return err
	}
	l.Name, l.Dir, l.Live = is.Name, l.Game.Folder(is), is.Live
	l.keepFor(is.Pin)
	if err := l.findFolder(ctx, is, o); err != nil || l.root == nil && o.Absent {
		return err
	}
	return l.recoverAll(ctx)
}

// Close gives everything back.
func (l *Lane) Close() error {
	var errs []error
	if l.root != nil {
		errs = append(errs, l.root.Close())
	}
	if l.borrowed {
		return errors.Join(errs...)
	}
	if l.cache != nil {
		errs = append(errs, l.cache.Close())
	}
	if l.Store != nil {
		errs = append(errs, l.Store.Close())
	}
	if l.lock != nil {
		errs = append(errs, l.lock.Unlock())
	}
	return errors.Join(errs...)
}

// keepFor puts the keep rules of the lane's pin beside those of the game.
func (l *Lane) keepFor(held game.Pin) {
	l.held = held
	l.keepAlso(game.Pin{})
}

// keepAlso puts those of another pin beside them, in the place of any other before.
func (l *Lane) keepAlso(pin game.Pin) {
	g := *l.base
	g.Keep = slices.Concat(g.Keep, l.held.Keep, pin.Keep)
	l.Game = &g
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
func Describe(c *game.Change) string {
	switch c.What {
	case "pin":
		return "The pin to " + c.Build
	case "unpin":
		return "The unpin"
	case "undo":
		return fmt.Sprintf("The undo of change %d", c.Undoes)
	case "repair":
		return "The repair to " + c.Build
	case "carry":
		return "The carry from " + c.Build
	}
	return "A change"
}

// Look walks the folder and reads what changed since the last look. limit, if
// positive, is how many bytes to read at most; larger files are left unread.
func (l *Lane) Look(ctx context.Context, limit int64) (*scan.Tree, error) {
	t, err := l.walk(ctx)
	if err != nil {
		return nil, err
	}
	if err := l.read(ctx, t, scan.Request{Sink: scan.Hash(), Limit: limit, Task: "Reading"}); err != nil {
		return nil, err
	}
	return t, nil
}

// walk lists the folder and fills in what is remembered.
func (l *Lane) walk(ctx context.Context) (*scan.Tree, error) {
	t, err := scan.Walk(ctx, l.root, l.Game.Rules())
	if err != nil {
		return nil, err
	}
	if l.ignoresCase() {
		t.IgnoreCase()
	}
	if err := l.cache.Recall(ctx, l.cacheKey(), t); err != nil {
		return nil, err
	}
	return t, l.unblockedModes(ctx, t)
}

// read reads files of the tree and remembers what it found, also when it is
// interrupted: nothing is read twice.
func (l *Lane) read(ctx context.Context, t *scan.Tree, q scan.Request) error {
	q.Meter, q.Now = l.meter, l.now
	err := t.Read(ctx, l.root, q)
	if l.stranger != "" {
		return err // what is remembered is about another folder
	}
	return errors.Join(err, l.cache.Remember(context.WithoutCancel(ctx), l.cacheKey(), t))
}

// composedOf puts together the build that a pin holds the lane to, and what the pin
// adds to it.
func (l *Lane) composedOf(ctx context.Context, b *game.Build, pin game.Pin) (*composed, error) {
	c, err := l.compose(ctx, b, pin.Components)
	if err != nil {
		return nil, err
	}
	return c, l.add(ctx, c, pin, false)
}

// Pin returns what the lane is held to, and the build; nil if it is not held.
func (l *Lane) Pin(ctx context.Context) (game.Pin, *game.Build, error) {
	pin, err := l.home.Pin(ctx, l.Game.Name, l.Name)
	if err != nil || !pin.Held() {
		return pin, nil, err
	}
	b, err := l.home.RecordedBuild(ctx, l.Game.Name, pin.Build)
	return pin, b, err
}

// notRunning returns an error if a program runs from the lane.
func (l *Lane) notRunning() error { return notRunningIn(l.Dir) }

func notRunningIn(dir string) error {
	list, err := process.In(dir)
	if err != nil {
		return err
	}
	if len(list) > 0 {
		return fmt.Errorf("%w: %s (process %d)", ErrRunning, list[0].Path, list[0].PID)
	}
	return nil
}

// ignoresCase finds out whether the folder does, with the marker as probe; without one
// it is taken to be as folders usually are.
func (l *Lane) ignoresCase() bool {
	ignores, err := volume.IgnoresCase(l.root, markerFile, strings.ToUpper(markerFile))
	if err != nil {
		return volume.UsualFold("A") == volume.Fold("A")
	}
	return ignores
}

// spelling returns how the folder spells its paths; nil if letter case counts there.
func (l *Lane) spelling(here plan.State) *plan.Spelling {
	if !l.ignoresCase() {
		return nil
	}
	return plan.SpellingOf(here)
}

func (l *Lane) cacheKey() string { return game.CacheKey(l.Game.Name, l.Name) }

const markerFile = manifest.PrivateDir + "/lane.toml"

type marker struct {
	Game       string    `toml:"game"`
	Lane       string    `toml:"lane"`
	Build      string    `toml:"build,omitempty"`
	State      string    `toml:"state"` // "held", "following", "free"
	Since      time.Time `toml:"since,omitempty"`
	Unfinished bool      `toml:"unfinished,omitempty"`
}

const markerHead = "# Written by Morvant: tells which install this folder is. Please leave it as it is.\n"

// Mark writes the marker that tells a person which copy they are looking at.
func (l *Lane) Mark(ctx context.Context) error { return l.mark(ctx, false) }

func (l *Lane) mark(ctx context.Context, unfinished bool) error {
	pin, b, err := l.Pin(ctx)
	if err != nil && !errors.Is(err, game.ErrUnknown) {
		return err
	}
	is, err := l.home.Lane(ctx, l.Game.Name, l.Name)
	if err != nil {
		return err
	}
	m := marker{Game: l.Game.Name, Lane: l.Name, State: "free", Unfinished: unfinished}
	if is.Follows {
		m.State = "following"
	}
	if pin.Held() && b != nil {
		m.State, m.Build, m.Since = "held", b.Label, pin.Since
	}
	return m.write(l.root)
}

func (m marker) write(root *os.Root) error {
	body, err := toml.Marshal(m)
	if err != nil {
		return err
	}
	if _, err := apply.MakeRoom(root); err != nil {
		return err
	}
	if err = root.Mkdir(manifest.PrivateDir, 0o755); err == nil {
		err = volume.OwnIn(root, manifest.PrivateDir, ".")
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return volume.ReplaceIn(root, markerFile, append([]byte(markerHead), body...), 0o644)
}
