package game

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/pelletier/go-toml/v2"

	"morvant/internal/feed"
	"morvant/internal/index"
	"morvant/internal/manifest"
	"morvant/internal/problem"
	"morvant/internal/scan"
	"morvant/internal/state"
	"morvant/internal/strict"
	"morvant/internal/userpath"
	"morvant/internal/volume"
)

// Errors of folders and settings.
var (
	ErrFolder = errors.New("this folder cannot be a live folder")
	// ErrProtected is wrapped along with ErrFolder where it is a matter of rights.
	ErrProtected = errors.New("is protected: you may not write there")
	ErrSettings  = problem.New("the settings cannot be used", "Nothing was changed; correct the settings and run the command again")
	ErrBusy      = problem.New("another Morvant is working on this game", "Try again when it has finished; the lock ends with that process")
)

// Home is Morvant's own folder.
type Home struct {
	dir string
	*state.State
	// Index tells what known builds hold.
	Index *index.Index
	lane  string       // see UseLane
	use   *use         // nil: several processes may use the home at once
	open  *flock.Flock // shared by all that have the state open; nil: no lock could be taken
	// Said says in sentences what was found when the home was opened, and what has been
	// done about it.
	Said []string
	// Older is what the store says of a later state than this one; nil: nothing is later. See upkeep.TakeIn.
	Older *state.Age
	began state.Age // of the state, when it was opened
	// Warn, if set, is told what is left out because it cannot be read.
	Warn   func(string)
	warned map[string]bool
}

// HomeOptions say how a home is opened.
type HomeOptions struct {
	// Existing refuses to make a home where there is none, with ErrNoHome.
	Existing bool
	// Who describes this process to others.
	Who string
	Now func() time.Time
}

// ErrNotMine is returned for a home that belongs to another user: what its settings say
// would be run.
var ErrNotMine = errors.New("this Morvant home belongs to another user of this computer; run Morvant as that user, or use your own home (--home FOLDER)")

// usualMode is that of homes which earlier versions made.
const usualMode = 0o755

// closeToOthers keeps other users out of a home: it tells what one plays, and may hold what
// one has bought. A home whose mode somebody has chosen keeps it.
func closeToOthers(dir string, fresh bool) {
	info, err := os.Stat(dir)
	if err == nil && (fresh || info.Mode().Perm() == usualMode) {
		_ = os.Chmod(dir, 0o700) // a disk may know no modes
	}
	file := filepath.Join(dir, stateFile)
	if info, err := os.Stat(file); err == nil && info.Mode().Perm()&0o077 != 0 {
		_ = os.Chmod(file, 0o600)
	}
}

// ErrNoHome is returned for a home that is not there.
var ErrNoHome = errors.New("there is no Morvant home")

// OpenHome opens the home at dir, making it if need be.
func OpenHome(ctx context.Context, dir string) (*Home, error) {
	return OpenHomeWith(ctx, dir, HomeOptions{Now: time.Now})
}

// OpenHomeWith is OpenHome with options. A state that is damaged is mended from what can
// be read of it and from its copies.
func OpenHomeWith(ctx context.Context, dir string, o HomeOptions) (*Home, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if o.Existing && !IsHome(dir) {
		return nil, fmt.Errorf("%w at %s", ErrNoHome, dir)
	}
	_, err = os.Stat(dir)
	fresh := volume.Absent(err)
	if err := os.MkdirAll(filepath.Join(dir, "games"), 0o755); err != nil && !IsHome(dir) {
		return nil, err
	}
	// Compared with live folders, which are kept with links resolved.
	if dir, err = filepath.EvalSymlinks(dir); err != nil {
		return nil, err
	}
	if !volume.Mine(dir) {
		return nil, fmt.Errorf("%s: %w", dir, ErrNotMine)
	}
	closeToOthers(dir, fresh)
	h := &Home{dir: dir, warned: make(map[string]bool), Index: index.At(filepath.Join(dir, IndexFile))}
	if os.MkdirAll(h.file("locks"), 0o755) == nil {
		if h.open, err = volume.NewLock(h.file("locks/.state")); err != nil {
			return nil, err
		}
		waiting, cancel := context.WithTimeout(ctx, statePatience)
		_, lockErr := h.open.TryRLockContext(waiting, 20*time.Millisecond)
		cancel()
		if errors.Is(lockErr, context.DeadlineExceeded) {
			return nil, fmt.Errorf("%w: its state is being mended", ErrInUse)
		}
	}
	if kind := volume.Network(dir); kind != "" {
		if h.use, err = h.occupy(ctx, kind, o); err != nil {
			return nil, err
		}
	}
	beside := witnessOf(h)
	err = h.openState(ctx, o.Now)
	if err == nil {
		err = compareAge(ctx, h, beside)
	}
	if err != nil {
		return nil, errors.Join(err, h.use.end(), h.letGo())
	}
	closeToOthers(dir, fresh)
	h.keepReserve()
	return h, nil
}

// IsHome reports whether a folder is a home, or was one.
func IsHome(dir string) bool {
	for _, name := range []string{stateFile, "games", copiesDir, "store"} {
		if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
			return true
		}
	}
	return false
}

// KnownHome reports whether a home is among those that a file lists, one a line.
func KnownHome(list, dir string) bool {
	b, err := volume.ReadFile(list, volume.Small)
	return err == nil && slices.Contains(strings.Split(string(b), "\n"), dir)
}

// RememberHome adds a home to the list. Where that is not possible, nothing but the
// memory of it is missing.
func RememberHome(list, dir string) {
	if KnownHome(list, dir) || os.MkdirAll(filepath.Dir(list), 0o755) != nil {
		return
	}
	f, err := os.OpenFile(list, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	if err != nil {
		return
	}
	_, _ = f.WriteString(dir + "\n")
	_ = f.Close()
}

// ForgetHome takes a home off the list.
func ForgetHome(list, dir string) {
	b, err := volume.ReadFile(list, volume.Small)
	if err != nil {
		return
	}
	left := slices.DeleteFunc(strings.SplitAfter(string(b), "\n"), func(line string) bool { return strings.TrimSuffix(line, "\n") == dir })
	if text := strings.Join(left, ""); text != string(b) {
		_ = volume.Replace(list, []byte(text), 0o644) // it would only be asked for once more
	}
}

const stateFile = "state.db"

func (h *Home) file(name string) string { return filepath.Join(h.dir, name) }

// Tell tells of something that is left out because it cannot be read, once.
func (h *Home) Tell(text string) {
	if h.Warn != nil && !h.warned[text] {
		h.warned[text] = true
		h.Warn(text)
	}
}

// IndexFile is the index of what known builds hold, in the home's folder.
const IndexFile = "known.db"

// The reserve is a file whose only use is to be given up: on a disk that is full, it is
// the room that a trim of the store needs to begin.
const (
	reserveFile = "reserve"
	reserveSize = 4 << 20
	// reserveShare is how many times its size must be free for the reserve to be made.
	reserveShare = 64
)

func (h *Home) keepReserve() {
	if info, err := os.Stat(h.file(reserveFile)); err == nil && info.Size() == reserveSize {
		return
	}
	if free, err := volume.Free(h.dir); err != nil || free < reserveShare*reserveSize {
		return
	}
	content := make([]byte, reserveSize)
	_, _ = rand.Read(content)                             // what compresses takes no room
	_ = os.WriteFile(h.file(reserveFile), content, 0o644) // without one, nothing but the reserve is missing
}

// GiveReserve gives the reserve up.
func (h *Home) GiveReserve() { _ = os.Remove(h.file(reserveFile)) }

// Close closes the home. What this process has changed is copied first; files that an
// administrator has made belong to the home's owner afterwards.
func (h *Home) Close() error {
	writeWitness(h)
	h.copyState()
	err := errors.Join(h.Aliases.Close(), h.Index.Close(), h.DB.Close(), volume.OwnAll(h.dir), h.use.end())
	return errors.Join(err, h.letGo())
}

func (h *Home) letGo() error {
	if h.open == nil {
		return nil
	}
	return h.open.Close()
}

// statePatience is how long a state that is being mended is waited for.
const statePatience = 10 * time.Second

// Dir returns the home's folder.
func (h *Home) Dir() string { return h.dir }

// StoreDir returns the folder of the store.
func (h *Home) StoreDir() string { return filepath.Join(h.dir, "store") }

// CacheFile returns the file that remembers what was read.
func (h *Home) CacheFile() string { return filepath.Join(h.dir, "cache.db") }

// NamesDir returns the folder of a game's label lists.
func NamesDir(h *Home, name string) string { return filepath.Join(h.dir, "names", name) }

// FeedsDir returns the folder of a game's feeds.
func (h *Home) FeedsDir(name string) string { return filepath.Join(h.dir, "feeds", name) }

func (h *Home) settingsFile(name string) string {
	return filepath.Join(h.dir, "games", name+".toml")
}

// SettingsFile returns the file that holds a game's settings.
func (h *Home) SettingsFile(name string) string { return h.settingsFile(name) }

// Names lists the registered games.
func (h *Home) Names() ([]string, error) {
	list, err := os.ReadDir(filepath.Join(h.dir, "games"))
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range list {
		if name, ok := strings.CutSuffix(e.Name(), ".toml"); ok && state.CheckName(name) == nil {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, nil
}

// Game is a registered game.
type Game struct {
	Name string
	Settings
}

// Load reads the settings of a game.
func (h *Home) Load(name string) (*Game, error) {
	if err := state.CheckName(name); err != nil {
		return nil, err
	}
	b, err := volume.ReadFile(h.settingsFile(name), volume.Small)
	if errors.Is(err, fs.ErrNotExist) {
		names, err := h.Names()
		if err != nil {
			return nil, err
		}
		return nil, &state.UnknownError{Kind: "game", Name: name, Near: state.Nearest(name, names)}
	}
	if err != nil {
		return nil, err
	}
	s, err := parseSettings(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", h.settingsFile(name), err)
	}
	return &Game{Name: name, Settings: *s}, nil
}

// LoadFolder reads of a game's settings only where its live folder is, as far as that can be read
// where the rest cannot: for what takes back by what is remembered.
func (h *Home) LoadFolder(name string) (*Game, error) {
	b, err := volume.ReadFile(h.settingsFile(name), volume.Small)
	if err != nil {
		return nil, err
	}
	g := &Game{Name: name}
	for line := range bytes.Lines(strict.Text(b)) {
		var s struct {
			Live string `toml:"live"`
		}
		if toml.Unmarshal(line, &s) == nil && filepath.IsAbs(s.Live) {
			g.Live = s.Live
			break
		}
	}
	return g, nil
}

// Games loads every registered game. One whose settings cannot be read is in
// broken, by name.
func (h *Home) Games() (games []*Game, broken map[string]error, err error) {
	names, err := h.Names()
	if err != nil {
		return nil, nil, err
	}
	broken = make(map[string]error)
	for _, name := range names {
		g, err := h.Load(name)
		if err != nil {
			broken[name] = err
			continue
		}
		games = append(games, g)
	}
	return games, broken, nil
}

// resolve makes dir absolute, with links resolved.
func resolve(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	dir, err = filepath.EvalSymlinks(userpath.Plain(dir))
	return userpath.Plain(dir), err
}

// CheckFolder returns the real path of dir if it can be the folder of a lane of the
// game named name, else an error that wraps ErrFolder and says why not.
func (h *Home) CheckFolder(ctx context.Context, name, lane, dir string) (string, error) {
	bad := func(format string, args ...any) (string, error) {
		return "", fmt.Errorf("%w: %w", ErrFolder, fmt.Errorf(format, args...))
	}
	if err := userpath.Full(dir); err != nil {
		return bad("%w", err)
	}
	real, err := resolve(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return bad("%s does not exist", dir)
	case err != nil:
		return bad("%v", err)
	}
	info, err := os.Stat(real)
	if err != nil {
		return bad("%v", err)
	}
	if !info.IsDir() {
		return bad("%s is not a folder", dir)
	}
	if filepath.Dir(real) == real {
		return bad("%s is the root of a file system", dir)
	}
	if home, err := os.UserHomeDir(); err == nil {
		if home, err = resolve(home); err == nil && userpath.Holds(real, home) {
			return bad("%s is your home folder or holds it", dir)
		}
	}
	if system := userpath.System(real); system != "" {
		return bad("%s is, contains or lies in %s, which belongs to the system or to many programs; name the folder of the game itself", dir, system)
	}
	switch {
	case userpath.Holds(h.dir, real):
		return bad("%s is inside Morvant's own folder %s", dir, h.dir)
	case userpath.Holds(real, h.dir):
		return bad("%s holds Morvant's own folder %s; choose another with --home", dir, h.dir)
	}
	if err := h.overlapping(ctx, real, name, lane); err != nil {
		return "", err
	}
	f, err := os.Open(real)
	if err != nil {
		return bad("%s cannot be read: %v", dir, errors.Unwrap(err))
	}
	f.Close()
	SweepProbes(real)
	probe, err := os.CreateTemp(real, manifest.ProbePrefix+"*")
	if err != nil {
		if errors.Is(err, fs.ErrPermission) {
			return bad("%s %w", dir, ErrProtected)
		}
		return bad("%s cannot be written to: %v", dir, errors.Unwrap(err))
	}
	probe.Close()
	return real, os.Remove(probe.Name())
}

// SweepProbes removes what a run that was killed while it tried a folder has left there.
func SweepProbes(dir string) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), manifest.ProbePrefix) {
			_ = os.Remove(filepath.Join(dir, e.Name()))
		}
	}
}

// Forget forgets a game: its settings, builds, feeds, pins and history.
func (h *Home) Forget(ctx context.Context, name string) error {
	if err := h.ForgetGame(ctx, name); err != nil {
		return err
	}
	feeds, err := feed.List(h.FeedsDir(name))
	if err != nil {
		return err
	}
	for _, f := range feeds {
		if err := f.Remove(); err != nil {
			return err
		}
	}
	cache := scan.OpenCache(h.CacheFile())
	err = errors.Join(cache.Forget(ctx, state.CacheKey(name, "")), cache.Close())
	return errors.Join(err, os.RemoveAll(h.FeedsDir(name)), os.Remove(h.settingsFile(name)))
}
